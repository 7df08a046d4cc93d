"""Blurs whose sigma is told in pixels of the full picture."""

from __future__ import annotations

import math

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.finish.tile_look import TileLook

#: A Gaussian is cut at so many sigmas, and one of fewer pixels than this is none.
_CUT, _LEAST_PX = 4.0, 0.1


def halo_of(sigma_px: float) -> float:
    """How far a blur reaches."""
    return _CUT * sigma_px + 1


def blurred(values: Array, sigma_px: float, look: TileLook) -> Array:
    """One value a pixel (h, w) blurred by a Gaussian; what shows nothing weighs nothing. At the picture's rim it is mirrored."""
    sx, sy = (sigma_px / scale for scale in look.at.scale)
    if max(sx, sy) < _LEAST_PX:
        return values.copy()
    size = tuple(2 * math.ceil(_CUT * s) + 1 for s in (sx, sy))

    def blur(plane: Array) -> Array:
        plane = np.ascontiguousarray(plane, np.float32)
        return np.asarray(cv2.GaussianBlur(plane, size, sx, sigmaY=sy, borderType=cv2.BORDER_REFLECT))

    alpha = look.alpha
    if alpha.min() >= 1:
        return blur(values)
    share = blur(alpha)
    return np.asarray(np.where(share > 1e-4, blur(values * alpha) / np.maximum(share, 1e-4), values))
