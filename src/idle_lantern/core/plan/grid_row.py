"""One row of a plan before its frames are numbered."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations


@dataclass(frozen=True)
class GridRow:
    """A pitch and the yaws along it, from left to right.

    ``step_rad`` is the turn that the overlap allows between two of its frames, 0 where the row has no neighbours.
    """

    pitch_rad: float
    yaws_rad: tuple[float, ...]
    role: str = "field"
    step_rad: float = 0.0


def cameras_of_rows(rows: Sequence[GridRow]) -> Array:
    """``world_from_camera`` of all frames, row after row, (F, 3, 3)."""
    angles = [(yaw, row.pitch_rad) for row in rows for yaw in row.yaws_rad]
    yaws, pitches = np.array(angles).T
    return rotations.from_yaw_pitch_roll(yaws, pitches, 0 * yaws)
