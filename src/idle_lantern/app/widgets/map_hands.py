"""What lies under the pointer on the map, and the edits that dragging it makes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPolygonF

from idle_lantern.app.widgets.map_forms import Form, holds
from idle_lantern.app.widgets.map_paint import edges
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.outing import edits, scout_edits
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.plan.brief import Mark
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.target_field import TargetField

#: How near the pointer must be to an edge or a mark, and how much taller than a grip a mark is taken for.
_GRIP_PX, _TALL_PX = 7, 14
_EDGE_FIELDS = {"left": "left_deg", "right": "right_deg", "low": "low_deg", "high": "high_deg"}
_EDGE_NAMES = {"left": "left end", "right": "right end", "low": "lower edge", "high": "upper edge"}


def edge_at(field: TargetField, form: Form, pos: QPointF) -> str | None:
    """Which edge of the wanted field lies under the pointer: left, right, low or high."""
    for name, pieces in edges(field, form).items():
        for piece in pieces:
            points = [piece[i] for i in range(piece.count())]
            if any(_near_line(pos, a, b) <= _GRIP_PX for a, b in zip(points, points[1:])):
                return name
    return None


def mark_at(marks: Sequence[Mark], form: Form, pos: QPointF) -> int | None:
    """Which mark lies under the pointer, by its place in the list."""
    best: tuple[float, int] | None = None
    for at, mark in enumerate(marks):
        place = form.point(mark.yaw_deg, mark.pitch_deg)
        if place is not None:
            off = pos - place
            reach = max(_GRIP_PX, mark.width_deg / 2 * form.px_per_deg)
            if abs(off.x()) <= reach and abs(off.y()) <= max(_GRIP_PX, min(reach, _TALL_PX)):
                best = min(best or (math.inf, at), (math.hypot(off.x(), off.y()), at))
    return best[1] if best else None


def frame_at(frames: Sequence[GridFrame], shapes: Sequence[QPolygonF], form: Form, pos: QPointF) -> int | None:
    """Number of the frame whose middle is nearest among those under the pointer."""
    at = form.angles(pos)
    if at is None:
        return None
    under = [frame for frame, shape in zip(frames, shapes) if holds(shape, *at)]
    if not under:
        return None
    rays = direction(*np.radians([(f.yaw_deg, f.pitch_deg) for f in under]).T)
    return under[int(np.argmax(rays @ direction(*np.radians(at))))].number


def mark_moved(marks: Sequence[Mark], which: int, at: tuple[float, float]) -> Edit:
    """The edit that puts a mark at a direction (azimuth, altitude) in degrees."""
    mark = marks[which]
    yaw = (round(at[0] * 10) / 10 + 180) % 360 - 180
    moved = replace(mark, yaw_deg=yaw, pitch_deg=round(at[1] * 10) / 10)
    return scout_edits.set_marks(
        f"Move the mark {mark.name}", (*marks[:which], moved, *marks[which + 1 :]), merge=f"mark-{which}"
    )


def edge_moved(field: TargetField, edge: str, at: tuple[float, float]) -> Edit:
    """The edit that puts an edge of the wanted field through a direction, a degree from the opposite one at least."""
    value = round((at[0] if edge in ("left", "right") else at[1]) * 2) / 2
    if edge in ("left", "right"):  # forms that close give the azimuth of any turn
        now = field.left_deg if edge == "left" else field.right_deg
        value += 360 * round((now - value) / 360)
    if edge == "left":
        value = min(max(value, field.right_deg - 360), field.right_deg - 1)
    elif edge == "right":
        value = max(min(value, field.left_deg + 360), field.left_deg + 1)
    elif edge == "low":
        value = max(-90.0, min(value, field.high_deg - 1))
    else:
        value = min(90.0, max(value, field.low_deg + 1))
    return edits.set_target_field(f"Move the {_EDGE_NAMES[edge]}", merge=f"drag-{edge}", **{_EDGE_FIELDS[edge]: value})


def cursor_for(edge: str | None, *, mark: bool, ground: bool) -> Qt.CursorShape:
    """What the pointer looks like over them; ``ground`` while the scouting picture is what the hand moves."""
    if ground:
        return Qt.CursorShape.OpenHandCursor
    if mark:
        return Qt.CursorShape.SizeAllCursor
    if edge is None:
        return Qt.CursorShape.ArrowCursor
    return Qt.CursorShape.SizeHorCursor if edge in ("left", "right") else Qt.CursorShape.SizeVerCursor


def _near_line(at: QPointF, a: QPointF, b: QPointF) -> float:
    """Distance of a place from a stretch of line, in pixels."""
    along, off = b - a, at - a
    length2 = max(1e-9, along.x() ** 2 + along.y() ** 2)
    t = max(0.0, min(1.0, (off.x() * along.x() + off.y() * along.y()) / length2))
    return math.hypot(off.x() - t * along.x(), off.y() - t * along.y())
