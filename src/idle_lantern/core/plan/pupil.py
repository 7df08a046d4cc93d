"""How exactly the camera must turn about the lens's no-parallax point."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.rig import Rig

#: A shift that a good seam can hide (common practice, no source).
ALLOWED_PX = 2.0


@dataclass(frozen=True)
class PupilNeed:
    """What the nearest thing asks of the turning axis.

    ``tolerance_mm`` is how far the axis may stand before or behind the pupil,
    ``shift_px`` what ``off_mm`` would show in the middle of an overlap.
    """

    step_deg: float
    near_m: float
    far_m: float
    allowed_px: float
    tolerance_mm: float
    off_mm: float
    shift_px: float

    @property
    def matters(self) -> bool:
        """Whether turning about the tripod screw (some 80 mm off) would show."""
        return self.tolerance_mm < 80.0


def shift_px(lens: Lens, off_mm: float, step_rad: float, near_m: float, far_m: float) -> float:
    """Shift of the nearest against the farthest thing between two neighbouring frames, in pixels.

    Turning by ``step`` about an axis ``off`` before or behind the pupil moves the
    pupil by 2 off sin(step / 2), square to the line of sight in the middle of the
    overlap. Against that the thing at distance D turns by displacement / D; the
    lens draws an angle there, half a step off its axis, with the slope of its mapping.
    """
    moved_m = 2 * abs(off_mm) / 1000 * math.sin(min(step_rad, math.pi) / 2)
    angle = moved_m * (1 / near_m - (0.0 if math.isinf(far_m) else 1 / far_m))
    return angle * _slope_px(lens, step_rad / 2)


def tolerance_mm(lens: Lens, step_rad: float, near_m: float, far_m: float, allowed_px: float = ALLOWED_PX) -> float:
    """How far the axis may stand off the pupil for a shift of at most ``allowed_px``; inf where nothing shows."""
    for_one_mm = shift_px(lens, 1.0, step_rad, near_m, far_m)
    return allowed_px / for_one_mm if for_one_mm > 0 else math.inf


def need(rig: Rig, step_deg: float, near_m: float, far_m: float, off_mm: float, allowed_px: float) -> PupilNeed:
    """All of it for a rig."""
    lens, step = rig.lens(), math.radians(step_deg)
    tolerance = tolerance_mm(lens, step, near_m, far_m, allowed_px)
    return PupilNeed(
        step_deg, near_m, far_m, allowed_px, tolerance, off_mm, shift_px(lens, off_mm, step, near_m, far_m)
    )


def _slope_px(lens: Lens, theta_rad: float) -> float:
    """Pixels per radian of the mapping, ``theta`` off the axis."""
    theta = min(theta_rad, lens.limit_rad - 1e-3)
    a, b = lens.radius_px(np.array([max(0.0, theta - 1e-4), theta + 1e-4]))
    return float((b - a) / (theta + 1e-4 - max(0.0, theta - 1e-4)))
