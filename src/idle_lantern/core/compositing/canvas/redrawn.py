"""A picture that is there drawn on another canvas: how another projection or turn would look, at once."""

from __future__ import annotations

import math

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.compositing.canvas.canvas import Canvas


def redrawn(picture: Array, old: Canvas, new: Canvas, most_px: int = 120_000) -> Array:
    """The picture (h, w, 3 or 4) of ``old``, which may be reduced, on ``new`` reduced to some ``most_px``: (H, W, 4) uint8."""
    if picture.dtype == np.uint16:
        picture = (picture >> 8).astype(np.uint8)
    small = new.scaled(min(1.0, math.sqrt(most_px / (new.width * new.height))))
    u, v = np.meshgrid(np.arange(small.width, dtype=float), np.arange(small.height, dtype=float))
    with np.errstate(invalid="ignore"):
        return remapped(picture, old, old.pixels(small.directions(np.stack([u, v], -1))))


def remapped(picture: Array, old: Canvas, places: Array) -> Array:
    """What the picture (h, w, 3 or 4; uint8) of ``old``, which may be reduced, shows at places (H, W, 2) of its canvas: (H, W, 4) uint8."""
    with np.errstate(invalid="ignore"):
        inside = np.isfinite(places[..., 0]) & (places[..., 1] >= -0.5) & (places[..., 1] < old.height - 0.5)
        if old.full_circle:
            places[..., 0] %= old.width
        else:
            inside &= (places[..., 0] >= -0.5) & (places[..., 0] < old.width - 0.5)
    scale = np.array([picture.shape[1] / old.width, picture.shape[0] / old.height])
    at = ((np.nan_to_num(places) + 0.5) * scale - 0.5).astype(np.float32)
    drawn = cv2.remap(picture, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    if drawn.shape[2] == 3:
        drawn = np.dstack([drawn, np.full(drawn.shape[:2], 255, np.uint8)])
    drawn[~inside] = 0
    return np.asarray(drawn)
