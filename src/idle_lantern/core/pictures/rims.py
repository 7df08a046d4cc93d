"""Tiles with a margin of their neighbours, of which the rims are kept: else each would be unpacked nine times."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.pictures.source import PictureSource

_RIMS_BYTES = 120_000_000


class Rim(NamedTuple):
    """The outer rows and columns of a tile, (n, w, C) and (h, n, C)."""

    top: Array
    bottom: Array
    left: Array
    right: Array


class RimmedTiles:
    """Tiles of a picture with ``margin_px`` of what lies about each, which is less than a tile."""

    def __init__(self, source: PictureSource, margin_px: int) -> None:
        self._source, self._margin = source, margin_px
        self._rims: SizedCache[tuple[int, int, int], Rim] = SizedCache(
            lambda at: self._rim_of(source.tile(*at)), lambda rim: sum(part.nbytes for part in rim), _RIMS_BYTES
        )

    def tile(self, level: int, row: int, column: int) -> Array:
        """A tile with its margin, as far as the picture goes, (h, w, C); raises as the source."""
        own, n = self._source.tile(level, row, column), self._margin
        self._rims.put((level, row, column), self._rim_of(own))
        width, height = self._source.sizes[level]
        side = self._source.tile_px
        last_row, last_column = (height - 1) // side, (width - 1) // side
        above = self._beside(level, row - 1, column, last_column, "bottom") if row else None
        below = self._beside(level, row + 1, column, last_column, "top") if row < last_row else None
        left = self._rims.load((level, row, column - 1)).right[:, -n:] if column else own[:, :0]
        right = self._rims.load((level, row, column + 1)).left[:, :n] if column < last_column else own[:, :0]
        middle = np.concatenate([left, own, right], 1)
        return np.concatenate([part for part in (above, middle, below) if part is not None], 0)

    def _beside(self, level: int, row: int, column: int, last_column: int, part: str) -> Array:
        """The rows of the tiles above or below, corners included."""
        n = self._margin
        rows = [getattr(self._rims.load((level, row, column)), part)]
        if column:
            rows.insert(0, getattr(self._rims.load((level, row, column - 1)), part)[:, -n:])
        if column < last_column:
            rows.append(getattr(self._rims.load((level, row, column + 1)), part)[:, :n])
        return np.concatenate(rows, 1)

    def _rim_of(self, tile: Array) -> Rim:
        n = self._margin
        return Rim(tile[:n].copy(), tile[-n:].copy(), tile[:, :n].copy(), tile[:, -n:].copy())
