"""One of two frames that are tied by hand: places clicked and lines drawn on it, with their numbers."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen

from idle_lantern.app import theme
from idle_lantern.app import tie_model as model
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.picture_tools import PlaceTool
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.frames.reading import FrameInfo

#: Below this zoom a click only goes nearer.
_EXACT_ZOOM = 0.9
#: A line shorter than this on the screen was no line.
_SHORTEST_PX = 20
#: A miss is drawn so many times larger, and no longer than this on the screen.
MISS_TIMES, _LONGEST_MISS_PX = 20.0, 160.0


class _TieTool(PlaceTool):
    """Clicks choose places, or drags draw lines; those that were set are drawn with their numbers."""

    def __init__(self, side: TieSide) -> None:
        super().__init__(side.clicked)
        self._side = side
        self._begun: QPointF | None = None
        self._end = QPointF()

    def press(self, place: QPointF, pos: QPointF, zoom: float) -> None:
        """A line begins."""
        if self._side.draws_lines():
            self._begun = self._end = place

    def move(self, place: QPointF, pos: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """It follows the hand."""
        self._end = place

    def release(self, place: QPointF) -> None:
        """The line or place is chosen."""
        if not self._side.draws_lines():
            super().release(place)
        elif self._begun is not None:
            begun, self._begun = self._begun, None
            self._side.drawn(begun, place)

    def draw(self, painter: QPainter, to_widget: Any) -> None:
        """Crosses and lines with a number each; the one that waits for its other half is open."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(theme.SMALL, bold=True))
        marks = [(places, str(i + 1)) for i, places in enumerate(self._side.ties)]
        if self._side.waiting:
            marks.append((self._side.waiting, "?"))
        for places, text in marks:
            at = [to_widget(QPointF(x + 0.5, y + 0.5)) for x, y in places]
            _draw_mark(painter, at, text)
        for places, off in zip(self._side.ties, self._side.offs):
            if off is not None:
                _draw_miss(painter, to_widget(QPointF(places[0][0] + 0.5, places[0][1] + 0.5)), off)
        if self._begun is not None:
            _draw_mark(painter, [to_widget(self._begun), to_widget(self._end)], "")


def _draw_mark(painter: QPainter, at: list[QPointF], text: str) -> None:
    """A cross that leaves its middle free, or a line that leaves what it lies on free, and its number."""
    first = at[0]
    for pen in (QPen(theme.colour("ground", 220), 4), QPen(theme.colour("accent"), 1.6)):
        painter.setPen(pen)
        if len(at) > 1:
            for offset in _beside(*at):
                painter.drawLine(at[0] + offset, at[1] + offset)
        else:
            for dx, dy in ((-1, 0), (1, 0), (0, -1), (0, 1)):
                painter.drawLine(first + QPointF(13 * dx, 13 * dy), first + QPointF(4 * dx, 4 * dy))
            if text == "?":
                painter.drawEllipse(first, 17, 17)
    if text:
        tag = QRectF(first.x() + 9, first.y() + 9, 20, 18)
        painter.fillRect(tag, theme.colour("ground", 220))
        painter.setPen(theme.colour("text"))
        painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, text)


def _draw_miss(painter: QPainter, at: QPointF, off: model.Place) -> None:
    """The miss of a point as an arrow, made larger: it points from where the other ties put the place to where it was set."""
    length = math.hypot(*off)
    if length * MISS_TIMES < 4:
        return
    way = QPointF(*off) * (min(length * MISS_TIMES, _LONGEST_MISS_PX) / length)
    head = way * (7 / max(math.hypot(way.x(), way.y()), 1e-6))
    for pen in (QPen(theme.colour("ground", 220), 5), QPen(theme.colour("warn"), 2.2)):
        painter.setPen(pen)
        painter.drawLine(at, at + way)
        for side in (-0.6, 0.6):
            painter.drawLine(at + way, at + way - head + QPointF(-head.y(), head.x()) * side)


def _beside(one: QPointF, other: QPointF) -> tuple[QPointF, QPointF]:
    """The ways to both sides of a line, so far that the line itself stays free."""
    way = other - one
    length = max(math.hypot(way.x(), way.y()), 1e-6)
    across = QPointF(-way.y(), way.x()) * (5 / length)
    return across, -across


class TieSide:
    """One of the two frames: its view, its chooser, what is marked on it.

    ``lines`` tells whether lines are drawn instead of points clicked, ``chosen`` hears that something waits for its other half,
    ``tell`` gets what is said.
    """

    def __init__(
        self,
        name: str,
        names: list[str],
        lines: Callable[[], bool],
        chosen: Callable[[], None],
        tell: Callable[[str], object],
    ) -> None:
        self.draws_lines, self._chosen, self._tell = lines, chosen, tell
        self.view = PictureView()
        self.view.setAccessibleName(f"Frame on the {name}")
        self.view.setObjectName(f"tie-{name}-view")
        self.chooser = Chooser()
        self.chooser.setObjectName(f"tie-{name}")
        self.chooser.setAccessibleName(f"Frame on the {name}")
        self.chooser.addItems(names)
        self.ties: list[tuple[model.Place, ...]] = []
        #: How far each of them lies beside its place, to be drawn as an arrow.
        self.offs: list[model.Place | None] = []
        self.waiting: tuple[model.Place, ...] = ()
        self.zoom = 1.0  # at which what waits was drawn
        self.info: FrameInfo | None = None
        self.pixels: Picture | None = None
        self.view.set_tool(_TieTool(self))

    def clicked(self, place: QPointF) -> None:
        """A place was chosen: from afar it is gone nearer to, at 100 % it is set."""
        if self.pixels is None:
            return
        if self.view.zoom * self.view.devicePixelRatioF() < _EXACT_ZOOM:
            self.view.show_place(place.x(), place.y())
            self.view.setFocus()
            return
        self._set(place)

    def drawn(self, one: QPointF, other: QPointF) -> None:
        """A line was drawn, at any zoom: it is long, and is made exact by the edge it lies on."""
        if math.hypot(other.x() - one.x(), other.y() - one.y()) * self.view.zoom < _SHORTEST_PX:
            self._tell("Drag along something straight: an eaves, a mast, the horizon, as long as it shows.")
            self.view.update()
            return
        self._set(one, other)

    def _set(self, *places: QPointF) -> None:
        if self.pixels is None:
            return
        w, h = self.pixels.width, self.pixels.height
        # pixel centres lie at whole numbers, while the view counts from the corner of the first one
        found = tuple((p.x() - 0.5, p.y() - 0.5) for p in places)
        if all(-0.5 <= x <= w - 0.5 and -0.5 <= y <= h - 0.5 for x, y in found):
            self.waiting, self.zoom = found, self.view.zoom * self.view.devicePixelRatioF()
            self._chosen()
        self.view.update()
