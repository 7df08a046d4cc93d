"""What the dialog of the no-parallax point tells, as plain values: no Qt."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from idle_lantern.core.base import units
from idle_lantern.core.calibration.pupil_height import LEAST_PITCH_DEG
from idle_lantern.core.plan.planner import Plan

if TYPE_CHECKING:
    from idle_lantern.core.calibration.pupil import Pair, PupilSetting
    from idle_lantern.core.calibration.pupil_height import PupilHeight

_PX_A_MM = 1.5  # by which the near thing moves against the ground for a millimetre of the rail
_NEAREST_M = 0.7  # the near thing stands no nearer
_FARTHEST_M = 2.0  # and no farther
#: The ground stands so many times as far as the near thing at least (common practice, no source).
_TIMES_AS_FAR = 10
_TO_RIM = 0.55
#: A setting known to this share of what the scene allows is good enough.
_GOOD_ENOUGH = 1 / 3
#: Steeper rows hardly see anything far.
_STEEPEST_DEG = 30.0


@dataclass(frozen=True)
class PairFiles:
    """A pair turned left and right at a rail setting, of a row at a pitch."""

    rail_mm: float
    left: Path
    right: Path
    pitch_deg: float = 0.0

    @property
    def at(self) -> tuple[float, Path, Path]:
        """As the measurement takes it."""
        return self.rail_mm, self.left, self.right


def tilted(pairs: Sequence[PairFiles]) -> list[PairFiles]:
    """Pairs of the tilted row that was taken last: up and down is told by one row at a time."""
    last = next((p.pitch_deg for p in reversed(pairs) if p.pitch_deg), 0.0)
    return [p for p in pairs if p.pitch_deg and p.pitch_deg == last]


def measurable(pairs: Sequence[PairFiles]) -> bool:
    """Whether they are of two settings or more: one tells nothing."""
    return len({p.rail_mm for p in pairs}) > 1


def row_pitch_deg(plan: Plan) -> float:
    """Pitch of the row of the plan that tilts most, as far as its pairs can show anything."""
    most = max((f.pitch_deg for f in plan.frames), key=abs, default=0.0)
    return round(math.copysign(min(abs(most), _STEEPEST_DEG), most))


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
        "Take a pair at two settings some 30 mm apart, then one where the program says." + _of_rows(plan)
    )


def _of_rows(plan: Plan) -> str:
    pitch = row_pitch_deg(plan)
    if abs(pitch) < LEAST_PITCH_DEG:
        return ""
    return f" The plan has rows up to {units.angle(pitch, 0)}: two pairs at that pitch tell whether the camera stands too high or too low."


def told(plan: Plan, found: PupilSetting | None, height: PupilHeight | None = None) -> str:
    """The setting, whether it is good enough for the planned scene, and what to do next."""
    if found is None:
        return "Two pairs at different settings tell where near and far move alike."
    allowed = plan.pupil.tolerance_mm
    if found.sigma_mm <= allowed * _GOOD_ENOUGH:
        enough = f"Good enough for this plan, which allows {min(allowed, 999):.0f} mm."
    else:
        enough = f"This plan allows {allowed:.0f} mm: take one more pair at {found.setting_mm:.0f} mm."
    return f"{found.sentence()} {enough}" + (f" {height.sentence()}" if height is not None else "")


def rows(
    pairs: list[PairFiles], found: PupilSetting | None, height: PupilHeight | None = None
) -> list[tuple[str, str, str, str]]:
    """Setting, pitch, files and measured shift of each pair."""
    level, other = [p for p in pairs if not p.pitch_deg], tilted(pairs)
    shifts: dict[int, Pair] = {}
    for some, measured in ((level, found), (other, height.tilted if height is not None else None)):
        if measured is not None and len(measured.pairs) == len(some):
            shifts |= {id(pair): shift for pair, shift in zip(some, measured.pairs)}
    return [
        (
            f"{pair.rail_mm:g} mm",
            units.angle(pair.pitch_deg, 0),
            f"{pair.left.name}, {pair.right.name}",
            f"{units.measured(shifts[id(pair)].shift_px, shifts[id(pair)].sigma_px)} px".replace("-", "−")
            if id(pair) in shifts
            else "",
        )
        for pair in pairs
    ]
