"""In what order the frames are shot, and how far the head turns for it."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from idle_lantern.core.plan.grid import renumbered
from idle_lantern.core.plan.grid_frame import GridFrame

#: What each order is good for, as told beside the choice.
REASONS = {
    "rows": "Left to right, top row first: natural to sort.",
    "rows-left": "Right to left, top row first: for a sun or a crowd that stands to the right.",
    "snake": "Every other row backwards: the least turning.",
    "columns": "Down each column, then one step across: usual from the air, neighbours stay close in time.",
    "columns-up": "Up each column, then one step across: the ground before it changes.",
    "subject": "The subject first, then outward in rings: people and wind move least while it counts.",
    "mirrored": "The subject first, then right and left in turn, then up and down: both sides get the same light.",
    "rings": "Begins before the subject and goes round from there: the middle of a room first.",
    "sun": "The sunny side first, moving away from it: that light goes first in the evening.",
}


def in_order(
    frames: Sequence[GridFrame], order: str, subject_yaw_deg: float, subject_pitch_deg: float, sun_yaw_deg: float
) -> tuple[GridFrame, ...]:
    """Frames renumbered in the order of shooting; zenith and nadir always come last."""
    field = [f for f in frames if f.role not in ("zenith", "nadir")]
    caps = [f for f in frames if f.role in ("zenith", "nadir")]
    rows = _rows(field)
    if order == "rows":
        chosen = [f for row in rows for f in row]
    elif order == "rows-left":
        chosen = [f for row in rows for f in reversed(row)]
    elif order == "snake":
        chosen = [f for i, row in enumerate(rows) for f in (row if i % 2 == 0 else reversed(row))]
    elif order in ("columns", "columns-up", "sun"):
        columns = _columns(rows)
        if order == "sun":
            columns = _from(columns, sun_yaw_deg)
        chosen = [f for column in columns for f in (column if order != "columns-up" else reversed(column))]
    elif order == "rings":
        chosen = [f for row in rows for f in _turned_to(row, subject_yaw_deg)]
    else:
        chosen = _outward(field, rows, subject_yaw_deg, subject_pitch_deg, mirrored=order == "mirrored")
    return renumbered([*chosen, *caps])


def turning_deg(frames: Sequence[GridFrame]) -> float:
    """Sum of all turns and tilts from the first to the last frame, the short way round."""
    total = 0.0
    for a, b in zip(frames, frames[1:]):
        total += abs(_apart(a.yaw_deg, b.yaw_deg)) + abs(a.pitch_deg - b.pitch_deg)
    return total


def _apart(a_deg: float, b_deg: float) -> float:
    return (b_deg - a_deg + 180.0) % 360.0 - 180.0


def _rows(frames: Sequence[GridFrame]) -> list[list[GridFrame]]:
    rows: dict[int, list[GridFrame]] = {}
    for f in frames:
        rows.setdefault(f.row, []).append(f)
    return [sorted(rows[r], key=lambda f: f.column) for r in sorted(rows)]


def _columns(rows: list[list[GridFrame]]) -> list[list[GridFrame]]:
    """Frames gathered under the frames of the longest row, left to right, top to bottom."""
    longest = max(rows, key=len)
    yaws = np.array([f.yaw_deg for f in longest])
    columns: list[list[GridFrame]] = [[] for _ in longest]
    for row in rows:
        for f in row:
            away = np.abs((yaws - f.yaw_deg + 180.0) % 360.0 - 180.0)
            columns[f.column - 1 if row is longest else int(away.argmin())].append(f)
    return [c for c in columns if c]


def _from(columns: list[list[GridFrame]], sun_yaw_deg: float) -> list[list[GridFrame]]:
    nearest = min(range(len(columns)), key=lambda i: abs(_apart(columns[i][0].yaw_deg, sun_yaw_deg)))
    if nearest > len(columns) / 2:
        columns, nearest = columns[::-1], len(columns) - 1 - nearest
    # what lies on the near side of the sun comes right after it, so that nothing waits behind its back
    return [*columns[nearest:], *columns[:nearest][::-1]] if nearest else columns


def _turned_to(row: list[GridFrame], yaw_deg: float) -> list[GridFrame]:
    start = min(range(len(row)), key=lambda i: abs(_apart(row[i].yaw_deg, yaw_deg)))
    return row[start:] + row[:start]


def _outward(
    field: list[GridFrame], rows: list[list[GridFrame]], yaw_deg: float, pitch_deg: float, *, mirrored: bool
) -> list[GridFrame]:
    def away(f: GridFrame) -> tuple[float, float]:
        return _apart(yaw_deg, f.yaw_deg) * math.cos(math.radians(f.pitch_deg)), f.pitch_deg - pitch_deg

    first = min(field, key=lambda f: math.hypot(*away(f)))
    if mirrored:
        by_row = sorted(rows, key=lambda row: (abs(row[0].pitch_deg - first.pitch_deg), -row[0].pitch_deg))
        chosen: list[GridFrame] = []
        for row in by_row:
            right = [f for f in _turned_to(row, yaw_deg) if away(f)[0] >= -1e-6]
            left = sorted((f for f in row if away(f)[0] < -1e-6), key=lambda f: -away(f)[0])
            right.sort(key=lambda f: away(f)[0])
            for k in range(max(len(right), len(left))):
                chosen += right[k : k + 1] + left[k : k + 1]
        return chosen
    steps = [math.hypot(*away(f)) for f in field if f is not first]
    ring = max(1e-6, min(steps, default=1.0))

    def place(f: GridFrame) -> tuple[int, float]:
        across, up = away(f)
        return round(math.hypot(across, up) / ring), math.atan2(up, across)

    return [first, *sorted((f for f in field if f is not first), key=place)]
