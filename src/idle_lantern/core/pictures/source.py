"""What a picture looks like to those who show or copy it: sizes by level, and tiles on demand."""

from __future__ import annotations

from typing import Protocol

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.colour.convert import converted
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.geometry.rectangles import Rectangle

TILE = 512
#: Levels are made until one fits into so many pixels a side.
SMALLEST_PX = 1024


class PictureSource(Protocol):
    """A picture in levels, each half the size of the one before; level 0 is the full picture.

    Tiles are (h, w, 3) or (h, w, 4) arrays of at most ``tile_px`` a side, smaller at the right and lower
    rim; whole numbers are display values of ``space``, floats its linear light. ``tile`` may be called by several threads at once.
    """

    sizes: tuple[tuple[int, int], ...]
    tile_px: int
    space: ColourSpace

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile (h, w, 3 or 4); raises InputError where the file no longer gives it."""


class HeldPicture:
    """A picture in memory: rough ones, and frames of usual size."""

    def __init__(self, picture: Picture) -> None:
        pixels = picture.pixels
        if picture.alpha is not None and not (picture.alpha == picture.full_scale).all():
            pixels = np.dstack([pixels, picture.alpha])
        self._levels = [np.ascontiguousarray(pixels)]
        while max(self._levels[-1].shape[:2]) > SMALLEST_PX and min(self._levels[-1].shape[:2]) > 1:
            h, w = self._levels[-1].shape[:2]
            half = cv2.resize(self._levels[-1], (max(1, w // 2), max(1, h // 2)), interpolation=cv2.INTER_AREA)
            self._levels.append(half)
        self.sizes = tuple((level.shape[1], level.shape[0]) for level in self._levels)
        self.tile_px, self.space = TILE, picture.space

    def tile(self, level: int, row: int, column: int) -> Array:
        """A view of one tile (h, w, 3 or 4)."""
        top, left = row * self.tile_px, column * self.tile_px
        return self._levels[level][top : top + self.tile_px, left : left + self.tile_px]


def light_of(pixels: Array, space: ColourSpace) -> Float32Image:
    """Linear light of display values of ``space``, or of what is light already, (h, w, 3 or 4); alpha from 0 to 1 beside it."""
    whole = np.float32(1 if pixels.dtype.kind == "f" else np.iinfo(pixels.dtype).max)
    light = space.to_linear(pixels[..., :3].astype(np.float32) / whole)
    return np.concatenate([light, pixels[..., 3:].astype(np.float32) / whole], -1)


def region(source: PictureSource, box: Rectangle, level: int = 0) -> Array:
    """The pixels (h, w, 3 or 4) of a box on a level, which lies inside it."""
    side = source.tile_px
    rows = range(box.top // side, -(-(box.top + box.height) // side))
    columns = range(box.left // side, -(-(box.left + box.width) // side))
    result: Array | None = None
    for row in rows:
        for column in columns:
            tile = source.tile(level, row, column)
            if result is None:
                result = np.zeros((box.height, box.width, tile.shape[2]), tile.dtype)
            top, left = row * side, column * side
            y0, y1 = max(top, box.top), min(top + tile.shape[0], box.top + box.height)
            x0, x1 = max(left, box.left), min(left + tile.shape[1], box.left + box.width)
            result[y0 - box.top : y1 - box.top, x0 - box.left : x1 - box.left] = tile[
                y0 - top : y1 - top, x0 - left : x1 - left
            ]
    assert result is not None
    return result


def reduced_in(source: PictureSource, longest_px: int, space: ColourSpace) -> Array:
    """As ``reduced``, (h, w, 3 or 4), with the colours as display values of ``space``."""
    pixels = reduced(source, longest_px)
    return np.dstack([converted(pixels[..., :3], source.space, space), pixels[..., 3:]])


def reduced(source: PictureSource, longest_px: int) -> Array:
    """All of the picture, (h, w, 3 or 4), from the largest level whose longer side is at most so long, or from the smallest one."""
    fitting = [i for i, size in enumerate(source.sizes) if max(size) <= longest_px]
    level = fitting[0] if fitting else len(source.sizes) - 1
    width, height = source.sizes[level]
    return region(source, Rectangle(0, 0, width, height), level)
