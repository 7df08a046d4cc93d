"""A tour from above: its places, the steps between them and which way north is; places are chosen and moved on it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme

_EDGE_PX, _DOT_PX, _NEAR_PX = 56, 6.0, 12.0
#: The least width that is drawn, in metres: of one place nobody knows how far apart the next will be.
_LEAST_M = 12.0
#: Lengths that a scale shows, in metres.
_SCALES_M = (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000)
_KEYS = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1)}
#: How far an arrow key moves a place, and with Shift, in metres.
_KEY_M, _FINE_M = 1.0, 0.1


@dataclass(frozen=True)
class PlanPlace:
    """A place in metres to the east and north; ``measured`` where its file or a track tells it, not a hand."""

    name: str
    east_m: float
    north_m: float
    measured: bool


class TourPlan(QWidget):
    """``chosen`` brings the number of a place, ``moved`` its number and new place in metres."""

    chosen = pyqtSignal(int)
    moved = pyqtSignal(int, float, float)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("tour-plan")
        self.setAccessibleName("The tour from above")
        self.setToolTip(
            "Click a place to choose it, drag it to where it was taken; arrow keys move it by a metre, with Shift by a tenth"
        )
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(360, 220)
        self._places: tuple[PlanPlace, ...] = ()
        self._pairs: tuple[tuple[int, int], ...] = ()
        self._chosen, self._first = -1, -1
        self._held: tuple[float, float] | None = None
        self._fit = (0.0, 0.0, 1.0)

    def show_tour(self, places: Sequence[PlanPlace], pairs: Sequence[tuple[int, int]], chosen: int, first: int) -> None:
        """Other places and steps, which of them is chosen and where the tour begins."""
        self._places, self._pairs, self._chosen, self._first = tuple(places), tuple(pairs), chosen, first
        self._held = None
        self._fit = self._fitted()
        self.update()

    def place_px(self, number: int) -> QPointF:
        """Where a place lies on the widget."""
        place = self._places[number]
        at = self._held if self._held is not None and number == self._chosen else (place.east_m, place.north_m)
        east, north, scale = self._fit
        middle = QRectF(self.rect()).center()
        return middle + QPointF((at[0] - east) * scale, (north - at[1]) * scale)

    def _fitted(self) -> tuple[float, float, float]:
        """East and north of the middle, and pixels for a metre."""
        if not self._places:
            return 0.0, 0.0, 1.0
        east, north = [p.east_m for p in self._places], [p.north_m for p in self._places]
        wide, high = max(_LEAST_M, max(east) - min(east)), max(_LEAST_M / 2, max(north) - min(north))
        room_x, room_y = max(1, self.width() - 2 * _EDGE_PX), max(1, self.height() - 2 * _EDGE_PX)
        return (max(east) + min(east)) / 2, (max(north) + min(north)) / 2, min(room_x / wide, room_y / high)

    def resizeEvent(self, _event: object) -> None:
        self._fit = self._fitted()

    # --- hands ------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or not self._places:
            return
        pos = event.position()
        apart = [math.dist((p.x(), p.y()), (pos.x(), pos.y())) for p in map(self.place_px, range(len(self._places)))]
        nearest = min(range(len(apart)), key=apart.__getitem__)
        if apart[nearest] <= _NEAR_PX:
            self._chosen = nearest
            self.chosen.emit(nearest)  # what shows the tour anew lets go of what is held
            place = self._places[nearest]
            self._held = place.east_m, place.north_m
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._held is None:
            return
        east, north, scale = self._fit
        off = event.position() - QRectF(self.rect()).center()
        self._held = east + off.x() / scale, north - off.y() / scale
        self.update()

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        held, self._held = self._held, None
        if held is None:
            return
        place = self._places[self._chosen]
        # a click that chooses moves nothing
        if math.dist(held, (place.east_m, place.north_m)) * self._fit[2] > 1:
            self._move(held[0], held[1])

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        step = _KEYS.get(Qt.Key(event.key()))
        if step is None or not 0 <= self._chosen < len(self._places):
            super().keyPressEvent(event)
            return
        by = _FINE_M if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else _KEY_M
        place = self._places[self._chosen]
        self._move(place.east_m + by * step[0], place.north_m + by * step[1])

    def _move(self, east_m: float, north_m: float) -> None:
        self.moved.emit(self._chosen, round(east_m, 2), round(north_m, 2))

    # --- drawing ----------------------------------------------------------------

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("raised"))
        if not self._places:
            painter.setPen(theme.colour("dim"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Add spheres, or drop their files here")
            painter.end()
            return
        painter.setPen(QPen(theme.colour("dim"), 1.5))
        for a, b in self._pairs:
            painter.drawLine(self.place_px(a), self.place_px(b))
        for number, place in enumerate(self._places):
            self._draw_place(painter, number, place)
        self._draw_scale(painter)
        painter.end()

    def _draw_place(self, painter: QPainter, number: int, place: PlanPlace) -> None:
        at = self.place_px(number)
        chosen = number == self._chosen
        painter.setPen(QPen(theme.colour("accent" if chosen else "text"), 2))
        painter.setBrush(theme.colour("accent" if chosen else "panel"))
        size = _DOT_PX + 2 * chosen
        if place.measured:  # a square
            painter.drawRect(QRectF(at.x() - size, at.y() - size, 2 * size, 2 * size))
        else:
            painter.drawEllipse(at, size, size)
        words = f"{place.name} (begins here)" if number == self._first else place.name
        painter.setPen(theme.colour("text"))
        painter.drawText(at + QPointF(_NEAR_PX, -_DOT_PX), words)

    def _draw_scale(self, painter: QPainter) -> None:
        scale = self._fit[2]
        length = max((m for m in _SCALES_M if m * scale <= self.width() / 4), default=_SCALES_M[0])
        left, low = 16.0, self.height() - 16.0
        painter.setPen(QPen(theme.colour("text"), 1.5))
        painter.drawLine(QPointF(left, low), QPointF(left + length * scale, low))
        painter.drawText(QPointF(left, low - 6), f"{length} m")
        top = QPointF(self.width() - 24.0, 20.0)
        painter.drawLine(top, top + QPointF(0, 26))
        painter.drawLine(top, top + QPointF(-5, 8))
        painter.drawLine(top, top + QPointF(5, 8))
        painter.drawText(QRectF(top.x() - 20, top.y() + 28, 40, 18), Qt.AlignmentFlag.AlignCenter, "N")
