"""A smooth hump over azimuth: how a band in the sky, or a veil about the sun, grows and falls."""

from __future__ import annotations

import math

import numpy as np

from idle_lantern.core.base.arrays import Array


def bump(yaw_deg: Array, middle_deg: float, width_deg: float) -> Array:
    """1 at ``middle_deg``, a half at half of ``width_deg`` to either side, 0 from ``width_deg`` on (a raised cosine), of any shape (...,).

    NaN is 0.
    """
    off = np.abs((np.nan_to_num(yaw_deg, nan=middle_deg + 180) - np.float32(middle_deg) + 180) % 360 - 180)
    share = np.minimum(off * np.float32(math.pi / width_deg), np.float32(math.pi))
    return np.asarray((1 + np.cos(share)) / 2, np.float32)
