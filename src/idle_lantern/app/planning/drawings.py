"""Small drawings to scale: what a wrong pupil shows, what is sharp, how the sun goes."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QBrush, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.core.base import units
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.sun import BLUE_DEG, GOLDEN_DEG, day


class Drawing(QWidget):
    """A drawing of the plan; says in words what it shows."""

    def __init__(self, name: str, height: int = 128) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setMinimumHeight(height)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._height = height
        self._plan: Plan | None = None

    def sizeHint(self) -> QSize:
        return QSize(300, self._height)

    def show_plan(self, plan: Plan) -> None:
        """Draw another plan."""
        self._plan = plan
        self.setAccessibleDescription(self.words(plan))
        self.update()

    def words(self, plan: Plan) -> str:
        """The drawing in a sentence."""
        raise NotImplementedError

    def paint(self, p: QPainter, plan: Plan) -> None:
        """Draw."""
        raise NotImplementedError

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._plan is None:
            return
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), theme.colour("panel"))
        p.setFont(theme.font(theme.SMALL))
        self.paint(p, self._plan)
        p.end()


def _text(p: QPainter, x: float, y: float, text: str, tone: str = "dim", align: str = "left") -> None:
    p.setPen(theme.colour(tone))
    width = p.fontMetrics().horizontalAdvance(text)
    shift = {"left": 0.0, "middle": -width / 2, "right": -float(width)}[align]
    p.drawText(QPointF(x + shift, y), text)


class FieldDrawing(Drawing):
    """The wanted field as it is seen from inside: its ends and edges, one frame in it, and what two neighbours share."""

    def words(self, plan: Plan) -> str:
        w = plan.target_field
        across, up = (math.degrees(v) for v in plan.rig.lens().field_rad())
        return (
            f"The field goes from {units.angle(w.left_deg, 0)} to {units.angle(w.right_deg, 0)} and from "
            f"{units.angle(w.low_deg, 0)} to {units.angle(w.high_deg, 0)}; one frame sees {across:.0f} by {up:.0f} degrees."
        )

    def paint(self, p: QPainter, plan: Plan) -> None:
        w = plan.target_field
        across, up = (math.degrees(v) for v in plan.rig.lens().field_rad())
        frames = sorted((f for f in plan.frames if abs(f.pitch_deg) < 80), key=lambda f: (abs(f.pitch_deg), f.yaw_deg))
        # two neighbours of the row that is nearest to the horizon
        row = [f for f in frames if frames and f.pitch_deg == frames[0].pitch_deg][:2]
        left, right = min(w.left_deg, *(f.yaw_deg - across / 2 for f in row)) if row else w.left_deg, w.right_deg
        low, high = min(w.low_deg, -up / 2), max(w.high_deg, up / 2)
        room = QRectF(64, 48, self.width() - 128, self.height() - 76)
        scale = min(room.width() / max(right - left, 1.0), room.height() / max(high - low, 1.0))
        middle = QPointF((left + right) / 2, (low + high) / 2)

        def at(azimuth: float, altitude: float) -> QPointF:
            off = QPointF(azimuth - middle.x(), middle.y() - altitude) * scale
            return room.center() + off

        field = QRectF(at(w.left_deg, w.high_deg), at(w.right_deg, w.low_deg))
        p.fillRect(field, theme.colour("raised"))
        boxes = [
            QRectF(at(f.yaw_deg - across / 2, f.pitch_deg + up / 2), at(f.yaw_deg + across / 2, f.pitch_deg - up / 2))
            for f in row
        ]
        if len(boxes) == 2:
            p.fillRect(boxes[0].intersected(boxes[1]), QBrush(theme.colour("accent", 150), Qt.BrushStyle.BDiagPattern))
        for box, style in zip(boxes, (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine)):
            p.setPen(QPen(theme.colour("accent"), 1.6, style))
            p.drawRect(box)
        p.setPen(QPen(theme.colour("text"), 1.4, Qt.PenStyle.DashDotLine))
        p.drawRect(field)
        horizon = at(0, 0).y()
        p.setPen(QPen(theme.colour("dim"), 1))
        p.drawLine(QPointF(room.left() - 8, horizon), QPointF(room.right() + 8, horizon))
        _text(p, room.right() + 10, horizon + 4, "horizon")
        _text(p, field.left() - 6, field.center().y() + 16, units.angle(w.left_deg, 0), "text", "right")
        _text(p, field.right() + 6, field.center().y() + 16, units.angle(w.right_deg, 0), "text")
        _text(p, field.center().x(), min(field.top(), *(b.top() for b in boxes), room.bottom()) - 8,
              f"upper edge {units.angle(w.high_deg, 0)}", "text", "middle")  # fmt: skip
        _text(p, field.center().x(), max(field.bottom(), *(b.bottom() for b in boxes), room.top()) + 16,
              f"lower edge {units.angle(w.low_deg, 0)}", "text", "middle")  # fmt: skip
        told = f"one frame {across:.0f}° × {up:.0f}°" + (
            f", overlap {units.share(w.overlap)}" if len(boxes) == 2 else ""
        )
        _text(p, 10, 16, told, "text")


class PupilDrawing(Drawing):
    """A near upright before a far one as two neighbouring frames show them, with the axis as far off as told."""

    def words(self, plan: Plan) -> str:
        p = plan.pupil
        return (
            f"With the axis {p.off_mm:.0f} mm off, a thing {units.distance(p.near_m)} away shifts by {p.shift_px:.1f} px "
            f"between frames; up to {p.tolerance_mm:.0f} mm stay within {p.allowed_px:g} px."
        )

    def paint(self, p: QPainter, plan: Plan) -> None:
        need = plan.pupil
        # both frames side by side, enlarged so that the allowed shift is 6 pixels on screen
        enlarge = 6.0 / need.allowed_px
        shift = need.shift_px * enlarge
        w, h = self.width(), self.height()
        box_w = min(150.0, (w - 36) / 2)
        outside = shift > box_w / 2 - 14
        for k, (title, by) in enumerate((("frame 1", -0.5), ("frame 2", 0.5))):
            box = QRectF(12 + k * (box_w + 12), 22, box_w, h - 46)
            p.fillRect(box, theme.colour("ground"))
            middle = box.center().x()
            p.setPen(QPen(theme.colour("dim"), 9))
            p.drawLine(QPointF(middle, box.top() + 6), QPointF(middle, box.bottom() - 1))
            at = max(box.left() + 4, min(box.right() - 4, middle + by * shift))
            p.setPen(QPen(theme.colour("warn" if need.shift_px > need.allowed_px else "text"), 3))
            p.drawLine(QPointF(at, box.top() + 16), QPointF(at, box.bottom() - 1))
            _text(p, box.left(), 15, title)
        far = "the far upright stays, the near one shifts"
        told = f"{need.shift_px:.1f} px" + (" (beyond the drawing)" if outside else "")
        _text(p, 12, h - 8, f"{far}: {told}", "text")
        if w > 2 * box_w + 130:
            x = 2 * box_w + 40
            self._plan_view(p, plan, QRectF(x, 8, w - x - 10, h - 16))

    def _plan_view(self, p: QPainter, plan: Plan, box: QRectF) -> None:
        """From above, to scale: axis, pupil, and the tolerance round the axis."""
        need = plan.pupil
        reach_mm = max(100.0, 1.2 * abs(need.off_mm))
        scale = box.width() / (2 * reach_mm)
        middle = box.center()
        allowed = min(need.tolerance_mm, reach_mm) * scale
        p.fillRect(QRectF(middle.x() - allowed, middle.y() - 10, 2 * allowed, 20), theme.colour("accent", 70))
        p.setPen(QPen(theme.colour("dim"), 1))
        p.drawLine(QPointF(box.left(), middle.y()), QPointF(box.right(), middle.y()))
        p.setPen(QPen(theme.colour("text"), 2))
        p.drawLine(QPointF(middle.x(), middle.y() - 16), QPointF(middle.x(), middle.y() + 16))
        x = middle.x() + need.off_mm * scale
        p.setBrush(theme.colour("warn" if need.off_mm > need.tolerance_mm else "text"))
        p.setPen(Qt.PenStyle.NoPen)
        p.drawEllipse(QPointF(x, middle.y()), 5, 5)
        _text(p, middle.x(), box.top() + 12, "pupil", align="middle")
        _text(p, x, middle.y() + 32, "axis", "text", "middle")
        limit = "any place will do" if need.tolerance_mm > 1000 else f"± {need.tolerance_mm:.0f} mm allowed"
        _text(p, middle.x(), box.bottom() - 2, limit, "text", "middle")


class DepthDrawing(Drawing):
    """Distances on a scale of powers of ten: what the scene needs and what is sharp."""

    def words(self, plan: Plan) -> str:
        s = plan.sharpness
        return (
            f"Sharp from {units.distance(s.near_limit_m)} to {units.distance(s.far_limit_m)}, "
            f"focused at {units.distance(s.focus_m)}."
        )

    def paint(self, p: QPainter, plan: Plan) -> None:
        s, scene = plan.sharpness, plan.brief.scene
        w, h = self.width(), self.height()
        known = [scene.near_m, s.near_limit_m, s.focus_m, scene.subject_m]
        known += [v for v in (scene.far_m, scene.background_m, s.far_limit_m) if math.isfinite(v)]
        known = [v for v in known if v > 0]
        low = math.floor(math.log10(min(known)) * 2) / 2 - 0.1
        high = max(math.ceil(math.log10(max(known)) * 2) / 2 + 0.3, low + 1)

        def x(distance_m: float) -> float:
            if math.isinf(distance_m):
                return w - 14.0
            return 14 + (w - 44) * (math.log10(max(distance_m, 1e-3)) - low) / (high - low)

        y = h / 2
        p.fillRect(
            QRectF(x(s.near_limit_m), y - 13, x(s.far_limit_m) - x(s.near_limit_m), 26), theme.colour("accent", 90)
        )
        p.setPen(QPen(theme.colour("text"), 2))
        p.drawLine(QPointF(x(scene.near_m), y), QPointF(x(scene.far_m), y))
        for v in (scene.near_m, scene.far_m):
            p.drawLine(QPointF(x(v), y - 6), QPointF(x(v), y + 6))
        p.setPen(QPen(theme.colour("text"), 1, Qt.PenStyle.DashLine))
        p.drawLine(QPointF(x(s.focus_m), y - 26), QPointF(x(s.focus_m), y + 26))
        _text(
            p,
            x(s.focus_m),
            y - 30,
            f"focus {units.distance(s.focus_m)}",
            "text",
            "middle" if x(s.focus_m) > 60 else "left",
        )
        _text(p, max(14.0, x(s.near_limit_m)), y + 40, f"sharp from {units.distance(s.near_limit_m)}", "text")
        far = units.distance(s.far_limit_m)
        _text(p, w - 14.0, y + 40, f"to {far}", "text", "right")
        p.setPen(QPen(theme.colour("dim"), 1))
        for power in range(math.floor(low), math.ceil(high) + 1):
            at = x(10.0**power)
            if 10 < at < w - 30:
                p.drawLine(QPointF(at, h - 18), QPointF(at, h - 12))
                _text(p, at, h - 2, f"{10.0**power:g} m", align="middle")
        _text(p, w - 14.0, h - 2, "infinity", align="right")


class SunDrawing(Drawing):
    """The sun's and the moon's height through the day, the run on it, golden and blue light."""

    def words(self, plan: Plan) -> str:
        return f"The sun stands {units.angle(plan.sun.altitude_deg)} high at {plan.brief.site.start}."

    def paint(self, p: QPainter, plan: Plan) -> None:
        track = day(plan.brief.site)
        w, h = self.width(), self.height()
        left, right, top, bottom = 34.0, w - 10.0, 8.0, h - 18.0
        heights = [s.altitude_deg for s in track.sun]
        low, high = -20.0, max(30.0, max(heights) + 6)

        def at(minutes: float, altitude: float) -> QPointF:
            y = bottom - (min(max(altitude, low), high) - low) / (high - low) * (bottom - top)
            return QPointF(left + minutes / 1440 * (right - left), y)

        for (a, b), tone, alpha in ((GOLDEN_DEG, "warn", 60), (BLUE_DEG, "text", 40)):
            p.fillRect(QRectF(at(0, b), at(1440, a)), theme.colour(tone, alpha))
        begin = plan.brief.site.begin
        start = begin.hour * 60 + begin.minute
        run = max(3.0, plan.shoot_s / 60)
        p.fillRect(QRectF(at(start, high), at(min(1440, start + run), low)), theme.colour("accent", 120))
        p.setPen(QPen(theme.colour("dim"), 1))
        p.drawLine(at(0, 0), at(1440, 0))
        p.setPen(QPen(theme.colour("dim"), 1.2, Qt.PenStyle.DashLine))
        p.drawPolyline(QPolygonF([at(10 * i, m.altitude_deg) for i, m in enumerate(track.moon)]))
        p.setPen(QPen(theme.colour("text"), 2))
        p.drawPolyline(QPolygonF([at(10 * i, v) for i, v in enumerate(heights)]))
        for hour in range(0, 25, 3):
            _text(p, at(hour * 60, low).x(), h - 4, f"{hour}", align="middle")
        for altitude in range(0, int(high), 20):
            _text(p, left - 4, at(0, altitude).y() + 4, units.angle(altitude, 0), align="right")
        _text(p, right, at(0, (GOLDEN_DEG[0] + GOLDEN_DEG[1]) / 2).y() + 4, "golden", align="right")
        _text(p, right, at(0, BLUE_DEG[0] - 3).y() + 5, "blue", align="right")


class TourDrawing(Drawing):
    """The evening's scenes seen from above, north up, in the order of the walk; those without a place are left out."""

    def words(self, plan: Plan) -> str:
        placed = [v for v in plan.evening.visits if v.place_m is not None]
        if len(placed) < 2:
            return "No other scene with a place yet."
        walk = units.duration(plan.evening.walk_minutes * 60)
        return f"{len(placed)} scenes from above, {walk} of walking: {', '.join(v.name for v in placed)}."

    def paint(self, p: QPainter, plan: Plan) -> None:
        placed = [v for v in plan.evening.visits if v.place_m is not None]
        if len(placed) < 2:
            _text(
                p,
                self.width() / 2,
                self.height() / 2 + 4,
                "Name a scene with its place: it is drawn here.",
                align="middle",
            )
            return
        points = [v.place_m or (0.0, 0.0) for v in placed]
        east, north = ([q[i] for q in points] for i in (0, 1))
        pad, w, h = 26.0, self.width(), self.height()
        scale = min((w - 8 * pad) / max(1.0, max(east) - min(east)), (h - 2 * pad) / max(1.0, max(north) - min(north)))
        middle = QPointF((max(east) + min(east)) / 2, (max(north) + min(north)) / 2)

        def at(place: tuple[float, float]) -> QPointF:
            return QPointF(w / 2 + (place[0] - middle.x()) * scale, h / 2 - (place[1] - middle.y()) * scale)

        p.setPen(QPen(theme.colour("dim"), 1.4, Qt.PenStyle.DashLine))
        p.drawPolyline(QPolygonF([at(q) for q in points]))
        for number, (visit, place) in enumerate(zip(placed, points), 1):
            spot = at(place)
            p.setPen(QPen(theme.colour("ground"), 1.5))
            p.setBrush(theme.colour("text" if visit.gets else "warn"))
            p.drawEllipse(spot, 5, 5)
            _text(p, spot.x() + 9, spot.y() + 4, f"{number} {visit.name}", "text")
        step = _round_metres(90 / scale)
        p.setPen(QPen(theme.colour("dim"), 1.5))
        p.drawLine(QPointF(12, h - 10), QPointF(12 + step * scale, h - 10))
        _text(p, 16 + step * scale, h - 6, f"{step:g} m; north is up")


def _round_metres(metres: float) -> float:
    """The greatest of 1, 2, 5, 10, 20 ... that is no longer."""
    ten = 10 ** math.floor(math.log10(max(metres, 1e-3)))
    return float(max(k * ten for k in (1, 2, 5) if k * ten <= metres * (1 + 1e-9)))
