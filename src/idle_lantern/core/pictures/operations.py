"""Operations on pictures of any size: each works on a tile with a stated halo, and a stack of them is itself a picture.

The same operation on a coarser level agrees with the reduced full result: figures are in degrees, or in pixels of the full picture
that ``TilePlace.scale`` brings to the level's.
"""

from __future__ import annotations

import hashlib
import math
from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from threading import Lock
from typing import Any, ClassVar, Literal

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.colour.convert import converted
from idle_lantern.core.colour.space import ColourSpace, light_matrix
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.kept import KeptPicture
from idle_lantern.core.pictures.rims import RimmedTiles
from idle_lantern.core.pictures.source import PictureSource, light_of, region

#: Memory for tiles that were made and may be asked for again.
_CACHE_BYTES = 64_000_000
#: The same for the rows of tiles under a crop.
_ROWS_BYTES = 256_000_000


@dataclass(frozen=True)
class TilePlace:
    """Where a tile lies: its box on a level of ``size``, of a picture of ``full`` size in pixels."""

    box: Rectangle
    size: tuple[int, int]
    full: tuple[int, int]

    @property
    def scale(self) -> tuple[float, float]:
        """Pixels of the full picture, across and down, for one of the level."""
        return self.full[0] / self.size[0], self.full[1] / self.size[1]

    def full_pixels(self) -> Array:
        """Centres of the tile's pixels in pixels of the full picture, (h, w, 2) of x and y."""
        x = np.arange(self.box.left, self.box.left + self.box.width)
        y = np.arange(self.box.top, self.box.top + self.box.height)
        return np.asarray((np.stack(np.meshgrid(x, y), -1) + 0.5) * np.asarray(self.scale) - 0.5)


class Operation(ABC):
    """A pure function on tiles.

    ``name`` is what a recipe calls it, ``works_in`` the values that ``apply`` gets: display values of the picture's space, or its
    linear light.
    """

    name: ClassVar[str]
    works_in: ClassVar[Literal["display", "linear"]] = "display"

    @property
    def halo_px(self) -> float:
        """How far beyond a tile it reads, in pixels of the full picture."""
        return 0.0

    @property
    @abstractmethod
    def key(self) -> str:
        """A name for all that decides what it does."""

    def size(self, size: tuple[int, int]) -> tuple[int, int]:
        """Width and height of the full picture after it."""
        return size

    def touches(self, at: TilePlace) -> bool:
        """Whether it may change anything there; where it does not the tile stays as it is, to the last bit."""
        return True

    @abstractmethod
    def apply(self, tile: Float32Image, at: TilePlace) -> Float32Image:
        """What becomes of a tile (h, w, 4): red, green, blue, and alpha, which is not multiplied in; 0 to 1, light beyond."""

    def apply_parts(
        self, colours: Float32Image, alpha: Float32Image, at: TilePlace
    ) -> tuple[Float32Image, Float32Image]:
        """The same with colours (h, w, 3) and alpha (h, w) by themselves: for what works on colours, since taking them apart costs more
        than many a step."""
        tile = self.apply(np.dstack([colours, alpha]), at)
        return np.ascontiguousarray(tile[..., :3]), np.ascontiguousarray(tile[..., 3])


class OperatedPicture:
    """A picture after operations, in their order, and in another colour space where ``space`` is given.

    With ``light`` its tiles are linear light of that space (float32), values beyond white included. An operation that changes the size leaves the full level only.
    """

    def __init__(
        self,
        source: PictureSource,
        operations: Sequence[Operation] = (),
        space: ColourSpace | None = None,
        *,
        light: bool = False,
    ) -> None:
        self._source, self._operations = source, tuple(operations)
        self._made_of = source, self._operations, space, light
        full = source.sizes[0]
        for operation in operations:
            full = operation.size(full)
        grows = full != source.sizes[0]
        self.sizes = (full,) if grows else source.sizes
        space = space or source.space
        self.tile_px, self._light = source.tile_px, light
        self.space = space.in_light if light else space
        self._lock = Lock()
        self._margins: dict[int, RimmedTiles] = {}
        self._tiles: SizedCache[tuple[int, int, int], Array] = SizedCache(
            self._made, lambda tile: int(tile.nbytes), _CACHE_BYTES
        )

    def __reduce__(self) -> tuple[Any, ...]:
        return _operated, self._made_of

    def _rimmed(self, level: int, spare: int) -> RimmedTiles:
        with self._lock:
            if level not in self._margins:
                self._margins[level] = RimmedTiles(self._source, spare)
            return self._margins[level]

    @cached_property
    def _channels(self) -> int:
        last = len(self._source.sizes) - 1
        return int(self._source.tile(last, 0, 0).shape[2])

    @property
    def key(self) -> str:
        """A name for all that was done to the source."""
        parts = repr((*(o.key for o in self._operations), self.space))
        return hashlib.sha256(parts.encode()).hexdigest()

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile (h, w, 3 or 4); raises as the source."""
        return self._tiles.load((level, row, column))

    def _made(self, at: tuple[int, int, int]) -> Array:
        level, row, column = at
        width, height = self.sizes[level]
        left, top = column * self.tile_px, row * self.tile_px
        box = Rectangle(left, top, min(self.tile_px, width - left), min(self.tile_px, height - top))
        place = TilePlace(box, self.sizes[level], self.sizes[0])
        if not any(o.touches(place) for o in self._operations):
            return self._finished(_read(self._source, level, box))
        scale = min(place.scale)
        spare = math.ceil(sum(o.halo_px for o in self._operations) / scale)
        wide = _grown(box, spare, width, height)
        place = replace(place, box=wide)
        if 0 < spare <= self.tile_px // 8 and len(self.sizes) == len(self._source.sizes):
            pixels = self._rimmed(level, spare).tile(level, row, column)
        else:
            pixels = _read(self._source, level, wide)
        colours, alpha = self._operated(pixels, place)
        inner = np.s_[box.top - wide.top :, box.left - wide.left :]
        colours, alpha = (part[inner][: box.height, : box.width] for part in (colours, alpha))
        # what has no gap gets none: operations only cover
        if self._light or pixels.dtype.kind == "f" or self.space != self._source.space:
            made = self._finished(np.dstack([colours, alpha]) if self._channels == 4 else colours)
            if self._light or pixels.dtype.kind == "f":
                return made
            colours, alpha = made[..., :3], made[..., 3] if self._channels == 4 else alpha
        whole = _whole_numbers(colours, pixels.dtype)
        return np.dstack([whole, _whole_numbers(alpha, pixels.dtype)]) if self._channels == 4 else whole

    def _operated(self, pixels: Array, place: TilePlace) -> tuple[Float32Image, Float32Image]:
        """Colours (h, w, 3) and alpha (h, w) after all operations, from 0 to 1."""
        scale = np.float32(1 if pixels.dtype.kind == "f" else 1 / np.iinfo(pixels.dtype).max)
        colours = pixels[..., :3].astype(np.float32)
        colours *= scale
        alpha = pixels[..., 3] * scale if pixels.shape[2] == 4 else np.ones(pixels.shape[:2], np.float32)
        space, linear = self._source.space, self._source.space.is_linear
        given = linear
        for operation in self._operations:
            if (operation.works_in == "linear") != linear and not given:
                change = space.to_linear if operation.works_in == "linear" else space.from_linear
                colours = change(colours)
                linear = not linear
            colours, alpha = operation.apply_parts(colours, alpha, place)
        if linear and not given:
            colours = space.from_linear(colours)
        return colours, alpha

    def _finished(self, pixels: Array) -> Array:
        """Pixels of the source's space, of any dtype, in the space of this picture."""
        source = self._source.space
        if self._light:
            light = light_of(pixels, source)
            light[..., :3] = light[..., :3] @ light_matrix(source, self.space).T.astype(np.float32)
            return light
        if self.space == source:
            return pixels
        colours = converted(pixels[..., :3], source, self.space)
        return np.concatenate([colours, pixels[..., 3:]], -1)


def _operated(
    source: PictureSource, operations: Sequence[Operation], space: ColourSpace | None, light: bool
) -> OperatedPicture:
    return OperatedPicture(source, operations, space, light=light)


def _whole_numbers(values: Array, dtype: np.dtype[Any]) -> Array:
    """Values from 0 to 1, cut there, as whole numbers."""
    made = values * np.float32(np.iinfo(dtype).max)
    np.clip(made, 0, np.iinfo(dtype).max, out=made)
    np.rint(made, out=made)
    return np.asarray(made, dtype)


class CroppedPicture:
    """The part of a picture inside a box: tiles of its own grid, each tile of the picture read once.

    Its coarser levels are sampled from those of the picture, between its pixels where the box does not lie on their grid.
    """

    def __init__(self, source: PictureSource, box: Rectangle) -> None:
        self._source, self._box = source, box
        self.sizes: tuple[tuple[int, int], ...] = tuple(
            (max(1, box.width >> level), max(1, box.height >> level)) for level in range(len(source.sizes))
        )
        self.tile_px, self.space = source.tile_px, source.space
        # two rows of the picture's tiles lie under a row of a crop that is off its grid
        two_rows = 2 * (-(-source.sizes[0][0] // self.tile_px) + 2) * self.tile_px**2 * 8
        self._below = KeptPicture(source, min(_ROWS_BYTES, two_rows))

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile (h, w, 3 or 4) of the crop; raises as the source."""
        side, (width, height) = self.tile_px, self.sizes[level]
        left, top = column * side, row * side
        at = Rectangle(left, top, min(side, width - left), min(side, height - top))
        if level:
            return self._sampled(level, at)
        box = self._box
        return region(self._below, Rectangle(box.left + left, box.top + top, at.width, at.height))

    def __reduce__(self) -> tuple[Any, ...]:
        return CroppedPicture, (self._source, self._box)

    def _sampled(self, level: int, at: Rectangle) -> Array:
        """Pixels (h, w, 3 or 4) of a part of a coarser level."""
        whole, full, box = self._source.sizes[level], self._source.sizes[0], self._box
        own = self.sizes[level]
        x, y = (
            ((np.arange(first, first + count) + 0.5) * side / mine + begin) * there / of - 0.5
            for first, count, side, mine, begin, there, of in (
                (at.left, at.width, box.width, own[0], box.left, whole[0], full[0]),
                (at.top, at.height, box.height, own[1], box.top, whole[1], full[1]),
            )
        )
        x0, y0 = max(0, math.floor(x[0])), max(0, math.floor(y[0]))
        x1, y1 = min(whole[0], math.floor(x[-1]) + 2), min(whole[1], math.floor(y[-1]) + 2)
        part = region(self._below, Rectangle(x0, y0, x1 - x0, y1 - y0), level)
        values = part.astype(np.float32)
        if part.shape[2] == 4:  # what shows nothing darkens nothing
            values[..., :3] *= values[..., 3:]
        across, down = np.meshgrid((x - x0).astype(np.float32), (y - y0).astype(np.float32))
        made = cv2.remap(values, across, down, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        if part.shape[2] == 4:
            made[..., :3] /= np.maximum(made[..., 3:], 1e-6)
        return np.asarray(made if part.dtype.kind == "f" else np.rint(made), part.dtype)


def _grown(box: Rectangle, by: int, width: int, height: int) -> Rectangle:
    left, top = max(0, box.left - by), max(0, box.top - by)
    right, bottom = min(width, box.left + box.width + by), min(height, box.top + box.height + by)
    return Rectangle(left, top, right - left, bottom - top)


def _read(source: PictureSource, level: int, box: Rectangle) -> Array:
    """The pixels of a box; nothing (alpha 0) beyond the source, where an operation makes the picture larger."""
    width, height = source.sizes[level]
    inside = Rectangle(box.left, box.top, min(box.width, width - box.left), min(box.height, height - box.top))
    if (inside.width, inside.height) == (box.width, box.height):
        return region(source, box, level)
    like = source.tile(level, 0, 0)
    made = np.zeros((box.height, box.width, 4), like.dtype)
    if inside.width > 0 and inside.height > 0:
        seen = region(source, inside, level)
        made[: inside.height, : inside.width, : seen.shape[2]] = seen
        if seen.shape[2] == 3:
            made[: inside.height, : inside.width, 3] = 1 if like.dtype.kind == "f" else np.iinfo(like.dtype).max
    return made
