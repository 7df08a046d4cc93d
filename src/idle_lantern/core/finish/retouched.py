"""A picture that was gone on with by hand in another program: what was changed there, laid over the joined picture it came from."""

from __future__ import annotations

import math
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.finish.drawn import Place
from idle_lantern.core.finish.strengths import direction_of
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.pictures.directions import CanvasDirections
from idle_lantern.core.pictures.operations import OperatedPicture
from idle_lantern.core.pictures.source import HeldPicture, PictureSource, region
from idle_lantern.core.pictures.tiled import open_picture

#: A canvas is known again by where it looks at these shares of its sides, to so many degrees.
_LOOKED_AT, _ALIKE_DEG = (1 / 6, 1 / 2, 5 / 6), 0.02


def looks_of(canvas: CanvasDirections, size: tuple[int, int]) -> tuple[Place, ...]:
    """Where a picture of ``size`` pixels looks at nine places: azimuths and altitudes in degrees, without those that show no direction."""
    at = np.array([(x * size[0], y * size[1]) for y in _LOOKED_AT for x in _LOOKED_AT]) - 0.5
    seen = canvas.directions(at)
    angles = np.degrees(np.stack(azimuth_altitude(seen[np.isfinite(seen).all(1)]), -1))
    return tuple((round(float(yaw), 4), round(float(pitch), 4)) for yaw, pitch in angles)


def looks_alike(one: tuple[Place, ...], other: tuple[Place, ...]) -> bool:
    """Whether two pictures look to the same places."""
    if len(one) != len(other):
        return False
    apart = [float(np.linalg.norm(direction_of(a) - direction_of(b))) for a, b in zip(one, other)]
    return max(apart, default=0.0) < math.radians(_ALIKE_DEG)


def opened(path: Path) -> PictureSource:
    """The retouched picture in a file, opened once as long as the file stays what it is.

    Raises
    ------
    InputError
        It is gone, or damaged.
    """
    try:
        known = path.stat()
    except OSError as error:
        raise InputError(
            "The retouched picture is gone", where=path.name, remedy="Take it in again, or take its step away"
        ) from error
    return _opened(path, known.st_mtime_ns, known.st_size)


@lru_cache(maxsize=2)
def _opened(path: Path, _changed_ns: int, _bytes: int) -> PictureSource:
    return open_picture(path)


class RetouchedPicture:
    """``source`` with ``over``, of the same size, laid over it as far as that shows anything; as deep as the deeper of both.

    Raises
    ------
    InputError
        ``over`` has another size.
    """

    def __init__(self, source: PictureSource, over: PictureSource) -> None:
        if over.sizes[0] != source.sizes[0]:
            raise InputError(
                f"The retouched picture has {size_told(over)} and the joined one {size_told(source)}",
                remedy="Switch its step off, or take in one of the present picture",
            )
        self._source, self._over = source, _in_levels(in_space(over, source), source)
        self.sizes, self.tile_px, self.space = source.sizes, source.tile_px, source.space

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile (h, w, 3 or 4); raises as the source."""
        below = self._source.tile(level, row, column)
        h, w = below.shape[:2]
        side = self.tile_px
        above = region(self._over, Rectangle(column * side, row * side, w, h), level)
        dtype = np.result_type(below.dtype, above.dtype)
        below, above = as_deep(below, dtype), as_deep(above, dtype)
        if above.shape[2] == 3:
            return above if below.shape[2] == 3 else np.dstack([above, np.full((h, w), full_of(dtype), dtype)])
        if not above[..., 3].any():
            return below
        # one over the other (Porter and Duff 1984), alpha not multiplied in
        full = np.float32(full_of(dtype))
        over = above[..., 3:].astype(np.float32) / full
        under = below[..., 3:].astype(np.float32) / full if below.shape[2] == 4 else np.ones_like(over)
        alpha = over + under * (1 - over)
        mixed = above[..., :3] * over + below[..., :3] * (under * (1 - over))
        mixed /= np.maximum(alpha, 1e-6)
        made = mixed if below.shape[2] == 3 else np.dstack([mixed, alpha * full])
        return np.asarray(made if dtype.kind == "f" else np.rint(made), dtype)


def in_space(picture: PictureSource, like: PictureSource) -> PictureSource:
    """A picture in the colours of another: as display values, or as light where the other is light."""
    if picture.space == like.space:
        return picture
    if like.space.is_linear:
        return OperatedPicture(picture, (), like.space, light=True)
    return OperatedPicture(picture, (), like.space)


def _in_levels(picture: PictureSource, like: PictureSource) -> PictureSource:
    """A picture with the levels of another of its size."""
    if picture.sizes == like.sizes:
        return picture
    pixels = region(picture, Rectangle(0, 0, *picture.sizes[0]))
    alpha = np.ascontiguousarray(pixels[..., 3]) if pixels.shape[2] == 4 else None
    held = HeldPicture(Picture(np.ascontiguousarray(pixels[..., :3]), alpha, space=picture.space))
    if held.sizes != like.sizes:
        raise InputError("The retouched picture has no reduced copies that fit", remedy="Take it in in the window")
    return held


def as_deep(pixels: Array, dtype: np.dtype[Any]) -> Array:
    """Pixels (...,) of a shallower kind in a deeper one; white stays white."""
    if pixels.dtype == dtype:
        return pixels
    if dtype.kind == "f":
        return np.asarray(pixels / np.float32(full_of(pixels.dtype)), dtype)
    return np.asarray(pixels.astype(dtype) * dtype.type(full_of(dtype) // full_of(pixels.dtype)))


def full_of(dtype: np.dtype[Any]) -> float | int:
    """The value of white: 1 of floats, else the largest number."""
    return 1.0 if np.dtype(dtype).kind == "f" else int(np.iinfo(dtype).max)


def size_told(picture: PictureSource) -> str:
    """Width and height of a picture, for people."""
    width, height = picture.sizes[0]
    return f"{width} x {height} px"
