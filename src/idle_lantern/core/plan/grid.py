"""Rig, target field and support -> rows and frame directions.

Rows are chosen from a ladder of pitches by shortest path: each step of the path is
a row with its number of frames, a step is allowed where two rows overlap as wanted
and leave no gap, and the path with the fewest frames wins. The result is proven by
sampling the sphere and drawn tighter where a hole is found.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.coverage import holes, prove
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.row_pitches import DENSER, SPARE_RAD, Ends, cheapest, ladder_of, rungs, tilt_up, turns
from idle_lantern.core.plan.rows import cap_reach, half_widths
from idle_lantern.core.plan.shift_grid import shift_grid
from idle_lantern.core.plan.target_field import AS_NEEDED, TargetField
from idle_lantern.core.plan.yaws import on_stops, round_about, spread

_POLE = math.pi / 2
_MOST_FRAMES = 5000
#: Grids kept: most of what is changed in a plan (light, time, exposure, marks) leaves its frames where they are.
_KEPT = 16


@dataclass(frozen=True)
class GridRow:
    """One row before its frames are numbered."""

    pitch_rad: float
    yaws_rad: tuple[float, ...]
    role: str = "field"
    spare: int = 0


@lru_cache(maxsize=_KEPT)
def plan_grid(
    rig: Rig, target_field: TargetField, support: Support | None = None, whole_at_deg: float | None = None
) -> tuple[GridFrame, ...]:
    """Frames that cover the target field and its crop reserve, top row first, each row from left to right.

    On a full circle, where a row may begin anywhere, a frame of each row looks straight at
    ``whole_at_deg``, so that no seam comes near what stands there.
    """
    support = support or Support()
    if rig.motion == "two-lens":
        return (GridFrame(1, 1, 1, 0.0, 0.0), GridFrame(2, 1, 2, 180.0, 0.0))
    field = target_field.with_reserve()
    if rig.motion == "lens-shift":
        return shift_grid(rig, field)
    lens = rig.lens()
    for tighter in (1.0, 0.97, 0.93, 0.86, 0.78, 0.7, 0.6, 0.5, 0.4):
        frames = _numbered(_best_rows(lens, field, support, tighter, whole_at_deg), field)
        if len(frames) > _MOST_FRAMES or not holes(lens, frames, field, 2200).any():
            break
    wishes = (support.step_deg, support.tilt_step_deg, target_field.spare_ends, target_field.row_frames)
    if not any(wishes) and max(field.zenith_frames, field.nadir_frames) < 1:
        plain = _numbered(_row_rule(lens, field), field)
        in_reach = all(support.tilt_low_deg <= f.pitch_deg <= support.tilt_high_deg for f in plain)
        if len(plain) < len(frames) and in_reach and _serves(rig, plain, field):
            return plain
    return frames


def _row_rule(lens: Lens, target_field: TargetField) -> list[GridRow]:
    """The rule done in the head: steps of the field of view times one minus the overlap, all rows alike."""
    wide, tall = lens.field_rad()
    left, sweep = math.radians(target_field.left_deg), math.radians(target_field.sweep_deg)
    low, high = math.radians(target_field.low_deg), math.radians(target_field.high_deg)
    rows = 1 + math.ceil(max(0.0, high - low - tall) / (tall * (1 - target_field.between_rows)) - 1e-9)
    reach = tall / 2 - SPARE_RAD
    first, last = (low + reach, high - reach) if rows > 1 else ((low + high) / 2, (low + high) / 2)
    step = wide * (1 - target_field.overlap)
    if target_field.full_circle:
        count = math.ceil(2 * math.pi / step - 1e-9)
        yaws = [left + 2 * math.pi * (i + 0.5) / count for i in range(count)]
    else:
        yaws = spread(left, sweep, step, wide / 2 - SPARE_RAD)
    return [GridRow(float(p), tuple(yaws)) for p in np.linspace(last, first, rows)]


def _serves(rig: Rig, frames: Sequence[GridFrame], target_field: TargetField) -> bool:
    """Whether frames leave no hole and keep both overlaps."""
    proof = prove(rig, frames, target_field, 4000)
    least = min(target_field.overlap, target_field.between_rows)
    return proof.complete and (proof.smallest_overlap is None or proof.smallest_overlap >= least)


def _best_rows(
    lens: Lens, target_field: TargetField, support: Support, tighter: float, whole_at_deg: float | None = None
) -> list[GridRow]:
    low, high = math.radians(target_field.low_deg), math.radians(target_field.high_deg)
    up = tilt_up(lens, target_field.between_rows) * tighter
    reach = cap_reach(lens, target_field.between_rows) * (2 * tighter - 1 if tighter > 0.5 else tighter / 2)
    tops = {
        count: min(high, _POLE - reach) if count else high
        for count in caps_to_try(target_field.zenith_frames, high > math.radians(89) and support.tilt_high_deg >= 90)
    }
    bottoms = {
        count: max(low, reach - _POLE) if count else low
        for count in caps_to_try(target_field.nadir_frames, low < math.radians(-89) and support.tilt_low_deg <= -90)
    }
    if max(bottoms.values()) >= min(tops.values()):  # the caps alone cover all
        return _caps(target_field, max(tops), max(bottoms))
    pitches = rungs(lens, target_field, support, tighter, sorted(bottoms.values()), sorted(tops.values()), up)
    ladder = ladder_of(lens, target_field, support, tighter, pitches)
    # a ring shows a frame at the pole from all sides; a narrow sweep only from its own, as one row shows the next
    next_to_pole = -math.inf if target_field.full_circle else _POLE - up
    best: tuple[float, list[int], int, int] | None = None
    for zenith, top in tops.items():
        for nadir, bottom in bottoms.items():
            ends = Ends(
                bottom,
                top,
                None if target_field.fewest else (bottom + top) / 2,
                next_to_pole if zenith else -math.inf,
                -next_to_pole if nadir else math.inf,
            )
            cost, path = cheapest(ladder, ends, up)
            cost += zenith + nadir
            if best is None or cost < best[0]:
                best = (cost, path, zenith, nadir)
    assert best is not None
    _, path, zenith, nadir = best
    chosen = ladder.pitches[[k // len(DENSER) for k in path]]
    density = DENSER[[k % len(DENSER) for k in path]]
    steps = turns(lens, chosen, target_field.overlap) * tighter * density
    bands_of = ladder.low.ravel()[path], ladder.high.ravel()[path]
    rows = _filled_rows(
        lens, target_field, support, chosen, steps, bands_of, (bottoms[nadir], tops[zenith]), whole_at_deg
    )
    return [*_caps(target_field, zenith, 0), *rows[::-1], *_caps(target_field, 0, nadir)]


def caps_to_try(wished: int, possible: bool) -> tuple[int, ...]:
    """How many frames may stand at a pole: as many as wished, or none or one, whichever takes fewer frames in all."""
    if not possible:
        return (0,)
    return (0, 1) if wished == AS_NEEDED else (wished,)


def _caps(target_field: TargetField, zenith: int, nadir: int) -> list[GridRow]:
    """Frames straight up and down, each turned by a quarter against the one before; the first stands as the middle does."""
    middle = 0.0 if target_field.full_circle else math.radians((target_field.left_deg + target_field.right_deg) / 2)
    return [
        GridRow(pitch, tuple(middle + _POLE * i for i in range(count)), role)
        for pitch, count, role in ((_POLE, zenith, "zenith"), (-_POLE, nadir, "nadir"))
        if count
    ]


def _filled_rows(
    lens: Lens,
    target_field: TargetField,
    support: Support,
    pitches: Array,
    steps: Array,
    bands_of: tuple[Array, Array],
    between: tuple[float, float],
    whole_at_deg: float | None,
) -> list[GridRow]:
    """The rows with their frames; how far a row's ends reach follows from the heights it alone must cover."""
    low, high = bands_of
    with np.errstate(invalid="ignore"):
        joints = (high[:-1] + low[1:]) / 2
    bottoms, tops = np.append(between[0], joints), np.append(joints, between[1])
    left, sweep = math.radians(target_field.left_deg), math.radians(target_field.sweep_deg)
    stop = math.radians(support.step_deg)
    if not np.isfinite(joints).all():  # a lens or a head that leaves gaps: the proof tells of them
        bottoms, tops = pitches - 1e-3, pitches + 1e-3
    halves = half_widths(lens, pitches, bottoms, np.maximum(tops, bottoms + 1e-6)) - SPARE_RAD
    rows = []
    wished = target_field.row_frames
    whole_at = None if whole_at_deg is None else math.radians(whole_at_deg)
    for pitch, step, half in zip(pitches.tolist(), steps.tolist(), np.maximum(halves, 0.0).tolist()):
        if target_field.full_circle and wished:
            step = 2 * math.pi / wished
        if stop:
            if wished and not target_field.full_circle:
                step = max(
                    stop, math.ceil((sweep - 2 * min(half, sweep / 2)) / max(wished - 1, 1) / stop - 1e-9) * stop
                )
            yaws = on_stops(
                left,
                sweep,
                target_field.full_circle,
                step,
                half,
                stop,
                whole_at,
                math.radians(support.first_stop_deg),
            )
        elif target_field.full_circle:
            yaws = round_about(left, max(1, math.ceil(2 * math.pi / step - 1e-9)), whole_at)
        else:
            yaws = spread(left, sweep, step, half, wished)
        spare = 0 if target_field.full_circle else target_field.spare_ends
        if spare:
            apart = (
                yaws[1] - yaws[0] if len(yaws) > 1 else (max(stop, math.floor(step / stop) * stop) if stop else step)
            )
            yaws = [
                *(yaws[0] - apart * k for k in range(spare, 0, -1)),
                *yaws,
                *(yaws[-1] + apart * k for k in range(1, spare + 1)),
            ]
        rows.append(GridRow(pitch, tuple(yaws), spare=spare))
    return rows


def _numbered(rows: Sequence[GridRow], target_field: TargetField) -> tuple[GridFrame, ...]:
    frames: list[GridFrame] = []
    for r, row in enumerate(rows):
        last = len(row.yaws_rad) - 1
        for c, yaw in enumerate(row.yaws_rad):
            wrapped = (math.degrees(yaw) + 180) % 360 - 180
            role = "spare" if row.spare and (c < row.spare or c > last - row.spare) else row.role
            pitch = round(math.degrees(row.pitch_rad), 2)
            frames.append(GridFrame(len(frames) + 1, r + 1, c + 1, round(wrapped, 2), pitch, 0.0, role))
    return tuple(frames)


def renumbered(frames: Sequence[GridFrame]) -> tuple[GridFrame, ...]:
    """The same frames with numbers 1, 2, ... in the order given."""
    return tuple(replace(f, number=i) for i, f in enumerate(frames, 1))
