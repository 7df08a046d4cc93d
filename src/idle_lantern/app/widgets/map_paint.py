"""How the map is painted: ground, field, frames, links, order, light and marks, on whichever form it has."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, QSizeF, Qt
from PyQt6.QtGui import QBrush, QImage, QPainter, QPainterPath, QPen, QPolygonF

from idle_lantern.app import theme
from idle_lantern.app.state import AppState
from idle_lantern.app.widgets.map_forms import Form, Unrolled, drawn
from idle_lantern.app.widgets.map_shapes import JoinOnMap
from idle_lantern.core.base import units
from idle_lantern.core.plan.brief import Mark
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.sun import SunPosition, day
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.shoot.guide import FrameState

#: From so many frames on, outlines are drawn thin and plain: the map must follow the hand.
_MANY = 60
#: Up to so many frames the order of shooting is drawn as a path.
_MOST_STEPS = 150
#: Edges of the field are bent lines on the closed forms: drawn in steps of so many degrees.
_STEP_DEG = 3.0
#: Signs of marks by what they stand for; a thing is told by its name alone.
MARK_SIGNS = {"thing": "", "subject": "◎ ", "nearest": "▾ ", "whole": "▣ ", "bare": "○ "}


class TakenPlaces:
    """Rectangles that words take, asked quickly: by the cells of a coarse grid that they touch."""

    _CELL = 48

    def __init__(self) -> None:
        self._cells: dict[tuple[int, int], list[QRectF]] = {}

    def _touched(self, box: QRectF) -> list[tuple[int, int]]:
        columns = range(int(box.left() // self._CELL), int(box.right() // self._CELL) + 1)
        rows = range(int(box.top() // self._CELL), int(box.bottom() // self._CELL) + 1)
        return [(column, row) for column in columns for row in rows]

    def is_free(self, box: QRectF) -> bool:
        """Whether nothing stands there."""
        return not any(box.intersects(other) for cell in self._touched(box) for other in self._cells.get(cell, ()))

    def take(self, box: QRectF) -> None:
        """Let words stand there."""
        for cell in self._touched(box):
            self._cells.setdefault(cell, []).append(box)


@dataclass(frozen=True)
class MapContent:
    """What one painting of the map shows."""

    state: AppState
    size: QSize
    #: Outlines of the planned frames, in degrees.
    shapes: Sequence[QPolygonF]
    #: Planned frames that the present picture is made of.
    used: set[int]
    image: QImage | None
    scouted: QImage | None
    editable: bool
    #: Place of the chosen mark in the list.
    chosen_mark: int | None
    #: What a join found, where it is shown; links only when asked for.
    join: JoinOnMap | None
    show_links: bool
    #: Whether a hand drags something on it just now.
    dragged: bool = False


class MapPaint:
    """One painting of the map."""

    def __init__(self, shown: MapContent, painter: QPainter, form: Form) -> None:
        self.shown, self.state, self.painter, self.form = shown, shown.state, painter, form
        self.strip = isinstance(form, Unrolled) and form.strip
        #: Where words stand already, which no other word may cover.
        self._taken = TakenPlaces()

    def all(self) -> None:
        """Everything, from the ground up."""
        shown, painter, box = self.shown, self.painter, QRectF(QPointF(), QSizeF(self.shown.size))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(box, theme.colour("ground"))
        clip = QPainterPath()
        for part in self.form.outline:
            if isinstance(part, QRectF):
                clip.addRect(part)
            else:
                clip.addPolygon(part)
        painter.setClipPath(clip)
        painter.fillPath(clip, theme.colour("panel"))
        if self.strip:
            if shown.join is not None:
                self._join(shown.join)
            self._frames()
            self._numbers()
        else:
            self._sphere(shown)
        painter.setClipping(False)

    def _sphere(self, shown: MapContent) -> None:
        """All that lies on a map which is no strip."""
        painter = self.painter
        if shown.scouted is not None:
            painter.setOpacity(0.55 if shown.image is not None else 1.0)
            self._picture(shown.scouted)
            painter.setOpacity(1.0)
        self._ground()
        if shown.image is not None:
            self._picture(shown.image)
        if self.state.outing.shows_plan:
            self._target_field()
        if shown.join is not None:  # below the frames, so that numbers stay readable
            self._join(shown.join)
        self._frames()
        if shown.editable:
            self._order()
            self._light()
        self._marks()
        self._numbers()

    def _outline(self, shape: QPolygonF) -> None:
        """An area with the brush of the painter, its rim with the pen."""
        painter, pen = self.painter, self.painter.pen()
        _shape, areas, rims = drawn(self.form, shape)
        if not rims:
            for area in areas:
                painter.drawPolygon(area)
            return
        if painter.brush().style() != Qt.BrushStyle.NoBrush:
            painter.setPen(Qt.PenStyle.NoPen)
            for area in areas:
                painter.drawPolygon(area)
            painter.setPen(pen)
        if pen.style() != Qt.PenStyle.NoPen:
            for rim in rims:
                painter.drawPolyline(rim)

    def _picture(self, picture: QImage) -> None:
        self.painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        for target, image in self.form.image(picture, picture.cacheKey()):
            self.painter.drawImage(target, image)

    def _line(self, angles: list[tuple[float, float]]) -> None:
        for piece in self.form.path(angles):
            self.painter.drawPolyline(piece)

    def _ground(self) -> None:
        if isinstance(self.form, Unrolled):
            self._scale(self.form)
            return
        painter = self.painter
        painter.setFont(theme.font(theme.SMALL))
        for azimuth in range(-180, 180, 30):
            painter.setPen(QPen(theme.colour("raised"), 1))
            self._line([(azimuth, a) for a in range(-90, 91, 6)])
            place = self.form.point(azimuth, 1.0)
            if place is not None:
                painter.setPen(theme.colour("dim"))
                painter.drawText(place, units.angle(azimuth, 0))
        for altitude in (-60, -30, 0, 30, 60):
            painter.setPen(QPen(theme.colour("raised" if altitude else "dim"), 1))
            self._line([(a, altitude) for a in range(-180, 181, 6)])

    def _scale(self, form: Unrolled) -> None:
        painter, turn, t = self.painter, form.turn, form.transform
        height, width = self.shown.size.height(), self.shown.size.width()
        left, right = (t.inverted()[0].map(p).x() for p in (turn.topLeft(), turn.topRight()))
        step = next((s for s in (1, 2, 5, 10, 15, 30, 45, 90) if s * t.m11() > 54), 90)
        painter.setFont(theme.font(theme.SMALL))
        covered = self.shown.scouted is not None
        for azimuth in range(math.floor(left / step) * step, int(right) + step, step):
            x = t.map(QPointF(azimuth, 0)).x()
            painter.setPen(QPen(theme.colour("raised", 90 if covered else 255), 1))
            painter.drawLine(QPointF(x, 0), QPointF(x, height - 18))
            if not turn.left() + 24 < x < turn.right() - 24:
                continue  # a number cut in half says less than none
            box = QRectF(x - 24, height - 18, 48, 16)
            if covered:
                painter.fillRect(box, theme.colour("ground", 170))
            painter.setPen(theme.colour("text" if covered else "dim"))
            shown = (azimuth + 180) % 360 - 180
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, units.angle(shown, 0))
        horizon = t.map(QPointF(0, 0)).y()
        painter.setPen(QPen(theme.colour("dim"), 1))
        painter.drawLine(QPointF(0, horizon), QPointF(width, horizon))
        if 14 < horizon < height - 20:
            self._label(QPointF(turn.left() + 6, horizon - 4), "horizon", plain=not covered)

    def _target_field(self) -> None:
        painter, w = self.painter, self.state.plan.target_field
        lines = edges(w, self.form)
        if isinstance(self.form, Unrolled):
            box = self.form.transform.mapRect(QRectF(w.left_deg, w.low_deg, w.sweep_deg, w.high_deg - w.low_deg))
            if self.shown.image is None and self.shown.scouted is None:
                painter.fillRect(box, theme.colour("raised", 150))
        for tone, width in (("ground", 3.6), ("text", 1.4)) if self.shown.scouted is not None else (("text", 1.4),):
            painter.setPen(QPen(theme.colour(tone, 170 if tone == "ground" else 255), width, Qt.PenStyle.DashDotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for pieces in lines.values():
                for piece in pieces:
                    painter.drawPolyline(piece)
        if self.shown.editable:
            for name, pieces in lines.items():
                if not pieces:
                    continue
                middle = (
                    pieces[0][pieces[0].count() // 2] if pieces[0].count() > 2 else (pieces[0][0] + pieces[0][1]) / 2
                )
                size = (26, 5) if name in ("low", "high") else (5, 26)
                grip = QRectF(middle.x() - size[0] / 2, middle.y() - size[1] / 2, *size)
                painter.setPen(QPen(theme.colour("ground"), 1))
                painter.setBrush(theme.colour("text"))
                painter.drawRoundedRect(grip, 2, 2)

    def _frames(self) -> None:
        painter, shapes = self.painter, self.shown.shapes
        states = self.state.guide.states
        used = self.shown.used
        many = len(shapes) > _MANY
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, not many)
        painter.setFont(theme.font(theme.SMALL))
        styles = {(state, u): self._style(state, u, many) for state in FrameState for u in (True, False)}
        chosen: list[QPolygonF] = []
        for frame, shape, state in zip(self.state.shown_frames, shapes, states):
            pen, brush = styles[state, frame.number in used]
            painter.setPen(pen)
            painter.setBrush(brush)
            self._outline(shape)
            if frame.number == self.state.selected:
                chosen.append(shape)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        # a dark rim under a thick light line: the accent is kept for the frame that is shot next
        for tone, width in (("ground", 6), ("text", 3)):
            painter.setPen(QPen(theme.colour(tone), width))
            for shape in chosen:
                self._outline(shape)

    def _join(self, join: JoinOnMap) -> None:
        """Frames brought in, dotted where nothing ties them; links, thick where many points agree, dashed where few do."""
        painter = self.painter
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for shapes, style in ((join.shapes, Qt.PenStyle.SolidLine), (join.loose, Qt.PenStyle.DotLine)):
            painter.setPen(QPen(theme.colour("text", 200), 1.2, style))
            for shape in shapes:
                self._outline(shape)
        for shape, _where in join.missing:
            painter.setBrush(QBrush(theme.colour("warn", 160), Qt.BrushStyle.BDiagPattern))
            painter.setPen(QPen(theme.colour("warn"), 1.6, Qt.PenStyle.DashLine))
            self._outline(shape)
            for hole in self.form.polygons(shape):
                self._label(hole.boundingRect().center() - QPointF(22, -5), "missing")
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QBrush(theme.colour("ground", 200), Qt.BrushStyle.Dense6Pattern))
        for shape in join.unseen:
            self._outline(shape)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for a, b, quality in join.links if self.shown.show_links else ():
            style = Qt.PenStyle.SolidLine if quality > 0.3 else Qt.PenStyle.DashLine
            for tone, more in (("ground", 2.0), ("accent", 0.0)):
                painter.setPen(QPen(theme.colour(tone, 230), 1.0 + 3 * quality + more, style))
                self._line([(a.x(), a.y()), (b.x(), b.y())])

    def _order(self) -> None:
        """The way from frame to frame, with an arrow head at each step's end."""
        frames = self.state.plan.frames
        if len(frames) > _MOST_STEPS or self.state.plan.rig.motion != "turn":
            return
        # many frames: the way stays visible but no longer covers the grid
        self.painter.setPen(QPen(theme.colour("text", 150 if len(frames) <= 40 else 80), 1.3))
        for a, b in zip(frames, frames[1:]):
            for piece in self.form.path([(a.yaw_deg, a.pitch_deg), (b.yaw_deg, b.pitch_deg)]):
                self._step(piece[0], piece[piece.count() - 1])

    def _step(self, a: QPointF, b: QPointF) -> None:
        length = math.hypot(b.x() - a.x(), b.y() - a.y())
        if length < 24:
            return
        ux, uy = (b.x() - a.x()) / length, (b.y() - a.y()) / length
        # kept clear of the numbers
        a, b = a + QPointF(ux, uy) * 15, b - QPointF(ux, uy) * 15
        self.painter.drawLine(a, b)
        if length > 44:
            for side in (-1, 1):
                self.painter.drawLine(b, b - QPointF(ux * 6 - side * uy * 3.5, uy * 6 + side * ux * 3.5))

    def _light(self) -> None:
        """Where the sun stands at the start, and its way through the day."""
        site = self.state.plan.brief.site
        self.painter.setPen(QPen(theme.colour("warn", 150), 1.2, Qt.PenStyle.DotLine))
        before: tuple[float, float] | None = None
        for position in day(site).sun:
            at = (site.yaw_of(position.bearing_deg), position.altitude_deg)
            if before is not None and position.altitude_deg > -1:
                one, two = self.form.point(*before), self.form.point(*at)
                if one is not None and two is not None and abs(one.x() - two.x()) < 90 * self.form.px_per_deg:
                    self.painter.drawLine(one, two)
            before = at
        begin = site.begin
        moon = day(site).moon[min(144, round((begin.hour * 60 + begin.minute) / 10))]
        self._body(moon, "moon", QBrush(Qt.BrushStyle.NoBrush))
        self._body(self.state.plan.sun, f"sun {site.start}", QBrush(theme.colour("warn")))

    def _body(self, at: SunPosition, name: str, fill: QBrush) -> None:
        """The sun full, the moon as a ring, while above the horizon."""
        place = self.form.point(self.state.plan.brief.site.yaw_of(at.bearing_deg), at.altitude_deg)
        if at.altitude_deg < -1 or place is None:
            return
        self.painter.setBrush(fill)
        for tone, width in (("ground", 4.0), ("warn", 1.6)):
            self.painter.setPen(QPen(theme.colour(tone), width))
            self.painter.drawEllipse(place, 8, 8)
        self._taken.take(QRectF(place.x() - 9, place.y() - 9, 18, 18))
        self._label(place + QPointF(12, 4), name)

    def _marks(self) -> None:
        for at, mark in enumerate(self.state.plan.brief.scene.marks):
            place = self.form.point(mark.yaw_deg, mark.pitch_deg)
            if place is not None:
                self._mark(place, mark, chosen=at == self.shown.chosen_mark)

    def _mark(self, at: QPointF, mark: Mark, *, chosen: bool) -> None:
        """A bracket as wide as the thing; what must be held whole is framed."""
        painter, half = self.painter, mark.width_deg / 2 * self.form.px_per_deg
        up = mark.tall_deg / 2 * self.form.px_per_deg
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for tone, width in (("ground", 5.0), ("accent" if chosen else "text", 2.0)):
            painter.setPen(QPen(theme.colour(tone), width))
            if mark.role in ("whole", "subject"):
                painter.drawRect(QRectF(at.x() - half, at.y() - up, 2 * half, 2 * up))
                continue
            if mark.role == "bare":
                painter.setPen(QPen(theme.colour(tone), width, Qt.PenStyle.DotLine))
            painter.drawLine(at - QPointF(half, 0), at + QPointF(half, 0))
            for end in (-half, half):
                painter.drawLine(at + QPointF(end, -5), at + QPointF(end, 5))
        top = up if mark.role in ("whole", "subject") else 0.0
        self._label(at + QPointF(half + 6, 4 - top + 8 * bool(top)), MARK_SIGNS[mark.role] + mark.name)

    def _label(self, at: QPointF, text: str, *, plain: bool = False) -> None:
        painter = self.painter
        painter.setFont(theme.font(theme.SMALL))
        metrics = painter.fontMetrics()
        box = QRectF(
            at.x() - 3, at.y() - metrics.ascent() - 1, metrics.horizontalAdvance(text) + 6, metrics.height() + 2
        )
        box = self._free(box) or box
        if not plain:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("ground", 190))
            painter.drawRoundedRect(box, 3, 3)
        painter.setPen(theme.colour("dim" if plain else "text"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def _style(self, state: FrameState, used: bool, many: bool) -> tuple[QPen, QBrush]:
        line = theme.colour("text", 200)
        plain = theme.colour("text", 16)
        if state is FrameState.NEXT:
            return QPen(theme.colour("accent"), 2.6), QBrush(theme.colour("accent", 40))
        if state is FrameState.SHOT:
            if self.shown.image is not None:
                return QPen(line, 1.0 if used else 1.4), QBrush(Qt.BrushStyle.NoBrush)
            return QPen(line, 1.4), QBrush(theme.colour("text", 70), Qt.BrushStyle.BDiagPattern)
        if state is FrameState.SKIPPED:
            return QPen(theme.colour("dim"), 1.2, Qt.PenStyle.DotLine), QBrush(
                theme.colour("dim", 60), Qt.BrushStyle.DiagCrossPattern
            )
        if many:
            return QPen(theme.colour("text", 90), 0), QBrush(plain)
        return QPen(line, 1.2, Qt.PenStyle.DashLine), QBrush(plain)

    def _numbers(self) -> None:
        """A number on every frame that has room for it: first the chosen and the next one, then ends of rows, then the rest."""
        states, chosen = self.state.guide.states, self.state.selected
        known = list(zip(self.state.shown_frames, states))
        rows = [frame.row for frame, _state in known]
        ends = [i in (0, len(rows) - 1) or rows[i - 1] != row or rows[i + 1] != row for i, row in enumerate(rows)]
        order = sorted(
            range(len(known)),
            key=lambda i: (known[i][0].number != chosen, known[i][1] is not FrameState.NEXT, not ends[i]),
        )
        many = len(known) > _MANY
        if many and self.shown.dragged:
            return  # the map must follow the hand
        self._behind, self._plain, self._next = (
            theme.colour("ground", 190),
            theme.colour("text"),
            theme.colour("accent"),
        )
        self.painter.setFont(theme.font(theme.TINY if many or self.strip else theme.SMALL, bold=self.strip))
        for i in order:
            self._number(*known[i], sign=not many)

    def _number(self, frame: GridFrame, state: FrameState, *, sign: bool) -> None:
        painter, middle = self.painter, self.form.point(frame.yaw_deg, frame.pitch_deg)
        if middle is None:
            return
        told = {FrameState.SHOT: "■", FrameState.NEXT: "▶", FrameState.SKIPPED: "×", FrameState.PLANNED: ""}[state]
        text = f"{told if sign else ''}{frame.number}"
        metrics = painter.fontMetrics()
        wide, high = metrics.horizontalAdvance(text) + 8, metrics.height() + 2
        box = self._free(QRectF(middle.x() - wide / 2, middle.y() - high / 2, wide, high))
        if box is None:
            return
        painter.fillRect(box, self._behind)
        painter.setPen(self._next if state is FrameState.NEXT else self._plain)
        painter.drawText(QPointF(box.left() + 4, box.top() + 1 + metrics.ascent()), text)

    def _free(self, box: QRectF) -> QRectF | None:
        """The place for words, moved a line up or down where others stand there, which it then takes; None where all are taken."""
        high = box.height()
        for lines in (0, 1, -1) if not self.strip else (0,):
            moved = box.translated(0, lines * high)
            if self._taken.is_free(moved):
                self._taken.take(moved)
                return moved
        return None


def edges(w: TargetField, form: Form) -> dict[str, list[QPolygonF]]:
    """The edges of the wanted field as lines on the widget."""
    if isinstance(form, Unrolled):
        corner = {
            "left": ((w.left_deg, w.low_deg), (w.left_deg, w.high_deg)),
            "right": ((w.right_deg, w.low_deg), (w.right_deg, w.high_deg)),
            "low": ((w.left_deg, w.low_deg), (w.right_deg, w.low_deg)),
            "high": ((w.left_deg, w.high_deg), (w.right_deg, w.high_deg)),
        }
        return {
            k: [QPolygonF([form.transform.map(QPointF(*a)), form.transform.map(QPointF(*b))])]
            for k, (a, b) in corner.items()
        }
    across = [w.left_deg + _STEP_DEG * i for i in range(int(w.sweep_deg / _STEP_DEG) + 1)] + [w.right_deg]
    tall = w.high_deg - w.low_deg
    up = [w.low_deg + _STEP_DEG * i for i in range(int(tall / _STEP_DEG) + 1)] + [w.high_deg]
    return {
        "left": form.path([(w.left_deg, a) for a in up]),
        "right": form.path([(w.right_deg, a) for a in up]),
        "low": form.path([(a, w.low_deg) for a in across]),
        "high": form.path([(a, w.high_deg) for a in across]),
    }
