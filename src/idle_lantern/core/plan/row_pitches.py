"""Which rows: pitches on a ladder, climbed from the lower to the upper edge with the fewest frames."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.required import Required
from idle_lantern.core.plan.rows import bands, tilt_for_overlap, turns_for_overlap
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.plan.yaws import clicks_of, round_of

#: Coverage sought beyond the target field, so that rounding of angles opens no hole.
SPARE_RAD = math.radians(0.05)
#: Rows may also be shot with more frames than the overlap asks: they then cover a taller band.
DENSER = np.array([1.0, 0.85, 0.7])

POLE = math.pi / 2
_EACH = np.arange(len(DENSER))
_MOST_RUNGS = 60
#: Pitches of rungs are rounded to a millionth.
ROUNDED_RAD = 2e-6
_MOST_TURN = 2 * math.pi / 3


@dataclass(frozen=True)
class Ladder:
    """Pitches that a row may have and, by pitch and density, its frames and the band they cover."""

    pitches: Array
    counts: Array
    low: Array
    high: Array


@lru_cache(maxsize=64)
def tilt_up(lens: Lens, overlap: float) -> float:
    """Largest change of pitch between rows, remembered."""
    return tilt_for_overlap(lens, overlap)


#: Turns are looked up on this many pitches from the horizon to the pole; up and down are alike.
_TURN_KNOTS = 31


@lru_cache(maxsize=64)
def _turn_table(lens: Lens, overlap: float) -> tuple[Array, Array]:
    knots = np.linspace(0, POLE, _TURN_KNOTS)
    return knots, turns_for_overlap(lens, knots, overlap)


def turns(lens: Lens, pitches: Array, overlap: float) -> Array:
    """Largest turn by pitch, (P,) radians of ``pitches`` (P,); between knots the smaller neighbour's rule holds, so overlap is never lost."""
    knots, table = _turn_table(lens, overlap)
    # near the horizon a turn goes with 1 / cos(pitch): that part is taken out before looking up
    at = np.abs(pitches)
    plain = np.interp(at, knots, table * np.maximum(np.cos(knots), 0.05))
    # where both neighbours turn as far as any row may, so does what lies between: no bend of the rule takes a frame more
    most = np.interp(at, knots, table >= _MOST_TURN) > 1 - 1e-9
    return np.asarray(np.where(most, _MOST_TURN, np.minimum(plain / np.maximum(np.cos(at), 0.05), _MOST_TURN)))


def ladder_of(lens: Lens, required: Required, support: Support, tighter: float, pitches: Array) -> Ladder:
    """Frames and bands of rows at these pitches (P,), in each density."""
    target_field = required.grown
    step = turns(lens, pitches, target_field.overlap)[:, None] * tighter * DENSER
    sweep, stop = math.radians(target_field.sweep_deg), math.radians(support.step_deg)
    wished = target_field.row_frames
    if target_field.full_circle:
        if wished:
            step = np.full_like(step, 2 * math.pi / wished)
        if stop:
            clicks = clicks_of(step, stop, closed=True)
            counts = np.ceil(round_of(stop) / clicks)
            used = np.minimum(clicks * stop, 2 * math.pi)
        else:
            counts = np.ceil(2 * math.pi / step - 1e-9)
            used = 2 * math.pi / counts
    else:
        least, most = math.radians(target_field.low_deg), math.radians(target_field.high_deg)
        up = tilt_up(lens, target_field.between_rows) * tighter
        # what a row shows alone is about as tall as rows are apart
        bottoms, tops = np.clip(pitches - up / 2, least, most), np.clip(pitches + up / 2, least, most)
        reach = np.minimum(2 * required.reach(lens, pitches, bottoms, tops), sweep)[:, None]
        if wished:
            counts = np.full_like(step, wished)
            used = np.broadcast_to(np.maximum(sweep - 0.7 * reach, sweep / wished) / max(wished - 1, 1), step.shape)
        else:
            if stop:
                step = clicks_of(step, stop, closed=False) * stop
            counts = 1 + np.maximum(0, np.ceil((sweep - reach) / step - 1e-9))
            # few frames stand closer than they may, except on stops
            even = np.maximum(0.0, sweep - 0.7 * reach) / np.maximum(counts - 1, 1)
            used = step if stop else np.minimum(step, even)
        used = np.where(counts == 1, min(sweep, 2 * math.pi), used)
    low, high = (band.reshape(step.shape) for band in bands(lens, np.repeat(pitches, len(DENSER)), used.ravel() / 2))
    # one frame looks straight up or down, and shows the circle that fits into it
    inside = min(lens.field_rad()) / 2
    for pole, from_pole, to_pole in ((pitches > POLE - 1e-5, high, low), (pitches < 1e-5 - POLE, low, high)):
        counts = np.where(pole[:, None], 1, counts)
        from_pole[pole] = np.sign(pitches[pole])[:, None] * POLE
        to_pole[pole] = np.sign(pitches[pole])[:, None] * (POLE - inside)
    return Ladder(pitches, counts, low, high)


def rungs(
    lens: Lens,
    target_field: TargetField,
    support: Support,
    tighter: float,
    bottoms: list[float],
    tops: list[float],
    up: float,
) -> Array:
    """Pitches (P,) from those whose bands just reach the bottoms to those that just reach the tops."""
    lowest, highest = math.radians(support.tilt_low_deg), math.radians(support.tilt_high_deg)
    if support.tilt_step_deg > 0:
        stop = math.radians(support.tilt_step_deg)
        return np.arange(math.ceil(lowest / stop - 1e-9), math.floor(highest / stop + 1e-9) + 1) * stop
    probe = np.linspace(max(lowest, bottoms[0] - up), min(highest, tops[-1] + up), 61)
    low, high = bands(lens, probe, turns(lens, probe, target_field.overlap) * tighter / 2)
    firsts = [_meets(probe, bottom - SPARE_RAD - low, last=True) for bottom in bottoms]
    lasts = [_meets(probe, high - top - SPARE_RAD, last=False) for top in tops]
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
    beyond = np.concatenate([[0.01, 0.03], np.arange(1, 15) / 20]) * up
    outside = np.concatenate([a - beyond, b + beyond])
    outside = outside[(outside >= lowest) & (outside <= highest)]
    # level rows, one that looks at the middle of the field, and those that a frame at a pole needs next to it
    capped = not target_field.full_circle and max(target_field.zenith_frames, target_field.nadir_frames) > 0
    next_to_pole = (up - POLE, POLE - up) if capped else ()
    middle = np.array([0.0, *next_to_pole, *((bottom + top) / 2 for bottom in bottoms for top in tops)])
    middle = middle[(middle >= lowest) & (middle <= highest)]
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


@dataclass(frozen=True)
class Ends:
    """What the lowest and the highest row must reach, in radians.

    ``bottom`` and ``top`` are altitudes to be covered; where frames at a pole follow, ``least_pitch`` and
    ``most_pitch`` are where the rows next to them may point at the farthest from it. A picture of one row points
    at ``middle``, unless that is None.
    """

    bottom: float
    top: float
    middle: float | None = None
    least_top_pitch: float = -math.inf
    most_bottom_pitch: float = math.inf


def cheapest(ladder: Ladder, ends: Ends, up: float) -> tuple[float, list[int]]:
    """Rows from bottom to top with the fewest frames; a path of pitch * densities + density.

    The cost is infinite, and the path empty, where no rows lead up without a gap.
    """
    pitches, counts = ladder.pitches, ladder.counts
    bottom, top = ends.bottom, ends.top
    n, m = counts.shape
    starts = (ladder.low <= bottom - SPARE_RAD + ROUNDED_RAD) & (pitches <= ends.most_bottom_pitch + ROUNDED_RAD)[
        :, None
    ]
    finishes = (ladder.high >= top + SPARE_RAD - ROUNDED_RAD) & (pitches >= ends.least_top_pitch - ROUNDED_RAD)[:, None]
    alone = starts & finishes
    if ends.middle is not None and alone.any():
        # one row looks at the middle: no lens is tilted far away from the picture to save a frame
        off = np.where(alone.any(1), np.abs(pitches - ends.middle), np.inf)
        alone &= (off <= off.min() + 1e-9)[:, None]
        starts, finishes = starts & (alone | ~finishes), finishes & (alone | ~starts)
    # of equal paths the one is taken that reaches evenly beyond the bottom and the top
    beyond_low, beyond_high = (bottom - ladder.low) / up, (ladder.high - top) / up
    with np.errstate(invalid="ignore"):
        cost = np.where(starts, counts + 0.2 * np.clip(beyond_low, 0, 1) ** 2, np.inf)
    before = np.full((n, m), -1)
    firsts = np.searchsorted(pitches, pitches - up - 1e-6)
    highs, lows = ladder.high.ravel(), ladder.low + 2 * SPARE_RAD
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
        final = np.where(finishes, cost + 0.2 * np.clip(beyond_high, 0, 1) ** 2, np.inf)
    if not np.isfinite(final).any():
        return math.inf, []
    node = int(final.argmin())
    total, path = float(final.ravel()[node]), []
    while node >= 0:
        path.append(node)
        node = int(before.ravel()[node])
    return total, path[::-1]
