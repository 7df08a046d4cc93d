"""A tone curve whose points are dragged, or moved by keys."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme

Points = tuple[tuple[float, float], ...]

#: A point is grabbed from so near, and two of them keep so far apart.
_GRAB_PX, _APART = 11.0, 0.01
_EDGE_PX, _HIGH_PX = 7, 150
_STEP, _LARGE = 0.01, 0.05


class CurveEdit(QWidget):
    """Points from (0, 0) to (1, 1) of input and output; ``trying`` gets them while one is dragged, ``taken`` at the end.

    A click beside a point makes one; Delete or a double click takes one away, the first and last stay. By keys: Left and Right
    choose a point, with Ctrl all four arrows move it (with Shift five times as far), Insert makes one after it.
    """

    def __init__(self, trying: Callable[[Points], None], taken: Callable[[Points], None]) -> None:
        super().__init__()
        self._trying, self._taken = trying, taken
        self.points: Points = ((0.0, 0.0), (1.0, 1.0))
        self._at = 0
        self._held = False
        self._drawn: Callable[[np.ndarray], np.ndarray] = lambda x: x
        self.setAccessibleName("Tone curve")
        self.setAccessibleDescription(
            "Left and Right choose a point, with Ctrl arrows move it, Insert makes one, Delete takes it away"
        )
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setObjectName("finish-curve")

    def sizeHint(self) -> QSize:
        """A little higher than a slider row."""
        return QSize(180, theme.scaled(_HIGH_PX))

    def minimumSizeHint(self) -> QSize:
        """It keeps its height."""
        return QSize(120, theme.scaled(_HIGH_PX))

    def show_points(self, points: Sequence[tuple[float, float]], drawn: Callable[[np.ndarray], np.ndarray]) -> None:
        """Show the points of the recipe, unless a hand is at one; ``drawn`` is the curve through them, (n,) to (n,)."""
        if not self._held:
            self.points, self._drawn = tuple(points), drawn
            self._at = min(self._at, len(self.points) - 1)
            self.update()

    def show_curve(self, drawn: Callable[[np.ndarray], np.ndarray]) -> None:
        """The curve through the points as they are dragged."""
        self._drawn = drawn
        self.update()

    def _box(self) -> QRectF:
        return QRectF(_EDGE_PX, _EDGE_PX, self.width() - 2 * _EDGE_PX, self.height() - 2 * _EDGE_PX)

    def _on_widget(self, x: float, y: float) -> QPointF:
        box = self._box()
        return QPointF(box.left() + x * box.width(), box.bottom() - y * box.height())

    def _on_curve(self, pos: QPointF) -> tuple[float, float]:
        box = self._box()
        x, y = (pos.x() - box.left()) / box.width(), (box.bottom() - pos.y()) / box.height()
        return min(max(x, 0.0), 1.0), min(max(y, 0.0), 1.0)

    def _near(self, pos: QPointF) -> int | None:
        far = [(self._on_widget(*p) - pos).manhattanLength() for p in self.points]
        at = int(np.argmin(far))
        return at if far[at] < 1.5 * _GRAB_PX else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        at = self._near(event.position())
        if at is None:
            at = self._insert(*self._on_curve(event.position()))
        if at is not None:
            self._at, self._held = at, True
            self._move_to(*self._on_curve(event.position()))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        # a pointer that only passes by has no button down
        if event is not None and self._held and event.buttons() & Qt.MouseButton.LeftButton:
            self._move_to(*self._on_curve(event.position()))
            self._trying(self.points)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._held:
            self._held = False
            self._taken(self.points)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and (at := self._near(event.position())) is not None:
            self._at = at
            self._remove()

    def _insert(self, x: float, y: float) -> int | None:
        at = sum(p[0] < x for p in self.points)
        if any(abs(p[0] - x) < 2 * _APART for p in self.points):
            return None
        self.points = (*self.points[:at], (round(x, 4), round(y, 4)), *self.points[at:])
        return at

    def _remove(self) -> None:
        if 0 < self._at < len(self.points) - 1:
            self.points = (*self.points[: self._at], *self.points[self._at + 1 :])
            self._held = False
            self._taken(self.points)

    def _move_to(self, x: float, y: float) -> None:
        """Move the point in hand, no nearer to its neighbours than is told apart."""
        low = self.points[self._at - 1][0] + _APART if self._at else 0.0
        high = self.points[self._at + 1][0] - _APART if self._at < len(self.points) - 1 else 1.0
        x, y = min(max(x, low), high), min(max(y, 0.0), 1.0)
        self.points = (*self.points[: self._at], (round(x, 4), round(y, 4)), *self.points[self._at + 1 :])
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        ways = {
            Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1),
        }  # fmt: skip
        way = ways.get(Qt.Key(event.key()))
        if way and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            by = _LARGE if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else _STEP
            x, y = self.points[self._at]
            self._move_to(x + way[0] * by, y + way[1] * by)
            self._taken(self.points)
        elif way and way[0]:
            self._at = min(max(self._at + way[0], 0), len(self.points) - 1)
            self.update()
        elif event.key() == Qt.Key.Key_Insert:
            other = min(self._at + 1, len(self.points) - 1)
            (x0, y0), (x1, y1) = self.points[other - 1], self.points[other]
            if (at := self._insert((x0 + x1) / 2, (y0 + y1) / 2)) is not None:
                self._at = at
                self._taken(self.points)
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self._remove()
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("ground"))
        painter.setPen(QPen(theme.colour("line"), 1))
        for share in (0.0, 0.25, 0.5, 0.75, 1.0):
            painter.drawLine(self._on_widget(share, 0), self._on_widget(share, 1))
            painter.drawLine(self._on_widget(0, share), self._on_widget(1, share))
        x = np.linspace(0, 1, 129)
        y = np.clip(self._drawn(x), 0, 1)
        painter.setPen(QPen(theme.colour("text"), 1.6))
        painter.drawPolyline(QPolygonF([self._on_widget(float(a), float(b)) for a, b in zip(x, y)]))
        for k, point in enumerate(self.points):
            present = k == self._at and self.hasFocus()
            painter.setPen(QPen(theme.colour("ground"), 1))
            painter.setBrush(theme.colour("accent" if present else "text"))
            side = 9.0 if present else 7.0
            middle = self._on_widget(*point)
            painter.drawRect(QRectF(middle.x() - side / 2, middle.y() - side / 2, side, side))
        painter.end()
