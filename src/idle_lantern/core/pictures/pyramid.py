"""Pictures of any size to tiled pyramid TIFF, written as their tiles come: no more than a few tiles are ever held.

The full picture comes first, then halves of it as sub-pictures (TIFF 6.0 supplement,
SubIFDs), so that viewers can open a gigapixel at once. What the halves are made from
waits in a file beside the target, not in memory.
"""

from __future__ import annotations

import json
import tempfile
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, Protocol

import cv2
import numpy as np
import tifffile

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.runners import in_order
from idle_lantern.core.colour.profiles import told_profile
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.pictures.packing import packed_tile, unpacked_tile
from idle_lantern.core.pictures.source import SMALLEST_PX, TILE

#: Offsets in classic TIFF are 32 bit (TIFF 6.0); beyond, the big variant is written.
TIFF_MAX_BYTES = 2**32 - 2**20
#: Tags of TIFF 6.0.
_ARTIST, _COPYRIGHT = 315, 33432
_DEFLATE_WITH_DIFFERENCES, _NO_DIFFERENCES = 2, 1


class KeptTiles(Protocol):
    """Packed pieces of a picture in the order of writing, which outlive the run."""

    def __len__(self) -> int:
        """How many there are."""

    def __getitem__(self, i: int) -> bytes:
        """Piece ``i``."""

    def append(self, data: bytes) -> None:
        """Keep one more."""


@dataclass(frozen=True)
class PyramidInfo:
    """What a pyramid is of.

    ``dtype`` is uint8, uint16 or, of linear light, float32. Without ``alpha`` the picture has no gaps.
    """

    width: int
    height: int
    dtype: Any = np.uint8
    alpha: bool = True
    space: ColourSpace = SRGB
    dpi: float = 300.0

    @property
    def channels(self) -> int:
        """Three, or four with alpha."""
        return 4 if self.alpha else 3

    @property
    def told(self) -> dict[str, float]:
        """What the file tells of itself beside its profile: the light that white stands for."""
        return {"white": self.space.transfer.white}

    @property
    def columns(self) -> int:
        """Tiles across."""
        return -(-self.width // TILE)

    @property
    def rows(self) -> int:
        """Tiles down."""
        return -(-self.height // TILE)

    @property
    def halvings(self) -> int:
        """How many reduced copies follow the full picture."""
        levels = 0
        while max(self.width, self.height) >> levels > SMALLEST_PX:
            levels += 1
        return levels


class Earlier(Protocol):
    """A pyramid of the same form, of which tiles are taken over as they are packed."""

    def packed(self, level: int, row: int, column: int) -> bytes:
        """A tile's bytes."""

    def whole(self, level: int, row: int, column: int) -> Array:
        """A tile (TILE, TILE, C), nothing beyond the picture's rim."""


@dataclass(frozen=True)
class PackedTile:
    """A tile ready to be written, and its half for the level below; None where the tile is that of an earlier picture."""

    data: bytes
    half: Array | None


def packed(pixels: Array, alpha: Array | None) -> PackedTile:
    """A tile, pixels (h, w, 3) and alpha (h, w) of at most ``TILE`` a side, packed; edges are filled with nothing.

    Slow, and meant for workers.
    """
    h, w = pixels.shape[:2]
    whole = np.zeros((TILE, TILE, 3 if alpha is None else 4), pixels.dtype)
    whole[:h, :w, :3] = pixels
    if alpha is not None:
        whole[:h, :w, 3] = alpha
    return PackedTile(packed_tile(whole), _half_of(whole))


def write_pyramid(
    path: Path,
    info: PyramidInfo,
    tiles: Iterable[PackedTile],
    *,
    kept: KeptTiles | None = None,
    earlier: Earlier | None = None,
    threads: int = 2,
    author: str = "",
    rights: str = "",
) -> None:
    """Write tiles, row by row from the left, as they come.

    ``kept`` holds packed tiles of an earlier run, which come before those of ``tiles``, and takes the new ones.
    Tiles without a half are those of ``earlier``; below them only what they share with others is packed anew.
    ``author`` and ``rights`` are whose picture it is.
    The big variant is taken where the uncompressed picture and its halves would pass 4 GiB.

    Raises
    ------
    OSError
        The disk is full or the file cannot be written.
    """
    size = info.width * info.height * info.channels * np.dtype(info.dtype).itemsize
    common: dict[str, Any] = {
        "dtype": info.dtype,
        "photometric": "rgb",
        "extrasamples": ["unassalpha"] if info.alpha else None,
        "tile": (TILE, TILE),
        "compression": "deflate",
        "predictor": _NO_DIFFERENCES if np.dtype(info.dtype).kind == "f" else _DEFLATE_WITH_DIFFERENCES,
        "maxworkers": 1,
        "resolutionunit": "INCH",
        "metadata": None,
    }
    with (
        tifffile.TiffWriter(path, bigtiff=size * 4 / 3 > TIFF_MAX_BYTES) as tiff,
        tempfile.TemporaryFile(dir=path.parent) as one,
        tempfile.TemporaryFile(dir=path.parent) as other,
        ThreadPoolExecutor(threads) as pool,
    ):
        files = [one, other]
        below = _Blocks(files[0], info.columns, info)
        tiff.write(
            _pieces(tiles, kept, info, below if info.halvings else None),
            shape=(info.height, info.width, info.channels),
            subifds=info.halvings,
            resolution=(info.dpi, info.dpi),
            software="Idle Lantern",
            iccprofile=told_profile(info.space),
            description=json.dumps(info.told),
            extratags=[(tag, "s", 0, words, True) for tag, words in ((_ARTIST, author), (_COPYRIGHT, rights)) if words],
            **common,
        )
        width, height = info.width, info.height
        for level in range(1, info.halvings + 1):
            above, above_size = below, (width, height)
            width, height = max(1, info.width >> level), max(1, info.height >> level)
            below = _Blocks(files[level % 2], -(-width // TILE), info)
            assembled = _assembled(above, above_size, (width, height), info, earlier, level)
            ready = in_order(_packed_whole, assembled, pool, threads + 2)
            tiff.write(
                _level_pieces(ready, -(-width // TILE), below if level < info.halvings else None),
                shape=(height, width, info.channels),
                subfiletype=1,
                resolution=(info.dpi / 2**level, info.dpi / 2**level),
                **common,
            )


class _Blocks:
    """Half-size blocks of one level in a file, by row and column of the tiles they came from."""

    def __init__(self, stream: IO[bytes], columns: int, info: PyramidInfo) -> None:
        self._stream, self._columns = stream, columns
        self._shape = (TILE // 2, TILE // 2, info.channels)
        self._dtype = np.dtype(info.dtype)
        self._bytes = int(np.prod(self._shape)) * self._dtype.itemsize
        #: Tiles that are those of an earlier picture: nothing is put by of them.
        self.same: set[tuple[int, int]] = set()

    def put(self, row: int, column: int, block: Array | None) -> None:
        if block is None:
            self.same.add((row, column))
            return
        self._stream.seek((row * self._columns + column) * self._bytes)
        self._stream.write(np.ascontiguousarray(block).tobytes())

    def get(self, row: int, column: int) -> Array:
        self._stream.seek((row * self._columns + column) * self._bytes)
        return np.frombuffer(self._stream.read(self._bytes), self._dtype).reshape(self._shape)


def _packed_whole(tile: Array | bytes) -> PackedTile:
    if isinstance(tile, bytes):
        return PackedTile(tile, None)
    return PackedTile(packed_tile(tile), _half_of(tile))


def _pieces(
    tiles: Iterable[PackedTile], kept: KeptTiles | None, info: PyramidInfo, blocks: _Blocks | None
) -> Iterator[bytes]:
    """The full picture's tiles: those kept of an earlier run, then the new ones."""
    done = 0 if kept is None else len(kept)
    for i in range(done):
        assert kept is not None
        data = kept[i]
        if blocks is not None:
            whole = unpacked_tile(data, (TILE, TILE, info.channels), info.dtype)
            blocks.put(i // info.columns, i % info.columns, _half_of(whole))
        yield data
    for i, tile in enumerate(tiles, done):
        if kept is not None:
            kept.append(tile.data)
        if blocks is not None:
            blocks.put(i // info.columns, i % info.columns, tile.half)
        yield tile.data


def _level_pieces(tiles: Iterable[PackedTile], columns: int, blocks: _Blocks | None) -> Iterator[bytes]:
    """The tiles as they come; their halves are put by for the level below."""
    for i, tile in enumerate(tiles):
        if blocks is not None:
            blocks.put(i // columns, i % columns, tile.half)
        yield tile.data


def _half_of(tile: Array) -> Array:
    """A tile at half size; what is not shown has no colour and must not darken the rim of what is."""
    side = tile.shape[1] // 2, tile.shape[0] // 2
    half: Array = cv2.resize(tile, side, interpolation=cv2.INTER_AREA)
    if tile.shape[2] == 3:
        return half
    alpha = tile[..., 3]
    if alpha.min() == alpha.max():
        return half
    weight = alpha.astype(np.float32)
    colours = cv2.resize(tile[..., :3] * weight[..., None], side, interpolation=cv2.INTER_AREA)
    share = cv2.resize(weight, side, interpolation=cv2.INTER_AREA)
    even = colours / np.maximum(share, 1e-6)[..., None]
    half[..., :3] = even if tile.dtype.kind == "f" else np.rint(even)
    return half


def _assembled(
    above: _Blocks,
    above_size: tuple[int, int],
    size: tuple[int, int],
    info: PyramidInfo,
    earlier: Earlier | None,
    level: int,
) -> Iterator[Array | bytes]:
    """Tiles of a level from the four halves that lie in each; packed where all four are those of the earlier picture."""
    most_columns, most_rows = (-(-side // TILE) for side in above_size)
    half = TILE // 2
    for row in range(-(-size[1] // TILE)):
        for column in range(-(-size[0] // TILE)):
            parts = [(dy, dx) for dy in (0, 1) for dx in (0, 1)]
            parts = [(dy, dx) for dy, dx in parts if 2 * row + dy < most_rows and 2 * column + dx < most_columns]
            new = [(dy, dx) for dy, dx in parts if (2 * row + dy, 2 * column + dx) not in above.same]
            if earlier is None or len(new) == len(parts):
                tile = np.zeros((TILE, TILE, info.channels), info.dtype)
            elif not new:
                yield earlier.packed(level, row, column)
                continue
            else:
                tile = earlier.whole(level, row, column)
            for dy, dx in new:
                block = above.get(2 * row + dy, 2 * column + dx)
                tile[dy * half : (dy + 1) * half, dx * half : (dx + 1) * half] = block
            yield tile
