"""A sphere spread out, with the other places of its tour where a step to them will show: dragged until they stand where they are seen."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme

_KEY_DEG, _COARSE_DEG = 0.5, 5.0
_DOT_PX, _ROWS = 5.0, 4


@dataclass(frozen=True)
class Mark:
    """Something at a bearing from the place: as shares of the picture's width and height."""

    name: str
    x: float
    y: float


class TourStrip(QWidget):
    """``dragged`` brings the shares of the width from and to which the marks were dragged, ``nudged`` degrees by keys."""

    dragged = pyqtSignal(float, float)
    nudged = pyqtSignal(float)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("tour-strip")
        self.setAccessibleName("Which way the place faces")
        self.setToolTip(
            "Drag the marks sideways until each stands where that place is seen; arrow keys turn by half a degree, with Shift by five"
        )
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(360, 150)
        self._image: QImage | None = None
        self._marks: tuple[Mark, ...] = ()
        self._words = ""
        self._from: float | None = None
        self._to = 0.0
        self._moved: Callable[[float, float], Sequence[Mark]] | None = None

    def show_place(
        self, image: QImage | None, marks: Sequence[Mark], words: str, moved: Callable[[float, float], Sequence[Mark]]
    ) -> None:
        """Another picture, its marks, what stands where there is no picture, and where marks stand when they are dragged."""
        self._image, self._marks, self._words, self._moved = image, tuple(marks), words, moved
        self._from = None
        self.setCursor(Qt.CursorShape.SizeHorCursor if image is not None else Qt.CursorShape.ArrowCursor)
        self.update()

    def picture_rect(self) -> QRectF:
        """Where the picture lies: over the whole width, zenith and ground beyond the widget where it is low."""
        if self._image is None:
            return QRectF(self.rect())
        high = self.width() * self._image.height() / self._image.width()
        return QRectF(0, (self.height() - high) / 2, self.width(), high)

    def _share(self, x: float) -> float:
        room = self.picture_rect()
        return (x - room.left()) / room.width()  # beyond the rim the circle goes on

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._image is not None:
            self._from = self._to = self._share(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._from is not None and self._moved is not None:
            self._to = self._share(event.position().x())
            self._marks = tuple(self._moved(self._from, self._to))
            self.update()

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        began, self._from = self._from, None
        if began is not None and began != self._to:
            self.dragged.emit(began, self._to)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        by = {Qt.Key.Key_Left: -1.0, Qt.Key.Key_Right: 1.0}.get(Qt.Key(event.key()))
        if by is None or self._image is None:
            super().keyPressEvent(event)
            return
        self.nudged.emit(by * (_COARSE_DEG if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else _KEY_DEG))

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("raised"))
        if self._image is None:
            painter.setPen(theme.colour("dim"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self._words)
            painter.end()
            return
        room = self.picture_rect()
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(room, self._image)
        for number, mark in enumerate(self._marks):
            self._draw(painter, room, mark, number)
        painter.end()

    def _draw(self, painter: QPainter, room: QRectF, mark: Mark, number: int) -> None:
        """A line through all of the height; names of neighbours stand at different heights, so that none hides another."""
        at = QPointF(room.left() + mark.x * room.width(), room.top() + mark.y * room.height())
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in ((theme.colour("ground"), 4.0), (theme.colour("accent"), 2.0)):
            painter.setPen(QPen(colour, width))
            painter.drawLine(QPointF(at.x(), 0), QPointF(at.x(), self.height()))
            painter.drawEllipse(at, _DOT_PX, _DOT_PX)
        letters = painter.fontMetrics()
        wide, high = letters.horizontalAdvance(mark.name) + 12, letters.height() + 4
        left = min(max(room.left(), at.x() - wide / 2), room.right() - wide)
        words = QRectF(left, 6 + number % _ROWS * (high + 4), wide, high)
        painter.setPen(QPen(theme.colour("accent"), 1))
        painter.setBrush(theme.colour("panel"))
        painter.drawRoundedRect(words, 4, 4)
        painter.setPen(theme.colour("text"))
        painter.drawText(words, Qt.AlignmentFlag.AlignCenter, mark.name)
