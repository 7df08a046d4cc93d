"""Rows and columns of what was shot: what is missing in them, what leans, what overlaps too little."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.inspection.overlaps import Overlap
from idle_lantern.core.registration.solve.poses import Poses

#: Frames of a row differ in pitch by less than this share of their height.
_ROW_SHARE = 0.3
#: A step so many times the usual one has a frame missing in it.
_GAP = 1.55
#: An overlap below this share is told: too little to match for certain (common practice, no source).
LEAST_OVERLAP = 0.12
_LEAST_TILT_DEG = 2.5


@dataclass(frozen=True)
class Missing:
    """A frame that should be there: rows from above, columns from the left, both from 1."""

    row: int
    column: int
    yaw_deg: float
    pitch_deg: float
    sentence: str


@dataclass(frozen=True)
class LatticeRow:
    """Frames at one height, by their places in the poses, from left to right, and the yaw of each in one run of numbers."""

    members: tuple[int, ...]
    yaw_deg: tuple[float, ...]
    pitch_deg: float


def angles_deg(poses: Poses) -> Array:
    """Yaw, pitch and roll of each frame, (F, 3)."""
    yaw, pitch, roll = rotations.to_yaw_pitch_roll(poses.world_from_camera)
    return np.asarray(np.degrees(np.column_stack([yaw, pitch, roll])))


def rows_of(poses: Poses) -> list[LatticeRow]:
    """Rows from the highest to the lowest."""
    angles = angles_deg(poses)
    height = math.degrees(float(np.median([lens.field_rad()[1] for lens in poses.lenses])))
    order = np.argsort(-angles[:, 1])
    groups: list[list[int]] = []
    for i in order:
        if groups and abs(float(np.mean(angles[groups[-1], 1])) - angles[i, 1]) < _ROW_SHARE * height:
            groups[-1].append(int(i))
        else:
            groups.append([int(i)])
    return [_row(group, angles) for group in groups]


def _row(group: list[int], angles: Array) -> LatticeRow:
    yaws = angles[group, 0] % 360
    order = np.argsort(yaws)
    sorted_yaws = yaws[order]
    # begin after the widest gap, so that a row through the back of the circle is one run
    gaps = np.diff(np.append(sorted_yaws, sorted_yaws[0] + 360))
    first = (int(np.argmax(gaps)) + 1) % len(group)
    turned = np.roll(order, -first)
    run = np.unwrap(np.radians(yaws[turned]))
    return LatticeRow(
        tuple(group[k] for k in turned), tuple(np.degrees(run).tolist()), float(np.mean(angles[group, 1]))
    )


def missing(poses: Poses) -> list[Missing]:
    """Frames that the even steps of the rows ask for and nobody shot."""
    rows = rows_of(poses)
    found: list[Missing] = []
    # on the circle of the horizon, since rows that look up or down take wider steps
    on_horizon = [s * math.cos(math.radians(r.pitch_deg)) for r in rows for s in np.diff(r.yaw_deg)]
    everywhere = float(np.median(on_horizon)) if on_horizon else math.inf
    for r, row in enumerate(rows, 1):
        if abs(row.pitch_deg) > 65 or len(row.members) < 3:
            continue
        steps = np.diff(row.yaw_deg)
        usual = min(float(np.median(steps)), everywhere / math.cos(math.radians(row.pitch_deg)))
        column = 1
        for k, step in enumerate(steps):
            lost = max(0, round(float(step) / usual) - 1) if step > _GAP * usual else 0
            for m in range(1, lost + 1):
                found.append(_told(r, column + m, row.yaw_deg[k] + step * m / (lost + 1), row.pitch_deg, len(rows)))
            column += 1 + lost
    return found + _corners(rows)


def _corners(rows: Sequence[LatticeRow]) -> list[Missing]:
    """Rows that end a step before the others do."""
    level = [(r, row) for r, row in enumerate(rows, 1) if abs(row.pitch_deg) <= 50 and len(row.members) >= 3]
    if len(level) < 2:
        return []
    found = []
    steps = {r: float(np.median(np.diff(row.yaw_deg))) for r, row in level}
    for side in (0, -1):
        ends = {r: _nearest_turn(row.yaw_deg[side], level[0][1].yaw_deg[side]) for r, row in level}
        furthest = (min if side == 0 else max)(ends.values())
        for r, row in level:
            short = abs(ends[r] - furthest)
            if short > 0.75 * steps[r] and short < 5 * steps[r]:
                outward = -1 if side == 0 else 1
                for m in range(1, max(1, round(short / steps[r])) + 1):
                    column = 0 if side == 0 else len(row.members) + m
                    found.append(_told(r, max(1, column), ends[r] + outward * m * steps[r], row.pitch_deg, len(rows)))
    return found


def _nearest_turn(yaw: float, to: float) -> float:
    return to + (yaw - to + 180) % 360 - 180


def _told(row: int, column: int, yaw: float, pitch: float, rows: int) -> Missing:
    yaw = (yaw + 180) % 360 - 180
    which = f"row {row} from above, " if rows > 1 else ""
    return Missing(
        row, column, yaw, pitch, f"No frame at {which}column {column}: near yaw {yaw:.0f}°, pitch {pitch:.0f}°"
    )


def tilted(poses: Poses) -> dict[int, tuple[float, float]]:
    """Frames off their row: by place, degrees of roll and of pitch against the row."""
    angles = angles_deg(poses)
    height = math.degrees(float(np.median([lens.field_rad()[1] for lens in poses.lenses])))
    found = {}
    for row in rows_of(poses):
        if len(row.members) < 4 or abs(row.pitch_deg) > 65:
            continue
        members = list(row.members)
        roll = angles[members, 2] - np.median(angles[members, 2])
        pitch = angles[members, 1] - np.median(angles[members, 1])
        usual = [1.4826 * float(np.median(np.abs(v))) for v in (roll, pitch)]
        for i, r, p in zip(members, roll, pitch):
            if abs(r) > max(_LEAST_TILT_DEG, 5 * usual[0]) or abs(p) > max(
                _LEAST_TILT_DEG, 0.08 * height, 5 * usual[1]
            ):
                found[i] = (float(r), float(p))
    return found


def best_overlaps(poses: Poses, overlaps: Sequence[Overlap]) -> dict[int, tuple[float, int]]:
    """For each place the largest share it has in common with another frame, and which."""
    best: dict[int, tuple[float, int]] = dict.fromkeys(range(len(poses.frames)), (0.0, -1))
    for overlap in overlaps:
        for i, j in ((overlap.i, overlap.j), (overlap.j, overlap.i)):
            if overlap.share > best[i][0]:
                best[i] = (overlap.share, j)
    return best
