"""How far frames miss the direction they are planned for."""

from __future__ import annotations

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.plan.brief import Support


def pointing_errors(rng: np.random.Generator, support: Support, count: int) -> Array:
    """Small turns of ``count`` frames, (N, 3, 3), in the camera's own frame; hands roll about as much as they point wrong."""
    yaw, pitch, roll = np.radians(rng.normal(0, support.pointing, (3, count)))
    return rotations.from_yaw_pitch_roll(yaw, pitch, roll * (1.0 if support.kind == "hand" else 0.4))
