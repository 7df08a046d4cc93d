"""Painting what of a frame must not show, or must."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QColor, QCursor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QButtonGroup, QDialog, QRadioButton, QSizePolicy, QSlider, QWidget

from idle_lantern.app import theme
from idle_lantern.app.desk import Desk
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row, to_qimage
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.frames.frameset import names_of
from idle_lantern.core.frames.masks import HIDE_COLOUR, KEEP_COLOUR, Mask, mask_bytes, read_mask
from idle_lantern.core.frames.reading import probe, read
from idle_lantern.core.outing import assets, document, edits

Array = NDArray[Any]

#: Masks are painted on a reduced frame: seams follow no finer outline.
_LONGEST = 1200
HIDE, KEEP, CLEAR = 1, 2, 0


@dataclass(frozen=True)
class PaintLook:
    """How a kind of paint looks: tone, pattern and sign each tell it on their own."""

    tone: tuple[int, int, int]
    line: tuple[int, int, int]
    pattern: Qt.BrushStyle
    opacity: float
    sign: str


_PAINT = {
    HIDE: PaintLook(HIDE_COLOUR, (190, 188, 205), Qt.BrushStyle.BDiagPattern, 0.72, "−"),
    KEEP: PaintLook(KEEP_COLOUR, (74, 66, 48), Qt.BrushStyle.Dense6Pattern, 0.55, "+"),
}


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
        self._last: QPointF | None = None
        self._pointer: QPointF | None = None

    @property
    def brush_px(self) -> int:
        """Width of the brush on the reduced frame; ``brush`` is in thousandths of its longer side."""
        return max(1, round(self.brush / 1000 * max(self.paint_layer.shape)))

    def set_frame(self, pixels: Array, layer: Array) -> None:
        """Show a reduced frame (h, w, 3) and what is painted on it (h, w) so far."""
        self._frame, self.paint_layer = to_qimage(pixels), layer
        self._last = None
        self.update()

    def set_layer(self, layer: Array) -> None:
        """Show other paint on the same frame."""
        self.paint_layer = layer
        self.update()

    def stroke(self, places: Sequence[tuple[float, float]]) -> None:
        """A stroke through places given as shares of the frame, as the mouse would draw it."""
        h, w = self.paint_layer.shape
        for x, y in places:
            self._stroke(QPointF(x * w, y * h))
        self._last = None
        self.painted.emit()

    def fill(self, kind: int) -> None:
        """Give the whole frame to one kind."""
        self.paint_layer[...] = kind
        self.painted.emit()
        self.update()

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
        for kind, look in _PAINT.items():
            area = self.paint_layer == kind
            if area.any() and not self._frame.isNull():
                self._draw_area(painter, place, area, look)
        if self._pointer is not None and not self._frame.isNull():
            radius = self.brush_px / 2 * place.width() / self._frame.width()
            for colour, width in ((QColor(0, 0, 0), 3.0), (QColor(255, 255, 255), 1.0)):
                painter.setPen(QPen(colour, width))
                painter.drawEllipse(self._pointer, radius, radius)

    def _draw_area(self, painter: QPainter, place: QRectF, area: Array, look: PaintLook) -> None:
        """One kind of paint: its tone with its pattern over it, and its sign where there is room."""
        h, w = area.shape
        red, green, blue = look.tone
        tint = np.zeros((h, w, 4), np.uint8)
        tint[area] = (blue, green, red, 255)
        layer = QImage(tint.tobytes(), w, h, 4 * w, QImage.Format.Format_ARGB32).copy()
        patterned = QImage(self.size(), QImage.Format.Format_ARGB32_Premultiplied)
        patterned.fill(0)
        inner = QPainter(patterned)
        inner.drawImage(place, layer)
        inner.setCompositionMode(QPainter.CompositionMode.CompositionMode_SourceAtop)
        inner.fillRect(patterned.rect(), QBrush(QColor(*look.line), look.pattern))
        inner.end()
        painter.setOpacity(look.opacity)
        painter.drawImage(0, 0, patterned)
        painter.setOpacity(1.0)
        self._draw_sign(painter, place, area, look)

    def _draw_sign(self, painter: QPainter, place: QRectF, area: Array, look: PaintLook) -> None:
        """The sign of a kind in the middle of its thickest part."""
        depth = cv2.distanceTransform(area.astype(np.uint8), cv2.DIST_L2, 3)
        y, x = divmod(int(depth.argmax()), area.shape[1])
        scale = place.width() / area.shape[1]
        if depth[y, x] * scale < 11:
            return
        at = QPointF(place.x() + (x + 0.5) * scale, place.y() + (y + 0.5) * scale)
        box = QRectF(at.x() - 9, at.y() - 9, 18, 18)
        painter.setPen(QPen(QColor(*look.line), 1.5))
        painter.setBrush(QColor(*look.tone))
        painter.drawRect(box)
        painter.setFont(theme.font(theme.HEAD, bold=True))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, look.sign)
        painter.setBrush(Qt.BrushStyle.NoBrush)


class MaskDialog(QDialog):
    """Frames one by one, brush and kind of paint beside them; each stroke is an edit of the outing."""

    def __init__(self, desk: Desk, chosen: str | None, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Hide or keep parts of frames")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowModality(Qt.WindowModality.WindowModal)
        self.resize(1080, 720)
        self._desk, self._state = desk, desk.state
        self._refs = self._state.outing.frames_to_join()
        self._names = names_of([self._state.path_of(r) for r in self._refs])
        self._shown = -1
        self._asset: str | None = None
        self.canvas = PaintArea()
        self.canvas.painted.connect(self._keep)
        self.frame_box = Chooser()
        self.frame_box.setAccessibleName("Frame")
        self.frame_box.setObjectName("mask-frame")
        self.frame_box.addItems(list(self._names))
        self.frame_box.currentIndexChanged.connect(self._show_frame)
        self.kinds = QButtonGroup(self)
        choices = []
        for kind, text, key in (
            (HIDE, f"{_PAINT[HIDE].sign}  &Hide: never shows", "H"),
            (KEEP, f"{_PAINT[KEEP].sign}  &Keep: shows", "K"),
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
            "What is kept wins against any neighbour. Everything painted can be taken back, here and later.",
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
                button("Take back   [Ctrl + Z]", self._state.undo, quiet=True, name="mask-undo"),
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
        at = next((i for i, r in enumerate(self._refs) if r.id == chosen), 0)
        self.frame_box.setCurrentIndex(at)
        self._show_frame(at)
        self._state.changed.connect(self._follow)

    def _choose_kind(self, kind: int) -> None:
        self.canvas.kind = kind

    def _set_brush(self, size: int) -> None:
        self.canvas.brush = size
        self.canvas.update()

    def _tell(self) -> None:
        hidden, kept = ((self.canvas.paint_layer == kind).mean() for kind in (HIDE, KEEP))
        self.told.setText(f"Hidden: {hidden:.0%} of the frame. Kept: {kept:.0%}.")

    def _show_frame(self, index: int) -> None:
        if index == self._shown or not 0 <= index < len(self._refs):
            return
        path = self._state.path_of(self._refs[index])
        try:
            info = probe(path)
            reduce = next((r for r in (8, 4, 2) if max(info.width, info.height) >= r * _LONGEST), 1)
            pixels = read(path, reduce).pixels
        except LanternError as error:
            self._desk.tell(error.sentence)
            return
        if pixels.dtype == np.uint16:
            pixels = (pixels >> 8).astype(np.uint8)
        scale = min(1.0, _LONGEST / max(pixels.shape[:2]))
        size = (max(1, round(pixels.shape[1] * scale)), max(1, round(pixels.shape[0] * scale)))
        self._shown = index
        self.canvas.set_frame(cv2.resize(pixels, size, interpolation=cv2.INTER_AREA), np.zeros(size[::-1], np.uint8))
        self._show_paint()

    def _show_paint(self) -> None:
        """The paint that the document holds for the frame shown."""
        frame, folder = self._refs[self._shown].id, self._state.folder
        self._asset = self._state.outing.mask_of(frame)
        shape = self.canvas.paint_layer.shape
        layer = np.zeros(shape, np.uint8)
        file = None if folder is None else document.mask_file(folder, self._state.outing, frame)
        if file is not None:
            try:
                mask = read_mask(file)
                for area, kind in ((mask.hide, HIDE), (mask.keep, KEEP)):
                    layer[cv2.resize(area, shape[::-1], interpolation=cv2.INTER_NEAREST) > 127] = kind
            except LanternError as error:
                self._desk.tell(error.sentence)
        self.canvas.set_layer(layer)
        self._tell()

    def _follow(self, topics: set[str]) -> None:
        """Undo and redo change the paint under the brush."""
        if "masks" not in topics or self._shown < 0:
            return
        if self._state.outing.mask_of(self._refs[self._shown].id) != self._asset:
            self._show_paint()

    def _keep(self) -> None:
        """Make the paint of the frame shown an edit of the outing."""
        if self._shown < 0 or self._state.folder is None:
            return
        ref, layer = self._refs[self._shown], self.canvas.paint_layer
        try:
            self._asset = None
            if layer.any():
                mask = Mask(*(((layer == kind) * 255).astype(np.uint8) for kind in (HIDE, KEEP)))
                self._asset = assets.put(self._state.folder, mask_bytes(mask), document.MASK_ASSET)
            self._state.apply(edits.paint(ref.id, self._names[self._shown], self._asset))
        except LanternError as error:
            self._desk.tell(error.sentence)
        self._tell()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        held = event.modifiers() if event is not None else Qt.KeyboardModifier.NoModifier
        if event is not None and event.key() == Qt.Key.Key_Z and held & Qt.KeyboardModifier.ControlModifier:
            if held & Qt.KeyboardModifier.ShiftModifier:
                self._state.redo()
            else:
                self._state.undo()
            return
        super().keyPressEvent(event)
