"""What was said of the frames that arrived: a thumbnail and a sentence for each, the last on top."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QIcon, QPainter, QPen, QPixmap
from PyQt6.QtWidgets import QListWidget, QListWidgetItem

from idle_lantern.app import theme
from idle_lantern.app.display import to_qimage
from idle_lantern.core.base.arrays import Array

_SIDE = 56
_HEIGHT_PX = 210


class VerdictList(QListWidget):
    """``chosen`` tells the id of a frame; one that must be shot again is framed, not only coloured."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("verdicts")
        self.setAccessibleName("What was said of the frames that arrived")
        self.setIconSize(QSize(_SIDE, _SIDE))
        self.setWordWrap(True)
        self.setFixedHeight(theme.scaled(_HEIGHT_PX))
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.currentItemChanged.connect(self._tell)

    def add(self, frame: str, look: Array | None, sentence: str, *, again: bool) -> None:
        """One more frame; ``look`` is a small (h, w, 3) of it."""
        item = QListWidgetItem(sentence)
        item.setData(Qt.ItemDataRole.UserRole, frame)
        item.setToolTip(sentence)
        if look is not None:
            item.setIcon(QIcon(_framed(QPixmap.fromImage(to_qimage(look)), again=again)))
        self.insertItem(0, item)
        self.show()

    def forget(self) -> None:
        """Another outing is open."""
        self.clear()
        self.hide()

    def _tell(self, item: QListWidgetItem | None, _before: object) -> None:
        if item is not None:
            self.chosen.emit(item.data(Qt.ItemDataRole.UserRole))


def _framed(picture: QPixmap, *, again: bool) -> QPixmap:
    """A thumbnail, crossed and framed where the frame must be shot again."""
    made = picture.scaled(_SIDE, _SIDE, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
    if again:
        painter = QPainter(made)
        painter.setPen(QPen(theme.colour("warn"), 4))
        painter.drawRect(made.rect().adjusted(1, 1, -2, -2))
        painter.drawLine(made.rect().bottomLeft(), made.rect().topRight())
        painter.end()
    return made
