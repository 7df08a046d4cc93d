"""Where one looks while looking around."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array


@dataclass(frozen=True)
class Sight:
    """Where one looks: azimuth and altitude of the middle, and the field across the longer side, in degrees."""

    yaw_deg: float
    pitch_deg: float
    field_deg: float

    def turn(self) -> Array:
        """Rows (3, 3): right, down and forward."""
        y, p = math.radians(self.yaw_deg), math.radians(self.pitch_deg)
        cy, sy, cp, sp = math.cos(y), math.sin(y), math.cos(p), math.sin(p)
        return np.array([[cy, 0, -sy], [sp * sy, cp, sp * cy], [cp * sy, -sp, cp * cy]])

    def focal_px(self, size: tuple[int, int]) -> float:
        """Pixels of a view of that size for a unit of the plane before the eye."""
        return max(size) / 2 / math.tan(math.radians(self.field_deg) / 2)
