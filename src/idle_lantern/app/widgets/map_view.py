"""The map: the sphere round the camera, unrolled, with the frames on it through all stages.

Azimuth runs across, altitude up, both at one scale. A frame is drawn by its true
outline; its state is told by line and pattern. The wanted field can be dragged by
its edges; frames are chosen by click or arrow keys.
"""

from __future__ import annotations

import math
from typing import Any

from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QBrush,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QTransform,
)
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.app.state import AppState
from idle_lantern.app.widgets.basics import to_qimage
from idle_lantern.app.widgets.map_shapes import JoinOnMap, planned_outlines
from idle_lantern.core.base import units
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.sun import Position, day
from idle_lantern.core.shoot.guide import FrameState

Array = NDArray[Any]

_GRIP_PX = 7
#: From so many frames on, outlines are drawn thin and plain: the map must follow the hand.
_MANY = 60
#: Up to so many frames the order of shooting is drawn as a path.
_MOST_STEPS = 150
_EDGE_FIELDS = {"left": "left_deg", "right": "right_deg", "low": "low_deg", "high": "high_deg"}


class MapView(QWidget):
    """The unrolled sphere with the frames on it."""

    chosen = pyqtSignal(int)

    def __init__(self, state: AppState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.state = state
        self.setAccessibleName("Map of frames")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(110)
        self.editable = True
        self._shapes: list[QPolygonF] = []
        self._image: QImage | None = None
        self._drag: str | None = None
        self.join = JoinOnMap()
        self.show_links = self.show_found = False
        state.changed.connect(self._refresh)
        self._refresh({"plan"})

    # --- what it shows ----------------------------------------------------------

    def set_picture(self, rgba: Array | None) -> None:
        """A picture of the whole sphere to lie under the frames, (H, W, 4)."""
        self._image = None if rgba is None else to_qimage(rgba)
        self.update()

    def set_join(self, join: JoinOnMap) -> None:
        """Links and frames of a join to lie on the map."""
        self.join = join
        self.update()

    def _refresh(self, topics: set[str]) -> None:
        if "plan" in topics:
            self._shapes = planned_outlines(self.state.plan.rig, self.state.plan.frames)
        self.update()

    # --- geometry ---------------------------------------------------------------

    def to_screen(self) -> QTransform:
        """Degrees (azimuth, altitude) to widget pixels; one scale both ways."""
        target_field = self.state.plan.target_field
        bounds = QRectF(
            target_field.left_deg,
            target_field.low_deg,
            target_field.sweep_deg,
            target_field.high_deg - target_field.low_deg,
        )
        for shape in (*self._shapes, *self.join.shapes):
            box = shape.boundingRect()
            if box.width() < 350:
                shift = 360 * round((bounds.center().x() - box.center().x()) / 360)
                bounds = bounds.united(box.translated(shift, 0))
        low, high = max(-90.0, bounds.top()), min(90.0, bounds.bottom())
        left, right = bounds.left(), bounds.right()
        if target_field.full_circle:
            left, right = target_field.left_deg, target_field.right_deg
        pad_x, pad_top, pad_bottom = 26, 14, 22
        scale = min(
            (self.width() - 2 * pad_x) / max(1.0, right - left),
            (self.height() - pad_top - pad_bottom) / max(1.0, high - low),
        )
        transform = QTransform()
        transform.translate(self.width() / 2, pad_top + (self.height() - pad_top - pad_bottom) / 2)
        transform.scale(scale, -scale)
        transform.translate(-(left + right) / 2, -(low + high) / 2)
        return transform

    def _edges(self, t: QTransform) -> dict[str, tuple[QPointF, QPointF]]:
        w = self.state.plan.target_field
        corner = {
            "left": ((w.left_deg, w.low_deg), (w.left_deg, w.high_deg)),
            "right": ((w.right_deg, w.low_deg), (w.right_deg, w.high_deg)),
            "low": ((w.left_deg, w.low_deg), (w.right_deg, w.low_deg)),
            "high": ((w.left_deg, w.high_deg), (w.right_deg, w.high_deg)),
        }
        return {k: (t.map(QPointF(*a)), t.map(QPointF(*b))) for k, (a, b) in corner.items()}

    def edge_at(self, pos: QPointF) -> str | None:
        """Which edge of the wanted field lies under the pointer."""
        if not self.editable:
            return None
        for name, (a, b) in self._edges(self.to_screen()).items():
            box = QRectF(a, b).normalized().adjusted(-_GRIP_PX, -_GRIP_PX, _GRIP_PX, _GRIP_PX)
            if box.contains(pos):
                return name
        return None

    def frame_at(self, pos: QPointF) -> int | None:
        """Number of the frame whose middle is nearest among those under the pointer."""
        inverse, _ = self.to_screen().inverted()
        at = inverse.map(pos)
        best, number = math.inf, None
        for frame, shape in zip(self.state.plan.frames, self._shapes):
            for turn in (-360, 0, 360):
                if shape.containsPoint(at + QPointF(turn, 0), Qt.FillRule.OddEvenFill):
                    d = math.hypot((at.x() + turn - frame.yaw_deg), at.y() - frame.pitch_deg)
                    if d < best:
                        best, number = d, frame.number
        return number

    # --- painting ---------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("ground"))
        t = self.to_screen()
        turn = self._one_turn(t)
        painter.setClipRect(turn)
        painter.fillRect(turn, theme.colour("panel"))
        self._paint_ground(painter, t, turn)
        if self._image is not None:
            target = t.mapRect(QRectF(-180, -90, 360, 180))
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            for k in (-360, 0, 360):
                painter.drawImage(target.translated(k * t.m11(), 0), self._image)
        self._paint_target_field(painter, t)
        if self.show_found:  # below the frames, so that numbers stay readable
            self._paint_join(painter, t)
        self._paint_frames(painter, t)
        if self.editable:
            self._paint_order(painter, t)
            self._paint_light(painter, t)
        self._paint_marks(painter, t)
        painter.setClipping(False)
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("accent"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(1, 1, -1, -1))
        painter.end()

    def _one_turn(self, t: QTransform) -> QRectF:
        """The part of the widget that shows one full turn about the field's middle, never anything twice."""
        w = self.state.plan.target_field
        middle = (w.left_deg + w.right_deg) / 2
        left, right = t.map(QPointF(middle - 180, 0)).x(), t.map(QPointF(middle + 180, 0)).x()
        return QRectF(max(0.0, left), 0, min(self.width(), right) - max(0.0, left), self.height())

    def _paint_ground(self, painter: QPainter, t: QTransform, turn: QRectF) -> None:
        inverse, _ = t.inverted()
        left, right = inverse.map(turn.topLeft()).x(), inverse.map(turn.topRight()).x()
        step = next(s for s in (5, 10, 15, 30, 45, 90) if s * t.m11() > 54 or s == 90)
        painter.setFont(theme.font(theme.SMALL))
        for azimuth in range(math.floor(left / step) * step, int(right) + step, step):
            x = t.map(QPointF(azimuth, 0)).x()
            painter.setPen(QPen(theme.colour("raised"), 1))
            painter.drawLine(QPointF(x, 0), QPointF(x, self.height() - 18))
            if not turn.left() + 24 < x < turn.right() - 24:
                continue  # a number cut in half says less than none
            painter.setPen(theme.colour("dim"))
            shown = (azimuth + 180) % 360 - 180
            painter.drawText(
                QRectF(x - 40, self.height() - 18, 80, 16), Qt.AlignmentFlag.AlignCenter, units.angle(shown, 0)
            )
        horizon = t.map(QPointF(0, 0)).y()
        painter.setPen(QPen(theme.colour("dim"), 1))
        painter.drawLine(QPointF(0, horizon), QPointF(self.width(), horizon))
        if 14 < horizon < self.height() - 20:
            painter.drawText(QPointF(turn.left() + 4, horizon - 4), "horizon")

    def _paint_target_field(self, painter: QPainter, t: QTransform) -> None:
        w = self.state.plan.target_field
        box = t.mapRect(QRectF(w.left_deg, w.low_deg, w.sweep_deg, w.high_deg - w.low_deg))
        if self._image is None:
            painter.fillRect(box, theme.colour("raised", 150))
        painter.setPen(QPen(theme.colour("text"), 1.4, Qt.PenStyle.DashDotLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(box)
        if self.editable:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("text"))
            for a, b in self._edges(t).values():
                middle = (a + b) / 2
                flat = abs(a.y() - b.y()) < 1
                size = (26, 5) if flat else (5, 26)
                painter.drawRoundedRect(QRectF(middle.x() - size[0] / 2, middle.y() - size[1] / 2, *size), 2, 2)

    def _paint_frames(self, painter: QPainter, t: QTransform) -> None:
        states = self.state.guide.states
        used = self._used_numbers()
        many = len(self._shapes) > _MANY
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, not many)
        painter.setFont(theme.font(theme.SMALL))
        styles = {(state, u): self._style(state, u, many) for state in FrameState for u in (True, False)}
        chosen: list[QPolygonF] = []
        for frame, shape, state in zip(self.state.plan.frames, self._shapes, states):
            drawn = t.map(shape)
            pen, brush = styles[state, frame.number in used]
            painter.setPen(pen)
            painter.setBrush(brush)
            for turn in self._turns(shape):
                moved = drawn.translated(turn * t.m11(), 0) if turn else drawn
                painter.drawPolygon(moved)
                if frame.number == self.state.selected:
                    chosen.append(moved)
                if not many:
                    self._paint_number(painter, moved, frame, state)
                    painter.setPen(pen)
                    painter.setBrush(brush)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        # a dark rim under a thick light line: the accent is kept for the frame that is shot next
        for tone, width in (("ground", 6), ("text", 3)):
            painter.setPen(QPen(theme.colour(tone), width))
            for shape in chosen:
                painter.drawPolygon(shape)

    def _paint_join(self, painter: QPainter, t: QTransform) -> None:
        """Frames brought in, dotted where nothing ties them; links, thick where many points agree, dashed where few do."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for shapes, style in ((self.join.shapes, Qt.PenStyle.SolidLine), (self.join.loose, Qt.PenStyle.DotLine)):
            painter.setPen(QPen(theme.colour("text", 200), 1.2, style))
            for shape in shapes:
                for turn in self._turns(shape):
                    painter.drawPolygon(t.map(shape.translated(turn, 0)))
        painter.setFont(theme.font(theme.SMALL))
        for shape, _where in self.join.missing:
            for turn in self._turns(shape):
                hole = t.map(shape.translated(turn, 0))
                painter.setBrush(QBrush(theme.colour("warn", 160), Qt.BrushStyle.BDiagPattern))
                painter.setPen(QPen(theme.colour("warn"), 1.6, Qt.PenStyle.DashLine))
                painter.drawPolygon(hole)
                self._paint_label(painter, hole.boundingRect().center() - QPointF(22, -5), "missing")
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for a, b, quality in self.join.links if self.show_links else ():
            style = Qt.PenStyle.SolidLine if quality > 0.3 else Qt.PenStyle.DashLine
            for tone, more in (("ground", 2.0), ("accent", 0.0)):
                painter.setPen(QPen(theme.colour(tone, 230), 1.0 + 3 * quality + more, style))
                painter.drawLine(t.map(a), t.map(b))

    def _paint_order(self, painter: QPainter, t: QTransform) -> None:
        """The way from frame to frame, with an arrow head at each second frame's end."""
        frames = self.state.plan.frames
        if len(frames) > _MOST_STEPS or self.state.plan.rig.motion != "turn":
            return
        # many frames: the way stays visible but no longer covers the grid
        painter.setPen(QPen(theme.colour("text", 150 if len(frames) <= 40 else 80), 1.3))
        for a, b in zip(frames, frames[1:]):
            turn = (b.yaw_deg - a.yaw_deg + 180) % 360 - 180
            start = QPointF(self._near_middle(a.yaw_deg), a.pitch_deg)
            self._paint_step(painter, t.map(start), t.map(QPointF(start.x() + turn, b.pitch_deg)))

    def _near_middle(self, yaw_deg: float) -> float:
        """The yaw's copy that lies nearest to the field's middle."""
        w = self.state.plan.target_field
        middle = (w.left_deg + w.right_deg) / 2
        return middle + (yaw_deg - middle + 180) % 360 - 180

    def _paint_step(self, painter: QPainter, a: QPointF, b: QPointF) -> None:
        length = math.hypot(b.x() - a.x(), b.y() - a.y())
        if length < 24:
            return
        ux, uy = (b.x() - a.x()) / length, (b.y() - a.y()) / length
        # kept clear of the numbers
        a, b = a + QPointF(ux, uy) * 15, b - QPointF(ux, uy) * 15
        painter.drawLine(a, b)
        if length > 44:
            for side in (-1, 1):
                painter.drawLine(b, b - QPointF(ux * 6 - side * uy * 3.5, uy * 6 + side * ux * 3.5))

    def _paint_light(self, painter: QPainter, t: QTransform) -> None:
        """Where the sun stands at the start, and its way through the day."""
        site = self.state.plan.brief.site
        painter.setPen(QPen(theme.colour("warn", 150), 1.2, Qt.PenStyle.DotLine))
        before: QPointF | None = None
        for position in day(site).sun:
            at = QPointF(self._near_middle(site.yaw_of(position.bearing_deg)), position.altitude_deg)
            if before is not None and position.altitude_deg > -1 and abs(at.x() - before.x()) < 90:
                painter.drawLine(t.map(before), t.map(at))
            before = at
        begin = site.begin
        moon = day(site).moon[min(144, round((begin.hour * 60 + begin.minute) / 10))]
        self._paint_body(painter, t, moon, "moon", QBrush(Qt.BrushStyle.NoBrush))
        self._paint_body(painter, t, self.state.plan.sun, f"sun {site.start}", QBrush(theme.colour("warn")))

    def _paint_body(self, painter: QPainter, t: QTransform, at: Position, name: str, fill: QBrush) -> None:
        """The sun full, the moon as a ring, while above the horizon."""
        if at.altitude_deg < -1:
            return
        yaw = self._near_middle(self.state.plan.brief.site.yaw_of(at.bearing_deg))
        place = t.map(QPointF(yaw, at.altitude_deg))
        painter.setBrush(fill)
        for tone, width in (("ground", 4.0), ("warn", 1.6)):
            painter.setPen(QPen(theme.colour(tone), width))
            painter.drawEllipse(place, 8, 8)
        self._paint_label(painter, place + QPointF(12, 4), name)

    def _paint_marks(self, painter: QPainter, t: QTransform) -> None:
        for mark in self.state.plan.brief.scene.marks:
            at = t.map(QPointF(self._near_middle(mark.yaw_deg), mark.pitch_deg))
            half = mark.width_deg / 2 * t.m11()
            painter.setPen(QPen(theme.colour("text"), 2))
            painter.drawLine(at - QPointF(half, 0), at + QPointF(half, 0))
            for end in (-half, half):
                painter.drawLine(at + QPointF(end, -5), at + QPointF(end, 5))
            self._paint_label(painter, at + QPointF(half + 4, -6), mark.name)

    def _paint_label(self, painter: QPainter, at: QPointF, text: str) -> None:
        painter.setFont(theme.font(theme.SMALL))
        box = QRectF(at.x() - 3, at.y() - 13, painter.fontMetrics().horizontalAdvance(text) + 6, 17)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ground", 190))
        painter.drawRoundedRect(box, 3, 3)
        painter.setPen(theme.colour("text"))
        painter.drawText(at, text)

    def _turns(self, shape: QPolygonF) -> list[int]:
        """Copies of a shape that may show where the map runs past a full turn."""
        w, box = self.state.plan.target_field, shape.boundingRect()
        if box.width() > 350:
            return [0] if abs((w.left_deg + w.right_deg) / 2) < 1 else [-360, 0, 360]
        shown = []
        for turn in (-720, -360, 0, 360, 720):
            if box.right() + turn > w.left_deg - 8 and box.left() + turn < w.right_deg + 8:
                shown.append(turn)
        return (
            shown
            if w.full_circle
            else shown[:1]
            if len(shown) < 2
            else [min(shown, key=lambda k: abs(box.center().x() + k - (w.left_deg + w.right_deg) / 2))]
        )

    def _style(self, state: FrameState, used: bool, many: bool) -> tuple[QPen, QBrush]:
        line = theme.colour("text", 200)
        plain = theme.colour("text", 16)
        if state is FrameState.NEXT:
            return QPen(theme.colour("accent"), 2.6), QBrush(theme.colour("accent", 40))
        if state is FrameState.SHOT:
            if self._image is not None:
                return QPen(line, 1.0 if used else 1.4), QBrush(Qt.BrushStyle.NoBrush)
            return QPen(line, 1.4), QBrush(theme.colour("text", 70), Qt.BrushStyle.BDiagPattern)
        if state is FrameState.SKIPPED:
            return QPen(theme.colour("dim"), 1.2, Qt.PenStyle.DotLine), QBrush(
                theme.colour("dim", 60), Qt.BrushStyle.DiagCrossPattern
            )
        if many:
            return QPen(theme.colour("text", 90), 0), QBrush(plain)
        return QPen(line, 1.2, Qt.PenStyle.DashLine), QBrush(plain)

    def _paint_number(self, painter: QPainter, shape: QPolygonF, frame: GridFrame, state: FrameState) -> None:
        middle = shape.boundingRect().center()
        text = str(frame.number)
        sign = {FrameState.SHOT: "■", FrameState.NEXT: "▶", FrameState.SKIPPED: "×", FrameState.PLANNED: ""}[state]
        box = QRectF(middle.x() - 24, middle.y() - 9, 48, 18)
        plate = theme.colour("ground", 190)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(plate)
        painter.drawRoundedRect(box.adjusted(6, 0, -6, 0), 3, 3)
        painter.setPen(theme.colour("accent") if state is FrameState.NEXT else theme.colour("text"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, f"{sign}{text}" if sign else text)

    def _used_numbers(self) -> set[int]:
        ids = set(self.state.joined.frame_ids) if self.state.joined is not None else set()
        return {r.number for r in self.state.outing.frames if r.id in ids and r.number is not None}

    # --- hands ------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self._drag = self.edge_at(event.position())
        if self._drag is None:
            number = self.frame_at(event.position())
            self.state.select(number)
            if number is not None:
                self.chosen.emit(number)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._drag is None:
            edge = self.edge_at(event.position())
            shape = {
                "left": Qt.CursorShape.SizeHorCursor,
                "right": Qt.CursorShape.SizeHorCursor,
                "low": Qt.CursorShape.SizeVerCursor,
                "high": Qt.CursorShape.SizeVerCursor,
            }.get(edge or "", Qt.CursorShape.ArrowCursor)
            self.setCursor(shape)
            return
        inverse, _ = self._frozen().inverted()
        at = inverse.map(event.position())
        self._move_edge(self._drag, at)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._drag is not None:
            self._drag = None
            self._held = None
            self.state.history.seal()

    _held: QTransform | None = None

    def _frozen(self) -> QTransform:
        """The scale from when the drag began: a map that rescales under the hand runs away."""
        if self._held is None:
            self._held = self.to_screen()
        return self._held

    def _move_edge(self, edge: str, at: QPointF) -> None:
        w = self.state.plan.target_field
        value = round((at.x() if edge in ("left", "right") else at.y()) * 2) / 2
        if edge == "left":
            value = min(max(value, w.right_deg - 360), w.right_deg - 1)
        elif edge == "right":
            value = max(min(value, w.left_deg + 360), w.left_deg + 1)
        elif edge == "low":
            value = max(-90.0, min(value, w.high_deg - 1))
        else:
            value = min(90.0, max(value, w.low_deg + 1))
        names = {"left": "left end", "right": "right end", "low": "lower edge", "high": "upper edge"}
        self.state.apply(
            edits.set_target_field(f"Move the {names[edge]}", merge=f"drag-{edge}", **{_EDGE_FIELDS[edge]: value})
        )

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is not None and self.state.plan.frames:
            present = self.state.selected or 0
            number = min(max(1, present + step), len(self.state.plan.frames))
            self.state.select(number)
            self.chosen.emit(number)
        else:
            super().keyPressEvent(event)
