"""How exactly the camera must turn about the lens's no-parallax point."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.brief import Scene
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.neighbours import widest_turn_rad
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

    The axis stands ``off_mm`` behind the pupil (before it where negative); both things lie in one line from the axis, in
    the middle between the two lines of sight. Turning swings the pupil round the axis, so that each camera sees
    them from beside that line, one from the left and one from the right alike: the shift is twice what one sees.
    """
    half = min(step_rad, math.pi) / 2
    near = _angle_rad(off_mm / 1000, half, near_m)
    far = half if math.isinf(far_m) else _angle_rad(off_mm / 1000, half, far_m)
    most = lens.limit_rad - 1e-3
    a, b = lens.radius_px(np.array([min(near, most), min(far, most)]))
    return 2 * abs(float(a - b))


def tolerance_mm(lens: Lens, step_rad: float, near_m: float, far_m: float, allowed_px: float = ALLOWED_PX) -> float:
    """How far the axis may stand off the pupil, on its worse side, for a shift of at most ``allowed_px``.

    Infinite where even an axis at the nearest thing would not show.
    """
    if step_rad <= 0 or near_m >= far_m:
        return math.inf
    nearest_mm = near_m * 1000 * 0.99

    def over(off_mm: float) -> float:
        return _worse_px(lens, off_mm, step_rad, near_m, far_m) - allowed_px

    if over(nearest_mm) <= 0:
        return math.inf
    # halved by hand: the package for it takes longer to load than the window to open
    low, high = 0.0, nearest_mm
    while high - low > 1e-6 * max(1.0, low):
        middle = (low + high) / 2
        low, high = (low, middle) if over(middle) > 0 else (middle, high)
    return low


def need(rig: Rig, frames: Sequence[GridFrame], scene: Scene, off_mm: float, allowed_px: float) -> PupilNeed:
    """All of it for planned frames: the widest turn between any two that meet along a seam decides."""
    lens = rig.lens()
    step = widest_turn_rad(lens, frames) if rig.motion == "turn" else 0.0
    return PupilNeed(
        math.degrees(step),
        scene.near_m,
        scene.far_m,
        allowed_px,
        tolerance_mm(lens, step, scene.near_m, scene.far_m, allowed_px),
        off_mm,
        _worse_px(lens, off_mm, step, scene.near_m, scene.far_m),
    )


def _worse_px(lens: Lens, off_mm: float, step_rad: float, near_m: float, far_m: float) -> float:
    return max(shift_px(lens, sign * off_mm, step_rad, near_m, far_m) for sign in (1, -1))


def _angle_rad(off_m: float, half_rad: float, distance_m: float) -> float:
    """Off the line of sight, of a thing ``half`` off it as seen from the axis, as the pupil sees it."""
    return math.atan2(distance_m * math.sin(half_rad), distance_m * math.cos(half_rad) - off_m)
