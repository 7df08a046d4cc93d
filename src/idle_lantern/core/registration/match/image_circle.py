"""The lit circle of a fisheye whose image does not fill the frame."""

from __future__ import annotations

import math
from collections.abc import Sequence

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.registration.match.features import WorkingFrame

#: Brighter than this is picture; the surround of a circle is black but for noise.
_LIT = 14
#: The circle is told from a dark scene by the corners, which must be dark in nearly all frames.
_DARK_FRAMES = 0.8
#: Towards its rim the circle fades; what lies beyond this share of it is not used.
_SOUND = 0.985


def image_circle_px(working: Sequence[WorkingFrame]) -> float | None:
    """Radius of the lit circle about the frame's centre in full-size pixels, or None where frames are filled."""
    greys = [cv2.cvtColor(frame.picture.pixels, cv2.COLOR_RGB2GRAY) for frame in working]
    if not working or sum(map(_dark_corners, greys)) < _DARK_FRAMES * len(working):
        return None
    radii = []
    for frame, grey in zip(working, greys):
        h, w = grey.shape
        y, x = np.nonzero(grey >= _LIT)
        if len(x):
            across, down = (x - (w - 1) / 2) * frame.scale[0], (y - (h - 1) / 2) * frame.scale[1]
            radii.append(float(np.quantile(np.hypot(across, down), 0.998)))
    if not radii:
        return None
    first = working[0]
    corner_px = math.hypot(first.picture.width * first.scale[0], first.picture.height * first.scale[1]) / 2
    # one bright frame shows the rim that dark ones hide
    radius = float(np.quantile(radii, 0.9)) * _SOUND
    return radius if radius < 0.95 * corner_px else None


def _dark_corners(grey: Array) -> bool:
    """Whether three corners of a frame show nothing."""
    corner = max(2, min(grey.shape) // 40)
    sides = (slice(corner), slice(-corner, None))
    return sum(float(np.median(grey[y, x])) < _LIT for y in sides for x in sides) >= 3
