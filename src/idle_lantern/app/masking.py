"""Painting what of a frame must not show, or must."""

from __future__ import annotations

import cv2
import numpy as np
from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QCursor, QKeyEvent
from PyQt6.QtWidgets import QButtonGroup, QDialog, QRadioButton, QSlider, QWidget

from idle_lantern.app import theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.widgets.basics import button, by_return, column, label, panel, panel_form, row, scrolled
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.flowing import FlowLayout
from idle_lantern.app.widgets.paint_area import CLEAR, HIDE, KEEP, PAINT, PaintArea
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.frames.frameset import names_of
from idle_lantern.core.frames.masks import Mask, mask_bytes, read_mask
from idle_lantern.core.frames.reading import probe, read
from idle_lantern.core.outing import assets, document, edits

#: Masks are painted on a reduced frame: seams follow no finer outline.
_LONGEST = 1200


class MaskDialog(QDialog):
    """Frames one by one, brush and kind of paint beside them; each stroke is an edit of the outing."""

    def __init__(self, context: AppContext, chosen: str | None, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Hide or keep parts of frames")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowModality(Qt.WindowModality.WindowModal)
        self.resize(parent.size() if parent is not None else QSize(1280, 800))
        self._context, self._state = context, context.state
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
            (HIDE, f"{PAINT[HIDE].sign}  &Hide: never shows", "H"),
            (KEEP, f"{PAINT[KEEP].sign}  &Keep: shows", "K"),
            (CLEAR, "&Erase", "R"),
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
            "What is kept wins against any neighbour. Everything painted can be taken back, here and later. The wheel zooms, the "
            "right button drags.",
            "dim",
            wrap=True,
        )
        side = column(
            panel_form([("Frame", self.frame_box)]),
            8,
            *choices,
            8,
            label("Brush"),
            self.brush,
            FlowLayout(
                button("Undo   [Ctrl + Z]", self.take_back, name="mask-undo"),
                button("Clear the frame", lambda: self.canvas.fill(CLEAR), name="mask-clear"),
            ),
            8,
            FlowLayout(
                button("Fit   [0]", self.canvas.fit, name="mask-fit"),
                button("+", lambda: self.canvas.zoom_by(1.5), name="mask-in"),
                button("−", lambda: self.canvas.zoom_by(1 / 1.5), name="mask-out"),
            ),
            8,
            explained,
            self.told,
            None,
            margin=theme.SPACE + 2,
        )
        done = by_return(button("Done", self.accept, main=True, name="mask-done"))
        beside = column(scrolled(panel(side, "panel")), panel(column(done, margin=theme.SPACE + 2), "panel"), space=0)
        layout = row(space=0)
        layout.addWidget(self.canvas, 1)
        layout.addWidget(panel(beside, "side"))
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
        self.told.setText(f"Hidden: {100 * hidden:.0f} % of the frame. Kept: {100 * kept:.0f} %.")

    def _show_frame(self, index: int) -> None:
        if index == self._shown or not 0 <= index < len(self._refs):
            return
        path = self._state.path_of(self._refs[index])
        try:
            info = probe(path)
            reduce = next((r for r in (8, 4, 2) if max(info.width, info.height) >= r * _LONGEST), 1)
            pixels = read(path, reduce).in_space(SRGB).pixels
        except LanternError as error:
            self._context.tell(error.sentence)
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
        self._asset = self._state.outing.choices.mask_of(frame)
        shape = self.canvas.paint_layer.shape
        layer = np.zeros(shape, np.uint8)
        file = None if folder is None else document.mask_file(folder, self._state.outing, frame)
        if file is not None:
            try:
                mask = read_mask(file)
                for area, kind in ((mask.hide, HIDE), (mask.keep, KEEP)):
                    layer[cv2.resize(area, shape[::-1], interpolation=cv2.INTER_NEAREST) > 127] = kind
            except LanternError as error:
                self._context.tell(error.sentence)
        self.canvas.set_layer(layer)
        self._tell()

    def _follow(self, topics: set[str]) -> None:
        """Undo and redo change the paint under the brush."""
        if "masks" not in topics or self._shown < 0:
            return
        if self._state.outing.choices.mask_of(self._refs[self._shown].id) != self._asset:
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
            self._context.tell(error.sentence)
        self._tell()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        held = event.modifiers() if event is not None else Qt.KeyboardModifier.NoModifier
        if event is not None and event.key() == Qt.Key.Key_Z and held & Qt.KeyboardModifier.ControlModifier:
            self.take_back(again=bool(held & Qt.KeyboardModifier.ShiftModifier))
            return
        zooms = {Qt.Key.Key_0: 0.0, Qt.Key.Key_Plus: 1.5, Qt.Key.Key_Minus: 1 / 1.5}
        factor = zooms.get(Qt.Key(event.key())) if event is not None else None
        if factor is not None:
            self.canvas.zoom_by(factor) if factor else self.canvas.fit()
            return
        super().keyPressEvent(event)

    def take_back(self, *, again: bool = False) -> None:
        """Take the last stroke back, or with ``again`` make it once more; nothing that this dialog does not show."""
        step = self._state.history.next_redo if again else self._state.history.next_undo
        painted = step is not None and step.outing.choices.masks != self._state.outing.choices.masks
        if not painted:
            self.told.setText(f"Nothing that was painted is left to {'bring' if again else 'take'} back.")
        elif again:
            self._state.redo()
        else:
            self._state.undo()
