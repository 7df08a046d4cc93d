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
#: A row whose ends lie nearer than so many of its steps goes all round; near the poles rows and corners tell nothing.
_ALL_ROUND, _POLE_DEG, _CORNERS_DEG = 2.4, 65.0, 50.0
#: The steps of a row all round fill the circle within this share of one.
_FILLS = 0.15
#: Rows that look so much less far up or down than another may still have as many frames.
_AS_STEEP_DEG = 4.0


@dataclass(frozen=True)
class Missing:
    """A frame that should be there: rows from above, columns from the left, both from 1; which column may be unknown."""

    row: int
    column: int | None
    yaw_deg: float | None
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
    gaps = np.diff(np.append(yaws[order], yaws[order[0]] + 360))
    # a row all round begins where it was begun, which is where the numbers of its frames jump most
    members = np.array(group)[order]
    jumps = np.abs(np.diff(np.append(members, members[0])))
    closed = gaps.max() < _ALL_ROUND * np.median(gaps)
    first = (int(np.argmax(jumps if closed else gaps)) + 1) % len(group)
    turned = np.roll(order, -first)
    run = np.unwrap(np.radians(yaws[turned]))
    return LatticeRow(
        tuple(group[k] for k in turned), tuple(np.degrees(run).tolist()), float(np.mean(angles[group, 1]))
    )


def missing(poses: Poses, bare: Sequence[int] = ()) -> list[Missing]:
    """Frames that the even steps of the rows ask for and nobody shot; never where a frame of any row is.

    ``bare`` are frames that show too little to be placed, numbered as ``poses.frames`` are, in the order taken.
    """
    rows = rows_of(poses)
    # on the circle of the horizon, since rows that look up or down take wider steps
    on_horizon = [s * math.cos(math.radians(r.pitch_deg)) for r in rows for s in np.diff(r.yaw_deg)]
    everywhere = float(np.median(on_horizon)) if on_horizon else math.inf
    level = {r: row for r, row in enumerate(rows, 1) if abs(row.pitch_deg) <= _POLE_DEG and len(row.members) >= 3}
    steps = {
        r: min(float(np.median(np.diff(row.yaw_deg))), everywhere / math.cos(math.radians(row.pitch_deg)))
        for r, row in level.items()
    }
    all_round = all(_goes_round(row, steps[r]) for r, row in level.items())
    lost = {r: _within(row, steps[r], all_round=all_round) for r, row in level.items()}
    for r, yaws in ({} if all_round else _at_the_ends(level, steps)).items():
        lost[r] += yaws
    angles = angles_deg(poses)
    found = []
    for r, row in level.items():
        free = sorted(y for y in lost[r] if not _shot(angles, y, row.pitch_deg, steps[r]))
        columns = np.sort(np.concatenate([row.yaw_deg, free]))
        found += [_told(r, 1 + int(np.searchsorted(columns, y)), y, row.pitch_deg, len(rows)) for y in free]
    return found + _among_bare(poses, rows, bare)


def _among_bare(poses: Poses, rows: Sequence[LatticeRow], bare: Sequence[int]) -> list[Missing]:
    """Rows with fewer frames, the bare ones counted, than all others have, of which one looks as far up or down at least."""
    found: list[Missing] = []
    taken = [[poses.frames[i] for i in row.members] for row in rows]
    if not bare or len(rows) < 2:
        return found
    for r, row in enumerate(rows):
        others = [f for k, frames in enumerate(taken) if k != r for f in frames]
        before = max((f for f in others if f < min(taken[r])), default=-1)
        after = min((f for f in others if f > max(taken[r])), default=math.inf)
        mine = [f for f in bare if before < f < after]
        counts = {len(other.members) for k, other in enumerate(rows) if k != r}
        as_steep = any(abs(o.pitch_deg) > abs(row.pitch_deg) - _AS_STEEP_DEG for k, o in enumerate(rows) if k != r)
        if not mine or len(counts) != 1 or not as_steep:
            continue
        lost = counts.pop() - len(taken[r]) - len(mine)
        if lost > 0:
            sentence = f"{lost} of the frames of row {r + 1} from above are missing" if lost > 1 else (
                f"One of the frames of row {r + 1} from above is missing"
            )  # fmt: skip
            found.append(
                Missing(
                    r + 1, None, None, row.pitch_deg,
                    f"{sentence}: it has {len(taken[r]) + len(mine)}, with {len(mine)} bare ones whose places nothing tells",
                )
            )  # fmt: skip
    return found


def _within(row: LatticeRow, step: float, *, all_round: bool) -> list[float]:
    """Yaws that are left out inside a row; of a row all round also between its last frame and its first."""
    yaws = [*row.yaw_deg, row.yaw_deg[0] + 360] if all_round else row.yaw_deg
    lost: list[float] = []
    for one, other in zip(yaws, yaws[1:]):
        count = max(0, round((other - one) / step) - 1) if other - one > _GAP * step else 0
        lost += [one + (other - one) * m / (count + 1) for m in range(1, count + 1)]
    return lost


def _goes_round(row: LatticeRow, step: float) -> bool:
    """Whether a row closes, or did but for a frame: even steps fill the circle, and what is open is hardly a step more."""
    span = row.yaw_deg[-1] - row.yaw_deg[0]
    each = span / max(1, round(span / step))
    left = 360 % each
    return 360 - span < _ALL_ROUND * step and min(left, each - left) < _FILLS * each


def _at_the_ends(rows: dict[int, LatticeRow], steps: dict[int, float]) -> dict[int, list[float]]:
    """Yaws by row where rows end a step before the others do."""
    open_rows = {r: row for r, row in rows.items() if abs(row.pitch_deg) <= _CORNERS_DEG}
    found: dict[int, list[float]] = {r: [] for r in open_rows}
    if len(open_rows) < 2:
        return found
    first = next(iter(open_rows.values()))
    for side, outward in ((0, -1), (-1, 1)):
        ends = {r: _nearest_turn(row.yaw_deg[side], first.yaw_deg[side]) for r, row in open_rows.items()}
        furthest = (min if side == 0 else max)(ends.values())
        for r, row in open_rows.items():
            short = abs(ends[r] - furthest)
            if 0.75 * steps[r] < short < 5 * steps[r]:
                lost = max(1, round(short / steps[r]))
                found[r] += [row.yaw_deg[side] + outward * m * steps[r] for m in range(1, lost + 1)]
    return found


def _shot(angles: Array, yaw: float, pitch: float, step: float) -> bool:
    """Whether a frame, of whatever row, points within half a step of there."""
    away = np.abs((angles[:, 0] - yaw + 180) % 360 - 180) * math.cos(math.radians(pitch))
    half = step * math.cos(math.radians(pitch)) / 2
    return bool((np.hypot(away, angles[:, 1] - pitch) < half).any())


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
