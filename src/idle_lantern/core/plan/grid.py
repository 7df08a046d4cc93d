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
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.coverage import holes, prove
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.rows import bands, cap_reach, half_widths, tilt_for_overlap, turns_for_overlap
from idle_lantern.core.plan.target_field import TargetField

Array = NDArray[Any]

_POLE = math.pi / 2
#: Coverage sought beyond the target field, so that rounding of angles opens no hole.
_SPARE_RAD = math.radians(0.05)
_MOST_FRAMES = 5000
#: Rows may also be shot with more frames than the overlap asks: they then cover a taller band.
_DENSER = np.array([1.0, 0.85, 0.7])
_EACH = np.arange(len(_DENSER))
_MOST_RUNGS = 60


@dataclass(frozen=True)
class Row:
    """One row before its frames are numbered."""

    pitch_rad: float
    yaws_rad: tuple[float, ...]
    role: str = "field"
    spare: int = 0


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
        return _shift_grid(rig, field)
    lens = rig.lens()
    for tighter in (1.0, 0.97, 0.93, 0.86, 0.78, 0.7, 0.6, 0.5, 0.4):
        frames = _numbered(_best_rows(lens, field, support, tighter, whole_at_deg), field)
        if len(frames) > _MOST_FRAMES or not holes(lens, frames, field, 2200).any():
            break
    if not (support.step_deg or support.tilt_step_deg or target_field.spare_ends):
        plain = _numbered(_row_rule(lens, field), field)
        in_reach = all(support.tilt_low_deg <= f.pitch_deg <= support.tilt_high_deg for f in plain)
        if len(plain) < len(frames) and in_reach and _serves(rig, plain, field):
            return plain
    return frames


def _row_rule(lens: Lens, target_field: TargetField) -> list[Row]:
    """The rule done in the head: steps of the field of view times one minus the overlap, all rows alike."""
    wide, tall = lens.field_rad()
    left, sweep = math.radians(target_field.left_deg), math.radians(target_field.sweep_deg)
    low, high = math.radians(target_field.low_deg), math.radians(target_field.high_deg)
    rows = 1 + math.ceil(max(0.0, high - low - tall) / (tall * (1 - target_field.between_rows)) - 1e-9)
    reach = tall / 2 - _SPARE_RAD
    first, last = (low + reach, high - reach) if rows > 1 else ((low + high) / 2, (low + high) / 2)
    step = wide * (1 - target_field.overlap)
    if target_field.full_circle:
        count = math.ceil(2 * math.pi / step - 1e-9)
        yaws = [left + 2 * math.pi * (i + 0.5) / count for i in range(count)]
    else:
        yaws = _spread_yaws(left, sweep, step, wide / 2 - _SPARE_RAD)
    return [Row(float(p), tuple(yaws)) for p in np.linspace(last, first, rows)]


def _serves(rig: Rig, frames: Sequence[GridFrame], target_field: TargetField) -> bool:
    """Whether frames leave no hole and keep both overlaps."""
    proof = prove(rig, frames, target_field, 4000)
    least = min(target_field.overlap, target_field.between_rows)
    return proof.complete and (proof.smallest_overlap is None or proof.smallest_overlap >= least)


@dataclass(frozen=True)
class _Ladder:
    """Pitches that a row may have and, by pitch and density, its frames and the band it covers."""

    pitches: Array
    counts: Array
    low: Array
    high: Array


def _best_rows(
    lens: Lens, target_field: TargetField, support: Support, tighter: float, whole_at_deg: float | None = None
) -> list[Row]:
    low, high = math.radians(target_field.low_deg), math.radians(target_field.high_deg)
    up = tilt_up(lens, target_field.between_rows) * tighter
    reach = cap_reach(lens, target_field.between_rows) * (2 * tighter - 1 if tighter > 0.5 else tighter / 2)
    can_up = target_field.high_deg > 89 and support.tilt_high_deg >= 90 and target_field.zenith_frames > 0
    can_down = target_field.low_deg < -89 and support.tilt_low_deg <= -90 and target_field.nadir_frames > 0
    tops = {False: high, True: min(high, _POLE - reach)} if can_up else {False: high}
    bottoms = {False: low, True: max(low, -_POLE + reach)} if can_down else {False: low}
    # two or more are asked for their own sake (to take the head out), one only where it saves frames
    if can_up and target_field.zenith_frames > 1:
        del tops[False]
    if can_down and target_field.nadir_frames > 1:
        del bottoms[False]
    if max(bottoms.values()) >= min(tops.values()):  # the caps alone cover all
        return _caps(target_field, can_up, can_down)
    pitches = _rungs(lens, target_field, support, tighter, sorted(bottoms.values()), sorted(tops.values()), up)
    ladder = _ladder(lens, target_field, tighter, pitches)
    best: tuple[float, list[int], bool, bool] | None = None
    for zenith, top in tops.items():
        for nadir, bottom in bottoms.items():
            cost, path = _cheapest(ladder, bottom, top, up)
            cost += zenith * target_field.zenith_frames + nadir * target_field.nadir_frames
            if best is None or cost < best[0]:
                best = (cost, path, zenith, nadir)
    assert best is not None
    _, path, zenith, nadir = best
    chosen = ladder.pitches[[k // len(_DENSER) for k in path]]
    density = _DENSER[[k % len(_DENSER) for k in path]]
    steps = turns(lens, chosen, target_field.overlap) * tighter * density
    rows = _filled_rows(lens, target_field, support, chosen, steps, (bottoms[nadir], tops[zenith]), whole_at_deg)
    caps_rows = _caps(target_field, zenith, nadir)
    return [*caps_rows[:zenith], *rows[::-1], *caps_rows[zenith:]]


def _caps(target_field: TargetField, zenith: bool, nadir: bool) -> list[Row]:
    """Frames straight up and down, each turned by a quarter against the one before."""
    rows = []
    if zenith:
        rows.append(Row(_POLE, tuple(_POLE * i for i in range(target_field.zenith_frames)), "zenith"))
    if nadir:
        rows.append(Row(-_POLE, tuple(_POLE * i for i in range(target_field.nadir_frames)), "nadir"))
    return rows


@lru_cache(maxsize=64)
def tilt_up(lens: Lens, overlap: float) -> float:
    """Largest change of pitch between rows, remembered."""
    return tilt_for_overlap(lens, overlap)


#: Turns are looked up on this many pitches from the horizon to the pole; up and down are alike.
_TURN_KNOTS = 31


@lru_cache(maxsize=64)
def _turn_table(lens: Lens, overlap: float) -> tuple[Array, Array]:
    knots = np.linspace(0, _POLE, _TURN_KNOTS)
    return knots, turns_for_overlap(lens, knots, overlap)


def turns(lens: Lens, pitches: Array, overlap: float) -> Array:
    """Largest turn by pitch; between knots the smaller neighbour's rule holds, so overlap is never lost."""
    knots, table = _turn_table(lens, overlap)
    # near the horizon a turn goes with 1 / cos(pitch): that part is taken out before looking up
    at = np.abs(pitches)
    plain = np.interp(at, knots, table * np.maximum(np.cos(knots), 0.05))
    return np.asarray(np.minimum(plain / np.maximum(np.cos(at), 0.05), 2 * math.pi / 3))


def _ladder(lens: Lens, target_field: TargetField, tighter: float, pitches: Array) -> _Ladder:
    step = turns(lens, pitches, target_field.overlap)[:, None] * tighter * _DENSER
    sweep = math.radians(target_field.sweep_deg)
    if target_field.full_circle:
        counts = np.ceil(2 * math.pi / step - 1e-9)
        used = 2 * math.pi / counts
    else:
        wide = min(math.pi, lens.field_rad()[0])
        reach = np.minimum(wide / np.maximum(np.cos(pitches), 0.2), sweep)[:, None]
        counts = 1 + np.maximum(0, np.ceil((sweep - 0.9 * reach) / step - 1e-9))
        # few frames stand closer than they may
        used = np.minimum(step, np.maximum(0.0, sweep - 0.7 * reach) / np.maximum(counts - 1, 1))
        used = np.where(counts == 1, min(sweep, 2 * math.pi), used)
    low, high = bands(lens, np.repeat(pitches, len(_DENSER)), used.ravel() / 2)
    return _Ladder(pitches, counts, low.reshape(step.shape), high.reshape(step.shape))


def _rungs(
    lens: Lens,
    target_field: TargetField,
    support: Support,
    tighter: float,
    bottoms: list[float],
    tops: list[float],
    up: float,
) -> Array:
    """Pitches from those whose bands just reach the bottoms to those that just reach the tops."""
    lowest, highest = math.radians(support.tilt_low_deg), math.radians(support.tilt_high_deg)
    if support.tilt_step_deg > 0:
        stop = math.radians(support.tilt_step_deg)
        return np.arange(math.ceil(lowest / stop - 1e-9), math.floor(highest / stop + 1e-9) + 1) * stop
    probe = np.linspace(max(lowest, bottoms[0] - up), min(highest, tops[-1] + up), 61)
    low, high = bands(lens, probe, turns(lens, probe, target_field.overlap) * tighter / 2)
    firsts = [_meets(probe, bottom - _SPARE_RAD - low, last=True) for bottom in bottoms]
    lasts = [_meets(probe, high - top - _SPARE_RAD, last=False) for top in tops]
    a, b = min(*firsts, *lasts), max(*firsts, *lasts)
    # divisors of the largest step stay on the ladder, so that the fewest rows can be walked
    parts = max(1, min(12, int(_MOST_RUNGS / max(1e-9, (b - a) / up) / (len(bottoms) + len(tops)))))
    from_low = [np.arange(first, b, up / parts) for first in firsts]
    from_high = [np.arange(last, a, -up / parts) for last in lasts]
    even = [
        np.linspace(first, last, 1 + max(1, math.ceil(abs(last - first) / up - 1e-9)))
        for first in firsts
        for last in lasts
    ]
    # rows tilted farther than they must have fewer frames
    beyond = np.concatenate([[0.01, 0.03], np.arange(1, 8) / 10]) * up
    outside = np.concatenate([a - beyond, b + beyond])
    outside = outside[(outside >= lowest) & (outside <= highest)]
    middle = np.zeros(1 if a < 0 < b else 0)
    return np.unique(np.round(np.concatenate([*from_low, *from_high, *even, middle, outside]), 6))


def _meets(probe: Array, spare: Array, *, last: bool) -> float:
    """Where ``spare`` over ``probe`` becomes negative (the last good place) or positive (the first)."""
    good = np.flatnonzero(spare >= 0)
    if not len(good):
        return float(probe[0] if last else probe[-1])
    k = int(good[-1] if last else good[0])
    beside = k + 1 if last else k - 1
    if not 0 <= beside < len(probe) or not np.isfinite(spare[beside]):
        return float(probe[k])
    # between two probes the edge moves almost evenly; a hundredth is kept back for what it bends
    share = 0.97 * spare[k] / (spare[k] - spare[beside])
    return float(probe[k] + share * (probe[beside] - probe[k]))


def _cheapest(ladder: _Ladder, bottom: float, top: float, up: float) -> tuple[float, list[int]]:
    """Rows from bottom to top with the fewest frames; a path of pitch * densities + density."""
    pitches, counts = ladder.pitches, ladder.counts
    n, m = counts.shape
    starts = ladder.low <= bottom - _SPARE_RAD
    ends = ladder.high >= top + _SPARE_RAD
    if not starts.any():  # the head cannot tilt that far: do what can be done
        starts = ladder.low <= ladder.low.min() + 1e-9
    if not ends.any():
        ends = ladder.high >= ladder.high.max() - 1e-9
    # of equal paths the one is taken that reaches evenly beyond the bottom and the top
    beyond_low, beyond_high = (bottom - ladder.low) / up, (ladder.high - top) / up
    with np.errstate(invalid="ignore"):
        cost = np.where(starts, counts + 0.05 * np.clip(beyond_low, 0, 2) ** 2, np.inf)
    before = np.full((n, m), -1)
    firsts = np.searchsorted(pitches, pitches - up - 1e-6)
    highs, lows = ladder.high.ravel(), ladder.low + 2 * _SPARE_RAD
    flat = cost.ravel()  # a view: filled from below as the ladder is climbed
    for k in range(1, n):
        first = int(firsts[k])
        if first == k:
            continue
        # uneven rows cost a trifle, so that of equal paths the evener one is taken
        gap = np.repeat((pitches[k] - pitches[first:k]) / up, m)
        earlier = flat[first * m : k * m] + 0.02 * gap * gap
        through = np.where(highs[first * m : k * m, None] >= lows[k], earlier[:, None], np.inf)
        at = through.argmin(0)
        best = through[at, _EACH] + counts[k]
        better = best < cost[k]
        cost[k, better] = best[better]
        before[k, better] = first * m + at[better]
    with np.errstate(invalid="ignore"):
        final = np.where(ends, cost + 0.05 * np.clip(beyond_high, 0, 2) ** 2, np.inf)
    if not np.isfinite(final).any():  # no way without a gap: an even ladder, and the proof will tell
        even = np.linspace(pitches[0], pitches[-1], 1 + max(0, math.ceil((pitches[-1] - pitches[0]) / up)))
        return math.inf, [int(np.abs(pitches - p).argmin()) * m for p in even]
    node = int(final.argmin())
    total, path = float(final.ravel()[node]), []
    while node >= 0:
        path.append(node)
        node = int(before.ravel()[node])
    return total, path[::-1]


def _filled_rows(
    lens: Lens,
    target_field: TargetField,
    support: Support,
    pitches: Array,
    steps: Array,
    between: tuple[float, float],
    whole_at_deg: float | None,
) -> list[Row]:
    """The rows with their frames; how far a row's ends reach follows from the heights it alone must cover."""
    low, high = bands(lens, pitches, steps / 2)
    with np.errstate(invalid="ignore"):
        joints = (high[:-1] + low[1:]) / 2
    bottoms, tops = np.append(between[0], joints), np.append(joints, between[1])
    left, sweep = math.radians(target_field.left_deg), math.radians(target_field.sweep_deg)
    stop = math.radians(support.step_deg)
    if not np.isfinite(joints).all():  # a lens or a head that leaves gaps: the proof tells of them
        bottoms, tops = pitches - 1e-3, pitches + 1e-3
    halves = half_widths(lens, pitches, bottoms, np.maximum(tops, bottoms + 1e-6)) - _SPARE_RAD
    rows = []
    for pitch, step, half in zip(pitches.tolist(), steps.tolist(), np.maximum(halves, 0.0).tolist()):
        if stop:
            yaws = _stopped_yaws(left, sweep, target_field.full_circle, step, half, stop)
        elif target_field.full_circle:
            count = max(1, math.ceil(2 * math.pi / step - 1e-9))
            first = left + math.pi / count
            if whole_at_deg is not None:
                turn = 2 * math.pi / count
                first += (math.radians(whole_at_deg) - first) % turn
            yaws = [first + 2 * math.pi * i / count for i in range(count)]
        else:
            yaws = _spread_yaws(left, sweep, step, half)
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
        rows.append(Row(pitch, tuple(yaws), spare=spare))
    return rows


def _spread_yaws(left: float, sweep: float, step: float, half: float) -> list[float]:
    half = min(half, sweep / 2)
    count = 1 + max(0, math.ceil((sweep - 2 * half) / step - 1e-9))
    if count == 1 and half < sweep / 2 - 1e-9:
        count = 2
    if count == 1:
        return [left + sweep / 2]
    return [float(v) for v in np.linspace(left + half, left + sweep - half, count)]


def _stopped_yaws(left: float, sweep: float, closed: bool, step: float, half: float, stop: float) -> list[float]:
    """Yaws on the stops of the head: equal clicks, no more than the step."""
    clicks = max(1, math.floor(step / stop + 1e-9))
    if closed:
        around = max(1, round(2 * math.pi / stop))
        # a number of clicks that divides the circle closes it evenly; a little more frames are worth that
        even = next((c for c in range(clicks, 0, -1) if around % c == 0), 1)
        if even < 0.8 * clicks:
            even = clicks
        start = round(left / stop) * stop
        return [start + i * even * stop for i in range(math.ceil(around / even))]
    first = math.floor((left + min(half, sweep / 2)) / stop + 1e-9) * stop
    count = 1 + max(0, math.ceil((left + sweep - half - first) / (clicks * stop) - 1e-9))
    return [first + i * clicks * stop for i in range(count)]


def _numbered(rows: Sequence[Row], target_field: TargetField) -> tuple[GridFrame, ...]:
    frames: list[GridFrame] = []
    for r, row in enumerate(rows):
        last = len(row.yaws_rad) - 1
        for c, yaw in enumerate(row.yaws_rad):
            wrapped = (math.degrees(yaw) + 180) % 360 - 180
            role = "spare" if row.spare and (c < row.spare or c > last - row.spare) else row.role
            pitch = round(math.degrees(row.pitch_rad), 2)
            frames.append(GridFrame(len(frames) + 1, r + 1, c + 1, round(wrapped, 2), pitch, 0.0, role))
    return tuple(frames)


def _shift_grid(rig: Rig, target_field: TargetField) -> tuple[GridFrame, ...]:
    """Positions of a shift lens before a camera that stands still: a grid on the sensor plane."""
    # two pixels a side are kept back, so that rounding of shifts opens no gap
    width, height = ((v - 4) * rig.pixel_mm for v in rig.frame_px)
    middle_yaw = (target_field.left_deg + target_field.right_deg) / 2
    half = math.radians(min(target_field.sweep_deg, 178.0) / 2)
    wide = rig.focal_mm * math.tan(half)
    # a line of one altitude bows outward on the plane: its ends lie farthest up
    bow = math.cos(half)
    low, high = (
        rig.focal_mm * math.tan(math.radians(max(-89.0, min(89.0, v)))) / bow
        for v in (target_field.low_deg, target_field.high_deg)
    )
    reach = _shift_reach(rig, width, height)
    across = _places(-wide, wide, width, target_field.overlap, reach[0])
    up = _places(low, high, height, target_field.between_rows, reach[1])
    frames: list[GridFrame] = []
    for r, y in enumerate(reversed(up)):
        for c, x in enumerate(across):
            frames.append(
                GridFrame(
                    len(frames) + 1, r + 1, c + 1, middle_yaw, 0.0, shift_right_mm=round(x, 2), shift_up_mm=round(y, 2)
                )
            )
    return tuple(frames)


def _shift_reach(rig: Rig, width: float, height: float) -> tuple[float, float]:
    """How far the lens may go right and up: by its own range, and so that corners stay in the image circle.

    A corner at (width / 2 + x, height / 2 + y) must lie within the circle's radius.
    """
    x = y = rig.shift_mm
    if rig.image_circle_mm > 0:
        radius = rig.image_circle_mm / 2
        x = min(x, max(0.0, math.sqrt(max(0.0, radius**2 - (height / 2) ** 2)) - width / 2))
        y = min(y, max(0.0, math.sqrt(max(0.0, radius**2 - (width / 2) ** 2)) - height / 2))
    return x, y


def _places(low: float, high: float, side: float, overlap: float, reach: float) -> list[float]:
    """Middles along one side of the plane so that ``low`` to ``high`` is covered, within ``reach``."""
    first, last = max(-reach, low + side / 2), min(reach, high - side / 2)
    if last <= first:
        return [max(-reach, min(reach, (low + high) / 2))]
    count = 1 + math.ceil((last - first) / (side * (1 - overlap)) - 1e-9)
    return [float(v) for v in np.linspace(first, last, count)]


def renumbered(frames: Sequence[GridFrame]) -> tuple[GridFrame, ...]:
    """The same frames with numbers 1, 2, ... in the order given."""
    return tuple(replace(f, number=i) for i, f in enumerate(frames, 1))
