"""What the dialog of the no-parallax point tells, as plain values: no Qt."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from idle_lantern.core.base import units
from idle_lantern.core.plan.planner import Plan

if TYPE_CHECKING:
    from idle_lantern.core.calibration.pupil import PupilSetting

#: A millimetre of the rail shall move the near thing by so many pixels against the ground, between these distances.
_PX_A_MM, _NEAREST_M, _FARTHEST_M = 1.5, 0.7, 2.0
#: The ground stands so many times as far as the near thing at least (common practice, no source).
_TIMES_AS_FAR = 10
_TO_RIM = 0.55
#: A setting known to this share of what the scene allows is good enough.
_GOOD_ENOUGH = 1 / 3


@dataclass(frozen=True)
class PairFiles:
    """A pair turned left and right at a rail setting."""

    rail_mm: float
    left: Path
    right: Path


def near_m(plan: Plan) -> float:
    """How far the upright should stand: so near that a millimetre shows, and no nearer than it stays sharp."""
    half = plan.rig.lens().field_rad()[0] / 2
    shift_px_m = plan.rig.focal_px * 2 * math.sin(math.atan(_TO_RIM * math.tan(half)))
    return round(min(_FARTHEST_M, max(_NEAREST_M, shift_px_m * 0.001 / _PX_A_MM)), 1)


def advice(plan: Plan) -> str:
    """What to do, with the distances for this camera and lens."""
    near = near_m(plan)
    half = math.degrees(math.atan(_TO_RIM * math.tan(plan.rig.lens().field_rad()[0] / 2)))
    return (
        f"Put an upright some {near:g} m before the lens, with something detailed {near * _TIMES_AS_FAR:.0f} m or more behind it. "
        f"Set the rail, turn {units.angle(half, 0)} to the left and shoot, as far to the right and shoot: that is a pair. "
        "Take a pair at two settings some 30 mm apart, then one where the program says."
    )


def told(plan: Plan, found: PupilSetting | None) -> str:
    """The setting, whether it is good enough for the planned scene, and what to do next."""
    if found is None:
        return "Two pairs at different settings tell where near and far move alike."
    allowed = plan.pupil.tolerance_mm
    if found.sigma_mm <= allowed * _GOOD_ENOUGH:
        enough = f"Good enough for this plan, which allows {min(allowed, 999):.0f} mm."
    else:
        enough = f"This plan allows {allowed:.0f} mm: take one more pair at {found.setting_mm:.0f} mm."
    return f"{found.sentence()} {enough}"


def rows(pairs: list[PairFiles], found: PupilSetting | None) -> list[tuple[str, str, str]]:
    """Setting, files and measured shift of each pair."""
    shifts = dict(enumerate(found.pairs)) if found is not None and len(found.pairs) == len(pairs) else {}
    return [
        (
            f"{pair.rail_mm:g} mm",
            f"{pair.left.name}, {pair.right.name}",
            f"{units.measured(shifts[k].shift_px, shifts[k].sigma_px)} px" if k in shifts else "",
        )
        for k, pair in enumerate(pairs)
    ]
