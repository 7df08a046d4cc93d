"""Holes of a shape on a grid."""

from __future__ import annotations

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array


def filled_holes(shape: Array) -> Array:
    """A shape (h, w) bool with what it encloses: places from which no way of steps across or down leads round it to the rim.

    What ``scipy.ndimage.binary_fill_holes`` does, without the third of a second that loading it takes.
    """
    outside = cv2.copyMakeBorder((np.asarray(shape) == 0).astype(np.uint8), 1, 1, 1, 1, cv2.BORDER_CONSTANT, value=1)
    cv2.floodFill(outside, None, (0, 0), 2)
    return np.asarray(outside[1:-1, 1:-1] != 2)
