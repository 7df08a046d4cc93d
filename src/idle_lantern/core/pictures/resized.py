"""A picture made smaller, tile by tile, from the nearest finer level."""

from __future__ import annotations

import math

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.rectangles import Rectangle, size_within
from idle_lantern.core.pictures.source import PictureSource, region

#: Pixels that a cubic kernel and the blur before it reach beyond a place.
_REACH_PX = 10


class ResizedPicture:
    """A picture whose longer side is at most ``long_side_px``; one that is no longer stays as it is.

    Colours are weighted by alpha, so that what shows nothing does not darken the rim. The level from which it is made is two to four
    times as large where there is one, so that a blur before the sampling keeps fine patterns from turning into coarse ones.
    """

    def __init__(self, source: PictureSource, long_side_px: int) -> None:
        self._source = source
        size = size_within(*source.sizes[0], long_side_px)
        self.sizes: tuple[tuple[int, int], ...] = (size,)
        self.tile_px, self.space = source.tile_px, source.space
        fitting = [i for i, s in enumerate(source.sizes) if s[0] >= 2 * size[0] and s[1] >= 2 * size[1]]
        self._level = fitting[-1] if fitting else 0
        # source pixels for one of the result
        self._steps = tuple(a / b for a, b in zip(source.sizes[self._level], size))

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile (h, w, 3 or 4); raises as the source."""
        (width, height), side = self.sizes[0], self.tile_px
        left, top = column * side, row * side
        wide, high = min(side, width - left), min(side, height - top)
        fx, fy = self._steps
        if fx == fy == 1:
            return region(self._source, Rectangle(left, top, wide, high), self._level)
        x = (np.arange(left, left + wide) + 0.5) * fx - 0.5
        y = (np.arange(top, top + high) + 0.5) * fy - 0.5
        whole = self._source.sizes[self._level]
        x0, y0 = max(0, math.floor(x[0]) - _REACH_PX), max(0, math.floor(y[0]) - _REACH_PX)
        x1, y1 = min(whole[0], math.ceil(x[-1]) + _REACH_PX + 1), min(whole[1], math.ceil(y[-1]) + _REACH_PX + 1)
        part = region(self._source, Rectangle(x0, y0, x1 - x0, y1 - y0), self._level)
        values = part.astype(np.float32)
        full = np.float32(1 if part.dtype.kind == "f" else np.iinfo(part.dtype).max)
        if part.shape[2] == 4:
            values[..., :3] *= values[..., 3:] / full
        # the sigma whose blur leaves a quarter of what is finer than the result can show (a Gaussian's own transform)
        blurred = cv2.GaussianBlur(
            values,
            (0, 0),
            max(0.01, 0.5 * math.sqrt(max(0, fx * fx - 1))),
            sigmaY=max(0.01, 0.5 * math.sqrt(max(0, fy * fy - 1))),
        )
        across, down = np.meshgrid((x - x0).astype(np.float32), (y - y0).astype(np.float32))
        made = cv2.remap(blurred, across, down, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
        if part.shape[2] == 4:
            share = np.clip(made[..., 3:] / full, 0, 1)
            made[..., :3] /= np.maximum(share, 1e-6)
        if part.dtype.kind == "f":
            return np.asarray(made)
        return np.asarray(np.rint(np.clip(made, 0, full)), part.dtype)
