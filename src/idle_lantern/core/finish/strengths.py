"""Small functions that masks and steps share: a feather's fall, a band of hues, a place as a direction."""

from __future__ import annotations

import math

import numpy as np

from idle_lantern.core.base.arrays import Array


def ramp(beyond: Array, feather: float) -> Array:
    """From 1 where nothing is beyond to 0 at the feather's end, of any shape (...,); NaN is outside."""
    inside = beyond <= 0
    if feather > 0:
        inside = np.nan_to_num(np.clip(1 - beyond / np.float32(feather), 0, 1))
    return np.asarray(inside, np.float32)


def hue_strength(lab: Array, hue_deg: float, width_deg: float, feather_deg: float, chroma: float) -> Array:
    """How far colours (h, w, 3) of Oklab belong to a band of hues, (h, w); below ``chroma`` it falls to nothing at half of it."""
    a, b = lab[..., 1], lab[..., 2]
    turn = np.float32(180 / math.pi)
    off = np.abs((np.arctan2(b, a) * turn - hue_deg + 180) % 360 - 180) - width_deg / 2
    least = max(chroma, 1e-6)
    coloured = np.clip((np.hypot(a, b) - least / 2) / (least / 2), 0, 1)
    return ramp(np.maximum(off, 0), feather_deg) * coloured.astype(np.float32)


def direction_of(place_deg: tuple[float, float]) -> Array:
    """The unit direction (3,) of an azimuth and altitude, y down."""
    yaw, pitch = math.radians(place_deg[0]), math.radians(place_deg[1])
    return np.array([math.sin(yaw) * math.cos(pitch), -math.sin(pitch), math.cos(yaw) * math.cos(pitch)])
