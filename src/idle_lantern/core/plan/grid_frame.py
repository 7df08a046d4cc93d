"""One planned frame: its number, place in the grid, and direction."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations


@dataclass(frozen=True)
class GridFrame:
    """One planned frame; ``number`` counts from 1 in the order of shooting and is its identity.

    ``role`` is ``field``, ``spare`` (beyond an end), ``zenith`` or ``nadir``; shifts
    are those of a shift lens.
    """

    number: int
    row: int
    column: int
    yaw_deg: float
    pitch_deg: float
    roll_deg: float = 0.0
    role: str = "field"
    shift_right_mm: float = 0.0
    shift_up_mm: float = 0.0

    @property
    def world_from_camera(self) -> Array:
        """Planned direction, a rotation (3, 3)."""
        return rotations.from_yaw_pitch_roll(*np.radians([self.yaw_deg, self.pitch_deg, self.roll_deg]))
