"""Frames below each other, each with its thumbnail, what is to be said of it in full, and what can be done."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QImage, QPixmap
from PyQt6.QtWidgets import QLabel, QVBoxLayout, QWidget

from idle_lantern.app import theme
from idle_lantern.app.display import to_qimage
from idle_lantern.app.widgets.basics import button, column, emptied, label, row
from idle_lantern.app.widgets.flowing import FlowLayout
from idle_lantern.core.base.arrays import Array

_SIDE = 56


@dataclass(frozen=True)
class FrameRow:
    """A frame by its id, the sentence, and acts: the word that is told and the button's title."""

    frame: str
    sentence: str
    acts: tuple[tuple[str, str], ...] = ()


class FrameRows(QWidget):
    """``asked`` tells the word of an act and the frame's id."""

    asked = pyqtSignal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self._box = QVBoxLayout(self)
        self._box.setContentsMargins(0, 0, 0, 0)
        self._box.setSpacing(theme.SPACE)
        self._rows: tuple[FrameRow, ...] = ()
        self._images: dict[str, QImage] = {}
        self._pictures: dict[str, QLabel] = {}

    def show_rows(self, rows: Sequence[FrameRow]) -> list[str]:
        """Replace what is shown; returns the frames whose thumbnails are not there yet."""
        if tuple(rows) != self._rows:
            self._rows = tuple(rows)
            emptied(self._box)
            self._pictures = {}
            for each in rows:
                self._box.addWidget(self._row(each))
        self.setVisible(bool(rows))
        return [r.frame for r in rows if r.frame and r.frame not in self._images]

    def set_picture(self, frame: str, pixels: Array) -> None:
        """The thumbnail (h, w, 3) of a frame."""
        self._images[frame] = to_qimage(pixels)
        self._show(frame)

    def text(self) -> str:
        """All that is said."""
        return "\n".join(r.sentence for r in self._rows)

    def _row(self, shown: FrameRow) -> QWidget:
        picture = label("")
        picture.setFixedSize(theme.scaled(_SIDE), theme.scaled(_SIDE))
        picture.setAlignment(Qt.AlignmentFlag.AlignTop)
        self._pictures[shown.frame] = picture
        acts = [
            button(title, partial(self.asked.emit, word, shown.frame), quiet=True, name=f"frame-{word}")
            for word, title in shown.acts
        ]
        holder = QWidget()
        layout = row(picture, column(label(shown.sentence, wrap=True), FlowLayout(*acts), None))
        layout.setContentsMargins(0, 0, 0, 0)
        holder.setLayout(layout)
        self._show(shown.frame)
        return holder

    def _show(self, frame: str) -> None:
        image, picture = self._images.get(frame), self._pictures.get(frame)
        if image is not None and picture is not None:
            scaled = image.scaled(picture.size(), Qt.AspectRatioMode.KeepAspectRatio, _SMOOTH)
            picture.setPixmap(QPixmap.fromImage(scaled))


_SMOOTH = Qt.TransformationMode.SmoothTransformation
