"""Painting what of a frame must not show, or must."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import cv2
import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QColor, QCursor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QButtonGroup, QComboBox, QDialog, QRadioButton, QSizePolicy, QSlider, QWidget

from idle_lantern.app import theme
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row, to_qimage
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.frames.frameset import names_of
from idle_lantern.core.frames.masks import Mask, mask_path, read_mask, write_mask
from idle_lantern.core.frames.reading import probe, read

if TYPE_CHECKING:
    from idle_lantern.app.window import Window

Array = NDArray[Any]

#: Masks are painted on a reduced frame: seams follow no finer outline.
_LONGEST = 1200
_UNDO = 30
HIDE, KEEP, CLEAR = 1, 2, 0


class PaintArea(QWidget):
    """A frame under two kinds of paint; hatched, so that the kinds differ without colour."""

    painted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Frame to paint on")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(320, 240)
        self.setMouseTracking(True)
        self.kind, self.brush = HIDE, 60
        self.paint_layer = np.zeros((1, 1), np.uint8)
        self._frame = QImage()
        self._before: list[Array] = []
        self._last: QPointF | None = None
        self._pointer: QPointF | None = None

    @property
    def brush_px(self) -> int:
        """Width of the brush on the reduced frame; ``brush`` is in thousandths of its longer side."""
        return max(1, round(self.brush / 1000 * max(self.paint_layer.shape)))

    def set_frame(self, pixels: Array, layer: Array) -> None:
        """Show a reduced frame (h, w, 3) and what is painted on it (h, w) so far."""
        self._frame, self.paint_layer, self._before = to_qimage(pixels), layer, []
        self.update()

    def undo(self) -> None:
        """Take the last stroke back."""
        if self._before:
            self.paint_layer = self._before.pop()
            self.painted.emit()
            self.update()

    def stroke(self, places: Sequence[tuple[float, float]]) -> None:
        """A stroke through places given as shares of the frame, as the mouse would draw it."""
        h, w = self.paint_layer.shape
        self._remember()
        for x, y in places:
            self._stroke(QPointF(x * w, y * h))
        self._last = None
        self.painted.emit()

    def fill(self, kind: int) -> None:
        """Give the whole frame to one kind."""
        self._remember()
        self.paint_layer[...] = kind
        self.painted.emit()
        self.update()

    def _remember(self) -> None:
        self._before = [*self._before[-_UNDO + 1 :], self.paint_layer.copy()]

    def _place(self) -> QRectF:
        """Where the frame lies in the widget."""
        if self._frame.isNull():
            return QRectF()
        scale = min(self.width() / self._frame.width(), self.height() / self._frame.height())
        w, h = self._frame.width() * scale, self._frame.height() * scale
        return QRectF((self.width() - w) / 2, (self.height() - h) / 2, w, h)

    def _on_frame(self, at: QPointF) -> QPointF:
        place = self._place()
        scale = self._frame.width() / max(1.0, place.width())
        return QPointF((at.x() - place.x()) * scale, (at.y() - place.y()) * scale)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.button() == Qt.MouseButton.LeftButton and not self._frame.isNull():
            self._remember()
            self._last = self._on_frame(event.position())
            self._stroke(self._last)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        self._pointer = event.position()
        if self._last is not None:
            self._stroke(self._on_frame(event.position()))
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._last is not None:
            self._last = None
            self.painted.emit()

    def leaveEvent(self, event: Any) -> None:
        self._pointer = None
        self.update()

    def _stroke(self, to: QPointF) -> None:
        start = self._last or to
        ends = [(round(p.x()), round(p.y())) for p in (start, to)]
        cv2.line(self.paint_layer, ends[0], ends[1], self.kind, self.brush_px)
        self._last = to
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        place = self._place()
        painter.drawImage(place, self._frame)
        for kind, colour, pattern in (
            (HIDE, QColor(200, 40, 40), Qt.BrushStyle.BDiagPattern),
            (KEEP, QColor(60, 190, 80), Qt.BrushStyle.HorPattern),
        ):
            area = self.paint_layer == kind
            if area.any() and not self._frame.isNull():
                self._draw_area(painter, place, area, colour, pattern)
        if self._pointer is not None and not self._frame.isNull():
            radius = self.brush_px / 2 * place.width() / self._frame.width()
            for colour, width in ((QColor(0, 0, 0), 3.0), (QColor(255, 255, 255), 1.0)):
                painter.setPen(QPen(colour, width))
                painter.drawEllipse(self._pointer, radius, radius)

    def _draw_area(self, painter: QPainter, place: QRectF, area: Array, colour: QColor, pattern: Qt.BrushStyle) -> None:
        """One kind of paint: a tint with a hatching over it."""
        h, w = area.shape
        tint = np.zeros((h, w, 4), np.uint8)
        tint[area] = (colour.blue(), colour.green(), colour.red(), 255)
        layer = QImage(tint.tobytes(), w, h, 4 * w, QImage.Format.Format_ARGB32).copy()
        hatched = QImage(self.size(), QImage.Format.Format_ARGB32_Premultiplied)
        hatched.fill(0)
        inner = QPainter(hatched)
        inner.drawImage(place, layer)
        inner.setCompositionMode(QPainter.CompositionMode.CompositionMode_SourceAtop)
        inner.fillRect(hatched.rect(), QBrush(QColor(255, 255, 255), pattern))
        inner.end()
        painter.setOpacity(0.5)
        painter.drawImage(0, 0, hatched)
        painter.setOpacity(1.0)


class MaskDialog(QDialog):
    """Frames one by one, brush and kind of paint beside them; saved as each frame is left."""

    def __init__(self, window: Window, folder: Path, paths: list[Path], chosen: int, done: Callable[[], None]) -> None:
        super().__init__(window)
        self.setWindowTitle("Hide or keep parts of frames")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowModality(Qt.WindowModality.WindowModal)
        self.resize(1080, 720)
        self._window, self._folder, self._paths, self._done = window, folder, paths, done
        self._names = names_of(paths)
        self._shown = -1
        self._changed = self._any_changed = False
        self.canvas = PaintArea()
        self.canvas.painted.connect(self._note_change)
        self.frame_box = QComboBox()
        self.frame_box.setAccessibleName("Frame")
        self.frame_box.setObjectName("mask-frame")
        self.frame_box.addItems(list(self._names))
        self.frame_box.currentIndexChanged.connect(self._show_frame)
        self.kinds = QButtonGroup(self)
        choices = []
        for kind, text, key in (
            (HIDE, "&Hide: never shows", "H"),
            (KEEP, "&Keep: shows", "K"),
            (CLEAR, "&Rub out", "R"),
        ):
            choice = QRadioButton(text)
            choice.setObjectName(f"mask-{key}")
            self.kinds.addButton(choice, kind)
            choices.append(choice)
        choices[0].setChecked(True)
        self.kinds.idClicked.connect(self._choose_kind)
        self.brush = QSlider(Qt.Orientation.Horizontal)
        self.brush.setRange(6, 300)
        self.brush.setValue(self.canvas.brush)
        self.brush.setAccessibleName("Brush, thousandths of the frame's longer side")
        self.brush.valueChanged.connect(self._set_brush)
        self.told = label("", "dim", wrap=True, name="mask-told")
        explained = label(
            "What is hidden comes from a neighbour that shows the place too; where none does, the picture has a hole. "
            "What is kept wins against any neighbour.",
            "dim",
            wrap=True,
        )
        side = column(
            form([("Frame", self.frame_box)]),
            8,
            *choices,
            8,
            label("Brush"),
            self.brush,
            row(
                button("Take back   [Ctrl + Z]", self.canvas.undo, quiet=True, name="mask-undo"),
                button("Clear the frame", lambda: self.canvas.fill(CLEAR), quiet=True, name="mask-clear"),
            ),
            8,
            explained,
            self.told,
            None,
            row(None, button("Done", self.accept, main=True, name="mask-done")),
        )
        side_panel = panel(side, "ground")
        side_panel.setFixedWidth(330)
        layout = row(margin=16, space=theme.SPACE * 2)
        layout.addWidget(panel(column(self.canvas), "ground"), 1)
        layout.addWidget(side_panel)
        self.setLayout(layout)
        self.canvas.setCursor(QCursor(Qt.CursorShape.CrossCursor))
        self.frame_box.setCurrentIndex(chosen)
        self._show_frame(chosen)

    def _choose_kind(self, kind: int) -> None:
        self.canvas.kind = kind

    def _set_brush(self, size: int) -> None:
        self.canvas.brush = size
        self.canvas.update()

    def _note_change(self) -> None:
        self._changed = self._any_changed = True
        self._tell()

    def _tell(self) -> None:
        hidden, kept = ((self.canvas.paint_layer == kind).mean() for kind in (HIDE, KEEP))
        self.told.setText(f"Hidden: {hidden:.0%} of the frame. Kept: {kept:.0%}.")

    def _show_frame(self, index: int) -> None:
        if index == self._shown or not 0 <= index < len(self._paths):
            return
        self._save()
        path = self._paths[index]
        try:
            info = probe(path)
            reduce = next((r for r in (8, 4, 2) if max(info.width, info.height) >= r * _LONGEST), 1)
            pixels = read(path, reduce).pixels
            if pixels.dtype == np.uint16:
                pixels = (pixels >> 8).astype(np.uint8)
            scale = min(1.0, _LONGEST / max(pixels.shape[:2]))
            size = (max(1, round(pixels.shape[1] * scale)), max(1, round(pixels.shape[0] * scale)))
            pixels = cv2.resize(pixels, size, interpolation=cv2.INTER_AREA)
            layer = np.zeros(pixels.shape[:2], np.uint8)
            target = mask_path(self._folder, self._names[index])
            if target.is_file():
                mask = read_mask(target)
                for area, kind in ((mask.hide, HIDE), (mask.keep, KEEP)):
                    layer[cv2.resize(area, size, interpolation=cv2.INTER_NEAREST) > 127] = kind
        except LanternError as error:
            self._window.tell(error.sentence, True)
            return
        self._shown, self._changed = index, False
        self.canvas.set_frame(pixels, layer)
        self._tell()

    def _save(self) -> None:
        """Write the mask of the frame shown, or remove it when nothing is painted any more."""
        if not self._changed or self._shown < 0:
            return
        target = mask_path(self._folder, self._names[self._shown])
        layer = self.canvas.paint_layer
        try:
            if layer.any():
                self._folder.mkdir(parents=True, exist_ok=True)
                write_mask(Mask(*(((layer == kind) * 255).astype(np.uint8) for kind in (HIDE, KEEP))), target)
            else:
                target.unlink(missing_ok=True)
            self._changed = False
        except (LanternError, OSError) as error:
            self._window.tell(error.sentence if isinstance(error, LanternError) else f"{target}: {error}", True)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if (
            event is not None
            and event.key() == Qt.Key.Key_Z
            and event.modifiers() & Qt.KeyboardModifier.ControlModifier
        ):
            self.canvas.undo()
            return
        super().keyPressEvent(event)

    def done(self, result: int) -> None:
        """However the dialog ends, what was painted is kept, and the picture made again."""
        self._save()
        super().done(result)
        if self._any_changed:
            self._done()
