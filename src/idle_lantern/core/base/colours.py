"""Over the three colours of a picture: many times as fast as along the last axis of an array."""

from __future__ import annotations

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array


def largest(pixels: Array) -> Array:
    """The largest of three colours, (H, W) of the type of (H, W, 3)."""
    red, green, blue = cv2.split(pixels)
    return np.asarray(cv2.max(cv2.max(red, green), blue))


def smallest(pixels: Array) -> Array:
    """The smallest of three colours, (H, W) of the type of (H, W, 3)."""
    red, green, blue = cv2.split(pixels)
    return np.asarray(cv2.min(cv2.min(red, green), blue))


def total(pixels: Array) -> Array:
    """The sum of three colours, (H, W) float32 of (H, W, 3) float32."""
    return np.asarray(cv2.transform(pixels, np.ones((1, 3), np.float32)))
