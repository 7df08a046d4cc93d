"""Small functions that masks and steps share: a feather's fall, a band of hues, a place as a direction."""

from __future__ import annotations

import math

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array


def ramp(beyond: Array, feather: float) -> Array:
    """From 1 where ``beyond`` is nothing or less to 0 at the feather's end, of any shape (...,); NaN is outside."""
    if feather > 0:
        made = beyond * np.float32(-1 / feather)
        made += 1
        np.clip(made, 0, 1, out=made)
        # comparing tells NaN at a tenth of the cost of asking for it
        np.copyto(made, 0, where=made != made)
        return np.asarray(made, np.float32)
    return np.asarray(beyond <= 0, np.float32)


def hue_strength(lab: Array, hue_deg: float, width_deg: float, feather_deg: float, chroma: float) -> Array:
    """How far colours (h, w, 3) of Oklab belong to a band of hues, (h, w); below ``chroma`` it falls to nothing at half of it."""
    a, b = cv2.extractChannel(lab, 1), cv2.extractChannel(lab, 2)
    hue = math.radians(hue_deg)
    cos, sin = np.float32(math.cos(hue)), np.float32(math.sin(hue))
    # turned so that the band lies about nought: no hue jumps then
    off = np.abs(np.arctan2(b * cos - a * sin, a * cos + b * sin))
    off *= np.float32(180 / math.pi)
    off -= np.float32(width_deg / 2)
    strength = ramp(off, feather_deg)
    least = max(chroma, 1e-6)
    coloured = cv2.magnitude(a, b)
    coloured *= np.float32(2 / least)
    coloured -= 1
    np.clip(coloured, 0, 1, out=coloured)
    strength *= coloured
    return strength


def direction_of(place_deg: tuple[float, float]) -> Array:
    """The unit direction (3,) of an azimuth and altitude, y down."""
    yaw, pitch = math.radians(place_deg[0]), math.radians(place_deg[1])
    return np.array([math.sin(yaw) * math.cos(pitch), -math.sin(pitch), math.cos(yaw) * math.cos(pitch)])
