"""How far the no-parallax point stands above the axis about which the camera tilts: from pairs of a row that looks up or down.

With the rail at its setting the point lies over the turning axis while the camera is level. Where it stands ``up`` above the tilt
axis, tilting by ``pitch`` carries it back by ``up * sin(pitch)``; the rail gives ``cos(pitch)`` of each millimetre back, so that near
and far of that row move alike at a setting that differs by ``up * tan(pitch)``.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from idle_lantern.core.base import units
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.calibration.pupil import PupilSetting, calibrate_pupil

#: A row that tilts less tells next to nothing: a millimetre of height is then less than a quarter of one on the rail.
LEAST_PITCH_DEG, _MOST_PITCH_DEG = 15.0, 75.0
#: Heights below so many times their error are none.
_TELLS = 2.0
#: Known to so many millimetres it is known well enough.
_WELL_MM = 1.5


@dataclass(frozen=True)
class PupilHeight:
    """How far the no-parallax point stands above the tilt axis, below where negative, with its standard error."""

    up_mm: float
    sigma_mm: float
    pitch_deg: float
    tilted: PupilSetting

    def sentence(self) -> str:
        """For people: what it is and what to do."""
        known = f"{abs(self.up_mm):.1f} ± {max(0.1, self.sigma_mm):.1f} mm"
        more = (
            ""
            if self.sigma_mm <= _WELL_MM
            else f" One more tilted pair at {self.tilted.setting_mm:.0f} mm tells it better."
        )
        if abs(self.up_mm) < _TELLS * self.sigma_mm:
            within = max(0.1, _TELLS * self.sigma_mm)
            return f"Up and down the point stands right within {within:.1f} mm: rows turn about it too.{more}"
        where, way = ("above", "Lower") if self.up_mm > 0 else ("below", "Raise")
        return (
            f"The point stands {known} {where} the axis that the camera tilts about. {way} the camera by that, "
            f"or rows that look up and down turn beside it.{more}"
        )

    def as_json(self) -> dict[str, Any]:
        """For programs."""
        return {
            "up_mm": self.up_mm,
            "sigma_mm": self.sigma_mm,
            "pitch_deg": self.pitch_deg,
            "setting_mm": self.tilted.setting_mm,
            "sentence": self.sentence(),
        }


def height_of(level: PupilSetting, tilted: PupilSetting, pitch_deg: float) -> PupilHeight:
    """The height, from the settings that a level row and one at ``pitch_deg`` want.

    Raises
    ------
    InputError
        As of ``check_pitch``.
    """
    check_pitch(pitch_deg)
    slope = math.tan(math.radians(pitch_deg))
    return PupilHeight(
        (tilted.setting_mm - level.setting_mm) / slope,
        math.hypot(level.sigma_mm, tilted.sigma_mm) / abs(slope),
        pitch_deg,
        tilted,
    )


def check_pitch(pitch_deg: float) -> None:
    """Told before the work where a row tells nothing.

    Raises
    ------
    InputError
        It hardly tilts, or looks so steeply that the rail moves nothing aside.
    """
    if not LEAST_PITCH_DEG <= abs(pitch_deg) <= _MOST_PITCH_DEG:
        raise InputError(
            f"A row at {units.angle(pitch_deg, 0)} tells nothing of up and down",
            remedy=f"Take its pairs between {LEAST_PITCH_DEG:.0f}° and {_MOST_PITCH_DEG:.0f}°, up or down",
        )


def calibrate_height(
    level: PupilSetting,
    pitch_deg: float,
    pairs: Sequence[tuple[float, Path, Path]],
    progress: Progress = SILENT,
    *,
    kept: dict[Any, Any] | None = None,
) -> PupilHeight:
    """The height, from pairs of a tilted row beside what the level row gave; pairs, ``kept`` and errors as in ``calibrate_pupil``."""
    check_pitch(pitch_deg)
    return height_of(level, calibrate_pupil(pairs, progress, kept=kept), pitch_deg)
