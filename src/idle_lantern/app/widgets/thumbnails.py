"""A list of frames by their thumbnails; what is not read yet, or cannot be, is said in its place."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QIcon, QImage, QPainter, QPixmap
from PyQt6.QtWidgets import QListView, QListWidget, QListWidgetItem

from idle_lantern.app import theme
from idle_lantern.app.display import plain_qimage, to_qimage
from idle_lantern.app.widgets.tables import mapped, pixels_of

#: Two of them, with two lines of words each, stand beside each other in a panel.
_SIDE, _APART_PX, _WORDS_PX = 84, 12, 60


class ThumbnailList(QListWidget):
    """Thumbnails with captions, known by the ids of their frames; ``chosen`` brings the id."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self._pictures: dict[str, QImage] = {}
        self._table: Any = None
        self._unreadable: set[str] = set()
        self.setAccessibleName("Frames")
        self.setObjectName("thumbs")
        self.setTextElideMode(Qt.TextElideMode.ElideNone)
        self.setViewMode(QListView.ViewMode.IconMode)
        self.setResizeMode(QListView.ResizeMode.Adjust)
        self.setMovement(QListView.Movement.Static)
        self.setIconSize(QSize(_SIDE, _SIDE))
        self.setGridSize(QSize(_SIDE + _APART_PX, _SIDE + _WORDS_PX))
        self.setMinimumHeight(2 * (_SIDE + _WORDS_PX))
        self.setSpacing(0)
        self.setUniformItemSizes(True)
        self.currentItemChanged.connect(self._tell)

    def forget(self) -> None:
        """The ids mean other frames now."""
        self._pictures.clear()
        self._unreadable.clear()

    def __contains__(self, frame: str) -> bool:
        return frame in self._pictures

    def show_frames(self, captions: Mapping[str, str]) -> None:
        """These frames, by id, in this order; pictures of others are let go."""
        self._pictures = {frame: picture for frame, picture in self._pictures.items() if frame in captions}
        self.blockSignals(True)
        if [self._id_at(i) for i in range(self.count())] != list(captions):
            self.clear()
            for frame in captions:
                new = QListWidgetItem()
                new.setData(Qt.ItemDataRole.UserRole, frame)
                self.addItem(new)
        for i, (frame, caption) in enumerate(captions.items()):
            item = self.item(i)
            if item is not None:
                item.setText(caption)
                item.setIcon(self._icon(frame))
        self.blockSignals(False)

    def set_picture(self, frame: str, pixels: Any) -> None:
        """The picture (H, W, 3) of a frame; None where it cannot be read."""
        if pixels is None:
            self._unreadable.add(frame)
        else:
            image = plain_qimage(pixels).scaled(
                _SIDE, _SIDE, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
            )
            self._pictures[frame] = image
        for i in range(self.count()):
            item = self.item(i)
            if item is not None and self._id_at(i) == frame:
                item.setIcon(self._icon(frame))

    def set_table(self, table: Any) -> None:
        """Show all of them through a table of 8 bit (``tables.table_of``), None as they are."""
        self._table = table
        for i in range(self.count()):
            item, frame = self.item(i), self._id_at(i)
            if item is not None and frame in self._pictures:
                item.setIcon(self._icon(frame))

    def choose(self, frame: str) -> None:
        """Mark a frame without telling anyone."""
        self.blockSignals(True)
        for i in range(self.count()):
            if self._id_at(i) == frame:
                self.setCurrentRow(i)
        self.blockSignals(False)

    def _tell(self, item: QListWidgetItem | None, _before: QListWidgetItem | None) -> None:
        if item is not None:
            self.chosen.emit(item.data(Qt.ItemDataRole.UserRole))

    def _id_at(self, index: int) -> str | None:
        item = self.item(index)
        return item.data(Qt.ItemDataRole.UserRole) if item is not None else None

    def _icon(self, frame: str) -> QIcon:
        """An icon that keeps its colours when chosen: nothing is tinted where colour is judged."""
        image = self._pictures.get(frame)
        pixmap = (
            QPixmap.fromImage(to_qimage(mapped(pixels_of(image), self._table)))
            if image is not None
            else self._blank("cannot be read" if frame in self._unreadable else "…")
        )
        icon = QIcon(pixmap)
        icon.addPixmap(pixmap, QIcon.Mode.Selected)
        return icon

    def _blank(self, text: str) -> QPixmap:
        blank = QPixmap(_SIDE, _SIDE)
        blank.fill(theme.colour("raised"))
        painter = QPainter(blank)
        painter.setPen(theme.colour("dim"))
        painter.drawText(blank.rect(), int(Qt.AlignmentFlag.AlignCenter) | int(Qt.TextFlag.TextWordWrap), text)
        painter.end()
        return blank
