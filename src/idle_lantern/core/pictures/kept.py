"""A picture whose tiles are kept once they were read: for those who ask for the same ones again and again."""

from __future__ import annotations

from typing import Any

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.pictures.source import PictureSource


class KeptPicture:
    """The tiles of a picture by way of a cache of so many bytes."""

    def __init__(self, source: PictureSource, most_bytes: float) -> None:
        self._made_of = source, most_bytes
        self.sizes, self.tile_px, self.space = source.sizes, source.tile_px, source.space
        self._tiles: SizedCache[tuple[int, int, int], Array] = SizedCache(
            lambda at: source.tile(*at), lambda tile: int(tile.nbytes), most_bytes
        )

    def __reduce__(self) -> tuple[Any, ...]:
        return KeptPicture, self._made_of

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile (h, w, 3 or 4); raises as the source."""
        return self._tiles.load((level, row, column))
