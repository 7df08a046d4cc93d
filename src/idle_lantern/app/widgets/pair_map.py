"""All frames in a strip with what ties them: the two that are looked at are chosen on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme

_HIGH_PX, _EDGE_PX, _NEAR_PX = 64, 26, 8.0


@dataclass(frozen=True)
class PairFrame:
    """A frame by its name and direction in degrees; a row of frames whose directions nobody knows is told by their order."""

    name: str
    yaw_deg: float
    pitch_deg: float


class PairMap(QWidget):
    """``chosen`` brings the places of the left and the right frame in the list.

    A click on a link chooses its two frames; one on a frame makes it the right one, with Shift the left one.
    """

    chosen = pyqtSignal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Frames and what ties them")
        self.setToolTip("Click a link for its two frames, a frame for the right side, with Shift for the left side")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._frames: tuple[PairFrame, ...] = ()
        self._links: tuple[tuple[int, int, float], ...] = ()
        self._pair = (0, 1)

    def sizeHint(self) -> QSize:
        """As low as a strip."""
        return QSize(400, theme.scaled(_HIGH_PX))

    def show_frames(self, frames: Sequence[PairFrame], links: Sequence[tuple[int, int, float]]) -> None:
        """Other frames, and links as places in their list with a quality from 0 to 1."""
        self._frames, self._links = tuple(frames), tuple(links)
        self.update()

    def show_pair(self, left: int, right: int) -> None:
        """Which two are looked at."""
        self._pair = left, right
        self.update()

    def place(self, at: int) -> QPointF:
        """Where a frame's middle lies."""
        yaws, pitches = [f.yaw_deg for f in self._frames], [f.pitch_deg for f in self._frames]
        wide, high = max(yaws) - min(yaws), max(pitches) - min(pitches)
        room = QRectF(self.rect()).adjusted(_EDGE_PX, 14, -_EDGE_PX, -14)
        # rows may be drawn flatter than they are, so that the strip is full, but never steeper
        across = room.width() / wide if wide > 0 else 0.0
        up = min(across or room.height(), room.height() / high if high > 0 else 0.0)
        x = across * (yaws[at] - (max(yaws) + min(yaws)) / 2) if wide > 0 else 0.0
        return room.center() + QPointF(x, up * ((max(pitches) + min(pitches)) / 2 - pitches[at]))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or not self._frames:
            return
        pos = event.position()
        middles = [self.place(i) for i in range(len(self._frames))]
        nearest = min(range(len(middles)), key=lambda i: _apart(middles[i], pos))
        left, right = self._pair
        if _apart(middles[nearest], pos) <= 1.5 * _NEAR_PX:
            to_left = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self.chosen.emit(*((nearest, right) if to_left else (left, nearest)))
            return
        found = [(_off_line(pos, middles[a], middles[b]), a, b) for a, b, _quality in self._links]
        if found and min(found)[0] <= _NEAR_PX:
            _off, a, b = min(found)
            self.chosen.emit(min(a, b), max(a, b))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("panel"))
        if not self._frames:
            painter.end()
            return
        middles = [self.place(i) for i in range(len(self._frames))]
        for a, b, quality in self._links:
            shown = {a, b} == set(self._pair)
            style = Qt.PenStyle.SolidLine if quality > 0.3 else Qt.PenStyle.DashLine
            painter.setPen(QPen(theme.colour("accent" if shown else "dim"), 1.0 + 3 * quality + shown, style))
            painter.drawLine(middles[a], middles[b])
        painter.setFont(theme.font(theme.TINY, bold=True))
        for i, middle in enumerate(middles):
            side = "L" if i == self._pair[0] else "R" if i == self._pair[1] else str(i + 1)
            chosen = i in self._pair
            box = QRectF(middle.x() - 11, middle.y() - 9, 22, 18)
            painter.setPen(QPen(theme.colour("text" if chosen else "dim"), 2.0 if chosen else 1.0))
            painter.setBrush(theme.colour("raised" if chosen else "ground"))
            painter.drawRect(box)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, side)
        painter.end()


def _apart(one: QPointF, other: QPointF) -> float:
    off = one - other
    return float((off.x() ** 2 + off.y() ** 2) ** 0.5)


def _off_line(at: QPointF, one: QPointF, other: QPointF) -> float:
    along = other - one
    length = along.x() ** 2 + along.y() ** 2
    share = 0.0 if length == 0 else ((at.x() - one.x()) * along.x() + (at.y() - one.y()) * along.y()) / length
    return _apart(at, one + along * min(1.0, max(0.0, share)))
