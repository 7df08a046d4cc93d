"""The rows of a plan: pitches from a ladder by shortest path, and the frames along each.

Each step of the path is a row with its number of frames, a step is allowed where two rows overlap as wanted and leave
no gap, and the path with the fewest frames wins. Where the stops of a head leave gaps whatever is done, rows are chosen
by what they show.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.gapped_rows import gapped_rows
from idle_lantern.core.plan.grid_row import GridRow
from idle_lantern.core.plan.required import Required
from idle_lantern.core.plan.row_pitches import (
    DENSER,
    POLE,
    ROUNDED_RAD,
    SPARE_RAD,
    Ends,
    Ladder,
    cheapest,
    ladder_of,
    rungs,
    tilt_up,
    turns,
)
from idle_lantern.core.plan.rows import cap_reach
from idle_lantern.core.plan.target_field import AS_NEEDED, TargetField
from idle_lantern.core.plan.yaws import row_yaws


@dataclass(frozen=True)
class PlannedRows:
    """Rows, top row first, and the altitudes between which they were planned to show everything.

    ``gapped``: the head's stops leave gaps, so that not everything between can be shown.
    """

    rows: list[GridRow]
    bottom_rad: float
    top_rad: float
    gapped: bool = False


def planned_rows(
    lens: Lens, required: Required, support: Support, tighter: float = 1.0, whole_at_deg: float | None = None
) -> PlannedRows:
    """The rows with the fewest frames; ``tighter`` below 1 moves all frames closer together."""
    field = required.grown
    low, high = math.radians(field.low_deg), math.radians(field.high_deg)
    # rows stand one stop apart, though that be farther than the overlap asks
    up = max(tilt_up(lens, field.between_rows) * tighter, math.radians(support.tilt_step_deg))
    reach = cap_reach(lens, field.between_rows) * (2 * tighter - 1 if tighter > 0.5 else tighter / 2)
    tops = {
        count: min(high, POLE - reach) if count else high
        for count in caps_to_try(field.zenith_frames, high > math.radians(89) and support.tilt_high_deg >= 90)
    }
    bottoms = {
        count: max(low, reach - POLE) if count else low
        for count in caps_to_try(field.nadir_frames, low < math.radians(-89) and support.tilt_low_deg <= -90)
    }
    if max(bottoms.values()) >= min(tops.values()):  # the caps alone cover all
        return PlannedRows(_caps(field, max(tops), max(bottoms)), -POLE, POLE)
    pitches = rungs(lens, field, support, tighter, sorted(bottoms.values()), sorted(tops.values()), up)
    ladder = ladder_of(lens, required, support, tighter, pitches)
    # a ring shows a frame at the pole from all sides; a narrow sweep only from its own, as one row shows the next
    next_to_pole = -math.inf if field.full_circle else POLE - up
    best: tuple[float, list[int], int, int, Ends] | None = None
    for zenith, top in tops.items():
        for nadir, bottom in bottoms.items():
            within = _in_reach(ladder, bottom, top, required)
            ends = Ends(
                *within,
                None if field.fewest else (within[0] + within[1]) / 2,
                next_to_pole if zenith else -math.inf,
                -next_to_pole if nadir else math.inf,
            )
            cost, path = cheapest(ladder, ends, up)
            cost += zenith + nadir
            if best is None or cost < best[0]:
                best = (cost, path, zenith, nadir, ends)
    assert best is not None
    cost, path, zenith, nadir, ends = best
    wanted = required.wanted
    short = ends.bottom > max(bottoms[nadir], math.radians(wanted.low_deg)) + ROUNDED_RAD
    short |= ends.top < min(tops[zenith], math.radians(wanted.high_deg)) - ROUNDED_RAD
    if not math.isfinite(cost) or (short and (support.step_deg or wanted.row_frames)):
        rows = gapped_rows(lens, required, support, pitches, turns(lens, pitches, field.overlap))
        return PlannedRows([*_caps(field, zenith, 0), *rows, *_caps(field, 0, nadir)], low, high, gapped=True)
    chosen = ladder.pitches[[k // len(DENSER) for k in path]]
    density = DENSER[[k % len(DENSER) for k in path]]
    steps = turns(lens, chosen, field.overlap) * tighter * density
    bands_of = ladder.low.ravel()[path], ladder.high.ravel()[path]
    rows = _filled_rows(lens, required, support, chosen, steps, bands_of, (ends.bottom, ends.top), whole_at_deg)
    bottom, top = low if nadir else ends.bottom, high if zenith else ends.top
    return PlannedRows([*_caps(field, zenith, 0), *rows[::-1], *_caps(field, 0, nadir)], bottom, top)


def _in_reach(ladder: Ladder, bottom: float, top: float, required: Required) -> tuple[float, float]:
    """Lowest and highest altitude to be shown, with what the head's tilt leaves out taken away.

    Rows are shot denser for the wanted field, not for its reserve.
    """
    wanted = required.wanted
    low, high = math.radians(wanted.low_deg), math.radians(wanted.high_deg)
    return (
        -_highest(-ladder.low, -bottom, min(-bottom, -low)),
        _highest(ladder.high, top, min(top, high)),
    )


def _highest(highs: Array, top: float, wanted: float) -> float:
    plain, any_density = float(highs[:, 0].max()) - SPARE_RAD, float(highs.max()) - SPARE_RAD
    if plain >= top or not math.isfinite(any_density):
        return top
    return max(plain, wanted) if any_density >= wanted else plain


def caps_to_try(wished: int, possible: bool) -> tuple[int, ...]:
    """How many frames may stand at a pole: as many as wished, or none or one, whichever takes fewer frames in all."""
    if not possible:
        return (0,)
    return (0, 1) if wished == AS_NEEDED else (wished,)


def _caps(target_field: TargetField, zenith: int, nadir: int) -> list[GridRow]:
    """Frames straight up and down, each turned by a quarter against the one before; the first stands as the middle does."""
    middle = 0.0 if target_field.full_circle else math.radians((target_field.left_deg + target_field.right_deg) / 2)
    return [
        GridRow(pitch, tuple(middle + POLE * i for i in range(count)), role)
        for pitch, count, role in ((POLE, zenith, "zenith"), (-POLE, nadir, "nadir"))
        if count
    ]


def _filled_rows(
    lens: Lens,
    required: Required,
    support: Support,
    pitches: Array,
    steps: Array,
    bands_of: tuple[Array, Array],
    between: tuple[float, float],
    whole_at_deg: float | None,
) -> list[GridRow]:
    """The rows with their frames; how far a row's ends reach follows from the heights it alone must cover."""
    low, high = bands_of
    target_field = required.grown
    joints = (high[:-1] + low[1:]) / 2
    bottoms, tops = np.append(between[0], joints), np.append(joints, between[1])
    halves = required.reach(lens, pitches, bottoms, np.maximum(tops, bottoms + 1e-6)) - SPARE_RAD
    return [
        GridRow(pitch, row_yaws(target_field, support, pitch, step, half, whole_at_deg), step_rad=step)
        for pitch, step, half in zip(pitches.tolist(), steps.tolist(), np.maximum(halves, 0.0).tolist())
    ]
