"""What the pointer does on a picture beside moving it: draw a line, turn it, choose a place, set a crop."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPen, QPolygonF

from idle_lantern.app import theme
from idle_lantern.core.geometry.rectangles import Rectangle

ToWidget = Callable[[QPointF], QPointF]

#: Screen pixels within which an edge of the crop is grabbed, and the share of the picture that an arrow key moves it by.
_GRAB, _STEP = 12.0, 0.004


class PictureTool(Protocol):
    """Takes over the pointer and some keys of a ``PictureView``; a place is in pixels of the picture, ``pos`` in the widget."""

    cursor: Qt.CursorShape
    #: Keys that are the tool's though an action of the window has them too.
    claims: frozenset[int]
    #: Where the pointer is on the picture, for tools that show what a click would do.
    pointer: QPointF | None

    def press(self, place: QPointF, pos: QPointF, zoom: float) -> None:
        """The left button went down."""

    def move(self, place: QPointF, pos: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """The pointer moved with the button down."""

    def release(self, place: QPointF) -> None:
        """The button went up."""

    def key(self, event: QKeyEvent) -> bool:
        """Whether a key was for the tool."""

    def draw(self, painter: QPainter, to_widget: ToWidget) -> None:
        """What the tool shows over the picture."""


class _Plain:
    """A tool that needs no more than it says."""

    cursor = Qt.CursorShape.CrossCursor
    claims: frozenset[int] = frozenset()
    #: Where the pointer is on the picture, for tools that show what a click would do.
    pointer: QPointF | None = None

    def press(self, place: QPointF, pos: QPointF, zoom: float) -> None:
        """Nothing begins."""

    def move(self, place: QPointF, pos: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """Nothing follows."""

    def release(self, place: QPointF) -> None:
        """Nothing ends."""

    def key(self, event: QKeyEvent) -> bool:
        """No key is taken."""
        return False

    def draw(self, painter: QPainter, to_widget: ToWidget) -> None:
        """Nothing is shown."""


class LineTool(_Plain):
    """A line along something that is upright or level; ``done`` gets both ends."""

    def __init__(
        self, done: Callable[[QPointF, QPointF], None], drawn: Callable[[], Sequence[Sequence[QPointF]]] = tuple
    ) -> None:
        self._done, self._drawn = done, drawn
        self._ends: tuple[QPointF, QPointF] | None = None

    def press(self, place: QPointF, pos: QPointF, zoom: float) -> None:
        """One end."""
        self._ends = place, place

    def move(self, place: QPointF, pos: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """The other end follows."""
        if self._ends is not None:
            self._ends = self._ends[0], place

    def release(self, place: QPointF) -> None:
        """The line is drawn."""
        if self._ends is not None:
            one, self._ends = self._ends[0], None
            self._done(one, place)

    def draw(self, painter: QPainter, to_widget: ToWidget) -> None:
        """What was drawn before, and the line under the hand."""
        lines = [*self._drawn(), *([] if self._ends is None else [self._ends])]
        for pen in (QPen(theme.colour("ground", 210), 4), QPen(theme.colour("accent"), 1.8)):
            painter.setPen(pen)
            for line in lines:
                painter.drawPolyline(QPolygonF([to_widget(place) for place in line]))


class PlaceTool(_Plain):
    """One place; ``done`` gets it."""

    def __init__(self, done: Callable[[QPointF], None]) -> None:
        self._done = done

    def release(self, place: QPointF) -> None:
        """The place is chosen."""
        self._done(place)


class BrushTool(_Plain):
    """A stroke of paint on the picture; ``done`` gets its points and the radius, in pixels of the picture.

    Square brackets make the brush smaller and larger; on the screen it has one size at any zoom.
    """

    LEAST_PX, MOST_PX = 3.0, 160.0
    radius_px = 14.0

    def __init__(self, hides: bool, done: Callable[[list[tuple[float, float]], float], None]) -> None:
        self._hides, self._done = hides, done
        self._points: list[QPointF] = []
        self._zoom = 1.0

    def press(self, place: QPointF, pos: QPointF, zoom: float) -> None:
        """The stroke begins."""
        self._points, self._zoom = [place], zoom

    def move(self, place: QPointF, pos: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """It goes on, a point for each half of the brush."""
        if self._points and (place - self._points[-1]).manhattanLength() * self._zoom > BrushTool.radius_px / 2:
            self._points.append(place)

    def release(self, place: QPointF) -> None:
        """It ends."""
        points, self._points = [*self._points, place], []
        if len(points) > 1:
            self._done([(p.x() - 0.5, p.y() - 0.5) for p in points], BrushTool.radius_px / self._zoom)

    def key(self, event: QKeyEvent) -> bool:
        """The brush's size, the same for all brushes."""
        factor = {Qt.Key.Key_BracketLeft: 1 / 1.25, Qt.Key.Key_BracketRight: 1.25}.get(Qt.Key(event.key()))
        if factor is None:
            return False
        BrushTool.radius_px = min(max(BrushTool.radius_px * factor, self.LEAST_PX), self.MOST_PX)
        return True

    def draw(self, painter: QPainter, to_widget: ToWidget) -> None:
        """The stroke: ink for what hides, sand for what keeps, as on the frames and in mask files."""
        if not self._points:
            if self.pointer is not None:
                for pen in (QPen(theme.colour("ground", 210), 3), QPen(theme.colour("text"), 1.2)):
                    painter.setPen(pen)
                    painter.drawEllipse(to_widget(self.pointer), BrushTool.radius_px, BrushTool.radius_px)
            return
        tone = QColor(30, 28, 48, 190) if self._hides else QColor(244, 232, 206, 190)
        pen = QPen(
            tone, 2 * BrushTool.radius_px, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin
        )
        painter.setPen(pen)
        line = QPolygonF([to_widget(p) for p in self._points])
        if len(self._points) == 1:
            painter.drawPoint(line[0])
        painter.drawPolyline(line)


class TurnTool(_Plain):
    """The picture is grabbed and turned: ``turning`` gets how far the hand moved, in pixels of the picture as it was when it
    was grabbed, and whether it rolls (Shift); ``done`` that it let go. Arrows and comma, stop turn by ``step``."""

    cursor = Qt.CursorShape.OpenHandCursor

    def __init__(
        self,
        turning: Callable[[float, float, bool], None],
        done: Callable[[], None],
        step: Callable[[float, float, float], None],
    ) -> None:
        self._turning, self._done, self._step = turning, done, step
        self._grab: QPointF | None = None
        self._zoom = 1.0

    def press(self, place: QPointF, pos: QPointF, zoom: float) -> None:
        """Grabbed."""
        self._grab, self._zoom = pos, zoom

    def move(self, place: QPointF, pos: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """Turned."""
        if self._grab is not None:
            # by the hand's way on the screen: the picture under it changes meanwhile
            off = (pos - self._grab) / self._zoom
            self._turning(off.x(), off.y(), bool(modifiers & Qt.KeyboardModifier.ShiftModifier))

    def release(self, place: QPointF) -> None:
        """Let go."""
        if self._grab is not None:
            self._grab = None
            self._done()

    def key(self, event: QKeyEvent) -> bool:
        """Arrows turn sideways and up, comma and stop roll."""
        ways = {
            Qt.Key.Key_Left: (-1.0, 0.0, 0.0), Qt.Key.Key_Right: (1.0, 0.0, 0.0), Qt.Key.Key_Up: (0.0, 1.0, 0.0),
            Qt.Key.Key_Down: (0.0, -1.0, 0.0), Qt.Key.Key_Comma: (0.0, 0.0, -1.0), Qt.Key.Key_Period: (0.0, 0.0, 1.0),
        }  # fmt: skip
        way = ways.get(Qt.Key(event.key()))
        if way is None:
            return False
        size = 1.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0.1
        self._step(way[0] * size, way[1] * size, way[2] * size)
        return True


class CropTool(_Plain):
    """A crop moved by its middle and drawn by its edges; ``moved`` gets each new rectangle, ``done`` the last one.

    With a ``ratio`` its sides keep it. Arrows move it, with Shift its right and lower edge.
    """

    cursor = Qt.CursorShape.ArrowCursor

    def __init__(
        self,
        box: Rectangle,
        size: tuple[int, int],
        ratio: float | None,
        done: Callable[[Rectangle], None],
    ) -> None:
        self.box, self._size, self.ratio, self._done = box, size, ratio, done
        self._held: tuple[float, float] | None = None
        self._grab, self._before = QPointF(), box

    def press(self, place: QPointF, pos: QPointF, zoom: float) -> None:
        """An edge, a corner or the middle is grabbed; outside of it a new one is drawn."""
        b, near = self.box, _GRAB / zoom
        x, y = place.x() - b.left, place.y() - b.top
        left, right, top, bottom = abs(x) < near, abs(x - b.width) < near, abs(y) < near, abs(y - b.height) < near
        inside = -near < x < b.width + near and -near < y < b.height + near
        if inside and (left or right or top or bottom):
            self._held = (-1.0 if left else 1.0 if right else 0.0, -1.0 if top else 1.0 if bottom else 0.0)
        elif inside:
            self._held = (0.0, 0.0)
        else:
            self._held = (1.0, 1.0)
            self.box = Rectangle(round(place.x()), round(place.y()), 1, 1)
        self._grab, self._before = place, self.box

    def move(self, place: QPointF, pos: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """What is held follows the hand."""
        if self._held is not None:
            off = place - self._grab
            self.box = self._changed(self._before, self._held, off.x(), off.y())

    def release(self, place: QPointF) -> None:
        """It stays as it is."""
        if self._held is not None:
            self._held = None
            self._done(self.box)

    def key(self, event: QKeyEvent) -> bool:
        """Arrows move, with Shift they draw larger or smaller."""
        ways = {
            Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1),
        }  # fmt: skip
        way = ways.get(Qt.Key(event.key()))
        if way is None:
            return False
        step = max(1.0, _STEP * max(self._size))
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        held = (float(way[0] != 0), float(way[1] != 0)) if shift else (0.0, 0.0)
        self.box = self._changed(self.box, held, way[0] * step, way[1] * step)
        self._done(self.box)
        return True

    def _changed(self, box: Rectangle, held: tuple[float, float], dx: float, dy: float) -> Rectangle:
        width, height = self._size
        if held == (0.0, 0.0):
            left = min(max(0.0, box.left + dx), width - box.width)
            top = min(max(0.0, box.top + dy), height - box.height)
            return Rectangle(round(left), round(top), box.width, box.height)
        x0, x1, y0, y1 = float(box.left), float(box.left + box.width), float(box.top), float(box.top + box.height)
        x0, x1 = (x0 + dx, x1) if held[0] < 0 else (x0, x1 + dx) if held[0] > 0 else (x0, x1)
        y0, y1 = (y0 + dy, y1) if held[1] < 0 else (y0, y1 + dy) if held[1] > 0 else (y0, y1)
        x0, x1, y0, y1 = max(0.0, min(x0, x1)), min(width, max(x0, x1)), max(0.0, min(y0, y1)), min(height, max(y0, y1))
        w, h = max(16.0, x1 - x0), max(16.0, y1 - y0)
        if self.ratio is not None:
            # the side that is held leads; both stay in the picture
            if held[0] == 0:
                w = h * self.ratio
            elif held[1] == 0:
                h = w / self.ratio
            else:
                w, h = min(w, h * self.ratio), min(h, w / self.ratio)
            room_w = width - x0 if held[0] >= 0 else x1
            room_h = height - y0 if held[1] >= 0 else y1
            fit = min(1.0, room_w / w, room_h / h)
            w, h = w * fit, h * fit
        left = x1 - w if held[0] < 0 else x0
        top = y1 - h if held[1] < 0 else y0
        left, top = max(0, round(left)), max(0, round(top))
        return Rectangle(left, top, max(1, min(round(w), width - left)), max(1, min(round(h), height - top)))

    def draw(self, painter: QPainter, to_widget: ToWidget) -> None:
        """The crop with its thirds, what it cuts off dimmed, grips at corners and edges."""
        b = self.box
        box = QRectF(to_widget(QPointF(b.left, b.top)), to_widget(QPointF(b.left + b.width, b.top + b.height)))
        whole = QRectF(to_widget(QPointF(0, 0)), to_widget(QPointF(*self._size)))
        shade = theme.colour("ground", 150)
        for part in (
            QRectF(whole.topLeft(), QPointF(whole.right(), box.top())),
            QRectF(QPointF(whole.left(), box.bottom()), whole.bottomRight()),
            QRectF(QPointF(whole.left(), box.top()), box.bottomLeft()),
            QRectF(box.topRight(), QPointF(whole.right(), box.bottom())),
        ):
            painter.fillRect(part, shade)
        painter.setPen(QPen(theme.colour("text", 120), 1))
        for share in (1 / 3, 2 / 3):
            x, y = box.left() + share * box.width(), box.top() + share * box.height()
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
        for pen in (QPen(theme.colour("ground", 200), 4), QPen(theme.colour("accent"), 2)):
            painter.setPen(pen)
            painter.drawRect(box)
        middle = box.center()
        for x in (box.left(), middle.x(), box.right()):
            for y in (box.top(), middle.y(), box.bottom()):
                if (x, y) != (middle.x(), middle.y()):
                    painter.fillRect(QRectF(x - 4, y - 4, 8, 8), theme.colour("accent"))
