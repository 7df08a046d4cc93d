"""Rig, target field and support -> rows and frame directions.

Rows are planned, proven by sampling the sphere, mended where a hole is found that the head can reach, and trimmed of
frames that show nothing required. Where the rule done in the head serves with fewer frames, it is taken.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache

from idle_lantern.core.base.arrays import Directions
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.plan.brief import Support
from idle_lantern.core.plan.coverage import covered, prove
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.grid_row import GridRow, cameras_of_rows
from idle_lantern.core.plan.mending import mended, trimmed
from idle_lantern.core.plan.planned_rows import PlannedRows, planned_rows
from idle_lantern.core.plan.required import Required
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.row_pitches import SPARE_RAD
from idle_lantern.core.plan.row_rule import row_rule
from idle_lantern.core.plan.shift_grid import shift_grid
from idle_lantern.core.plan.target_field import TargetField

_SAMPLES = 2200
#: How much closer all frames may stand where that mends a hole with fewer frames than single ones put there.
_TIGHTER = (0.97, 0.93, 0.86, 0.78)
#: On stops that leave gaps a frame is put where it shows so many samples, and such a share of what a frame shows at most.
_LEAST_ON_GAPS, _WORTH_ON_GAPS = 7, 0.05
#: Grids kept: most of what is changed in a plan (light, time, exposure, marks) leaves its frames where they are.
_KEPT = 16


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
    if rig.motion == "lens-shift":
        return shift_grid(rig, target_field.with_reserve())
    lens = rig.lens()
    required = Required.of(lens, target_field)
    planned = planned_rows(lens, required, support, whole_at_deg=whole_at_deg)
    if planned.gapped:  # what the stops leave out comes first; a reserve round it is worth no frame
        required = Required.of(lens, replace(target_field, reserve=0.0))
        planned = planned_rows(lens, required, support, whole_at_deg=whole_at_deg)
    rows = _without_holes(lens, required, support, planned, whole_at_deg)
    if not target_field.row_frames and not target_field.full_circle:
        rows = trimmed(lens, required, rows, only_wanted=planned.gapped or support.step_deg > 0)
    free = not (support.step_deg or support.tilt_step_deg or target_field.row_frames)
    if free and max(target_field.zenith_frames, target_field.nadir_frames) < 1:
        plain = row_rule(lens, required.grown)
        low, high = math.radians(support.tilt_low_deg), math.radians(support.tilt_high_deg)
        in_reach = all(low <= row.pitch_rad <= high for row in plain)
        if _count(plain) < _count(rows) and in_reach and _serves(rig, plain, required):
            rows = plain
    return numbered(_with_spares(rows, target_field, support))


def _without_holes(
    lens: Lens, required: Required, support: Support, planned: PlannedRows, whole_at_deg: float | None
) -> list[GridRow]:
    """The planned rows, or those with the fewest frames that leave nothing out that the head can reach."""
    missing = _missing(lens, required, planned)
    if not len(missing) or required.wanted.row_frames:  # so many frames are wished, and what they leave out is told
        return planned.rows
    worth = 1
    if planned.gapped:
        shown = lens.sees(required.samples(_SAMPLES) @ cameras_of_rows(planned.rows), margin_px=1.0)
        worth = max(_LEAST_ON_GAPS, round(_WORTH_ON_GAPS * int(shown.sum(1).max())))
    best = mended(lens, support, planned.rows, missing, worth)
    if planned.gapped:
        return best or planned.rows
    for tighter in _TIGHTER:
        closer = planned_rows(lens, required, support, tighter, whole_at_deg)
        if best is not None and _count(closer.rows) >= _count(best):
            break
        if not closer.gapped and not len(_missing(lens, required, closer)):
            return closer.rows
    return best or planned.rows


def _missing(lens: Lens, required: Required, planned: PlannedRows) -> Directions:
    """Directions (N, 3) between the altitudes planned for that no frame shows."""
    directions = required.samples(_SAMPLES)
    if planned.gapped:  # a rim alone is worth no frame
        directions = directions[:_SAMPLES]
    left = directions[~covered(lens, cameras_of_rows(planned.rows), directions)]
    altitude = azimuth_altitude(left)[1]
    return left[(altitude > planned.bottom_rad - SPARE_RAD) & (altitude < planned.top_rad + SPARE_RAD)]


def _count(rows: Sequence[GridRow]) -> int:
    return sum(len(row.yaws_rad) for row in rows)


def _serves(rig: Rig, rows: Sequence[GridRow], required: Required) -> bool:
    """Whether rows leave no hole and keep both overlaps."""
    lens, field = rig.lens(), required.wanted
    if not covered(lens, cameras_of_rows(rows), required.samples(2 * _SAMPLES)).all():
        return False
    proof = prove(rig, numbered([(row, 0) for row in rows]), field)
    least = min(field.overlap, field.between_rows)
    return proof.complete and (proof.smallest_overlap is None or proof.smallest_overlap >= least)


def _with_spares(rows: Sequence[GridRow], field: TargetField, support: Support) -> list[tuple[GridRow, int]]:
    """Rows with the wished frames beyond each end, and how many there are."""
    spare, stop = 0 if field.full_circle else field.spare_ends, math.radians(support.step_deg)
    wider = []
    for row in rows:
        yaws, count = row.yaws_rad, spare if row.role == "field" else 0
        if count:
            step = max(stop, math.floor(row.step_rad / stop) * stop) if stop else row.step_rad
            apart = yaws[1] - yaws[0] if len(yaws) > 1 else step
            yaws = (
                *(yaws[0] - apart * k for k in range(count, 0, -1)),
                *yaws,
                *(yaws[-1] + apart * k for k in range(1, count + 1)),
            )
        wider.append((replace(row, yaws_rad=tuple(yaws)), count))
    return wider


def numbered(rows: Sequence[tuple[GridRow, int]]) -> tuple[GridFrame, ...]:
    """Frames with numbers, rows and columns; with each row goes how many of its frames lie beyond each end."""
    frames: list[GridFrame] = []
    for r, (row, spare) in enumerate(rows):
        last = len(row.yaws_rad) - 1
        for c, yaw in enumerate(row.yaws_rad):
            wrapped = (math.degrees(yaw) + 180) % 360 - 180
            role = "spare" if spare and (c < spare or c > last - spare) else row.role
            pitch = round(math.degrees(row.pitch_rad), 2)
            frames.append(GridFrame(len(frames) + 1, r + 1, c + 1, round(wrapped, 2), pitch, 0.0, role))
    return tuple(frames)


def renumbered(frames: Sequence[GridFrame]) -> tuple[GridFrame, ...]:
    """The same frames with numbers 1, 2, ... in the order given."""
    return tuple(replace(f, number=i) for i, f in enumerate(frames, 1))
