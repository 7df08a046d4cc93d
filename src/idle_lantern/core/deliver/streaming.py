"""Pictures of any size to tiled pyramid TIFF, written as their tiles come: no more than a row of tiles is ever held.

The full picture comes first, then halves of it as sub-pictures (TIFF 6.0 supplement,
SubIFDs), so that viewers can open a gigapixel at once. What the halves are made from
waits in a file beside the target, not in memory.
"""

from __future__ import annotations

import tempfile
import zlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import IO, Any, Protocol

import cv2
import numpy as np
import tifffile
from numpy.typing import NDArray

from idle_lantern.core.deliver.writing import TIFF_MAX_BYTES, WriteOptions

Array = NDArray[Any]

TILE = 512
#: Halves are made until one fits into so many pixels a side.
_SMALLEST = 1024
_LEVEL = 4


class Kept(Protocol):
    """Packed pieces of a picture in the order of writing, which outlive the run."""

    def __len__(self) -> int:
        """How many there are."""

    def __getitem__(self, i: int) -> bytes:
        """Piece ``i``."""

    def append(self, data: bytes) -> None:
        """Keep one more."""


class _Blocks:
    """Half-size blocks of one level in a file, by row and column of the tiles they came from."""

    def __init__(self, stream: IO[bytes], columns: int, dtype: Any) -> None:
        self._stream, self._columns = stream, columns
        self._shape = (TILE // 2, TILE // 2, 4)
        self.dtype = np.dtype(dtype)
        self._bytes = int(np.prod(self._shape)) * self.dtype.itemsize

    def put(self, row: int, column: int, block: Array) -> None:
        self._stream.seek((row * self._columns + column) * self._bytes)
        self._stream.write(np.ascontiguousarray(block).tobytes())

    def get(self, row: int, column: int) -> Array:
        self._stream.seek((row * self._columns + column) * self._bytes)
        return np.frombuffer(self._stream.read(self._bytes), self.dtype).reshape(self._shape)


def write_tiles(
    path: Path,
    width: int,
    height: int,
    tiles: Iterable[tuple[Array, Array]],
    dtype: Any,
    options: WriteOptions,
    icc: bytes | None = None,
    kept: Kept | None = None,
) -> None:
    """Write tiles (pixels (h, w, 3) and alpha (h, w), row by row, ``TILE`` a side) as they come.

    ``kept`` holds packed tiles of an earlier run, which come before those of ``tiles``, and takes the new ones.

    The big variant is taken where the uncompressed picture and its halves would pass 4 GiB.
    """
    levels = 0
    while max(width, height) >> levels > _SMALLEST:
        levels += 1
    size = width * height * 4 * np.dtype(dtype).itemsize
    with tifffile.TiffWriter(path, bigtiff=size * 4 / 3 > TIFF_MAX_BYTES) as tiff:
        common: dict[str, Any] = {
            "dtype": dtype,
            "photometric": "rgb",
            "extrasamples": ["unassalpha"],
            "tile": (TILE, TILE),
            "compression": "deflate",
            "compressionargs": {"level": _LEVEL},
            "predictor": True,
            "maxworkers": 1,
            "resolutionunit": "INCH",
            "metadata": None,
        }
        with tempfile.TemporaryFile(dir=path.parent) as one, tempfile.TemporaryFile(dir=path.parent) as other:
            files = [one, other]
            below = _Blocks(files[0], -(-width // TILE), dtype)
            tiff.write(
                _pieces(tiles, kept, np.dtype(dtype), width, below if levels else None),
                shape=(height, width, 4),
                subifds=levels,
                resolution=(options.dpi, options.dpi),
                software="Idle Lantern",
                iccprofile=icc,
                **common,
            )
            for level in range(1, levels + 1):
                w, h = max(1, width >> level), max(1, height >> level)
                above, below = below, _Blocks(files[level % 2], -(-w // TILE), dtype)
                tiff.write(
                    _halved(_assembled(above, width >> (level - 1), height >> (level - 1), w, h), w, below),
                    shape=(h, w, 4),
                    subfiletype=1,
                    resolution=(options.dpi / 2**level, options.dpi / 2**level),
                    **common,
                )


def _packed(tiles: Iterable[tuple[Array, Array]]) -> Iterator[Array]:
    """Pixels and alpha as whole four-channel tiles, edges filled with nothing."""
    for pixels, alpha in tiles:
        whole = np.zeros((TILE, TILE, 4), pixels.dtype)
        whole[: alpha.shape[0], : alpha.shape[1], :3] = pixels
        whole[: alpha.shape[0], : alpha.shape[1], 3] = alpha
        yield whole


def _pieces(
    tiles: Iterable[tuple[Array, Array]], kept: Kept | None, dtype: Any, width: int, blocks: _Blocks | None
) -> Iterator[bytes]:
    """The full picture's tiles packed: those kept of an earlier run, then the new ones."""
    columns = -(-width // TILE)

    def put_half(i: int, tile: Array) -> None:
        if blocks is not None:
            blocks.put(i // columns, i % columns, _half_of(tile))

    done = 0 if kept is None else len(kept)
    for i in range(done):
        assert kept is not None
        data = kept[i]
        if blocks is not None:
            put_half(i, _unpacked(data, dtype))
        yield data
    for i, tile in enumerate(_packed(tiles), done):
        data = _packed_bytes(tile)
        if kept is not None:
            kept.append(data)
        put_half(i, tile)
        yield data


def _half_of(tile: Array) -> Array:
    """Four-channel tile at half size; what is not shown has no colour and must not darken the rim of what is."""
    side = tile.shape[1] // 2, tile.shape[0] // 2
    half: Array = cv2.resize(tile, side, interpolation=cv2.INTER_AREA)
    alpha = tile[..., 3]
    if alpha.min() == alpha.max():
        return half
    weight = alpha.astype(np.float32)
    colours = cv2.resize(tile[..., :3] * weight[..., None], side, interpolation=cv2.INTER_AREA)
    share = cv2.resize(weight, side, interpolation=cv2.INTER_AREA)
    half[..., :3] = np.rint(colours / np.maximum(share, 1e-6)[..., None])
    return half


def _packed_bytes(tile: Array) -> bytes:
    """Horizontal differences, deflated (TIFF 6.0, section 14; RFC 1950)."""
    difference = tile.copy()
    difference[:, 1:] -= tile[:, :-1]
    return zlib.compress(difference.tobytes(), _LEVEL)


def _unpacked(data: bytes, dtype: Any) -> Array:
    difference = np.frombuffer(zlib.decompress(data), dtype).reshape(TILE, TILE, 4)
    result: Array = np.add.accumulate(difference, axis=1, dtype=dtype)
    return result


def _halved(tiles: Iterable[Array], width: int, blocks: _Blocks | None) -> Iterator[Array]:
    """The tiles as they come; their halves are put by for the level below."""
    columns = -(-width // TILE)
    for i, tile in enumerate(tiles):
        if blocks is not None:
            blocks.put(i // columns, i % columns, _half_of(tile))
        yield tile


def _assembled(above: _Blocks, above_width: int, above_height: int, width: int, height: int) -> Iterator[Array]:
    """Tiles of a level from the four halves that lie in each."""
    most_columns, most_rows = -(-above_width // TILE), -(-above_height // TILE)
    half = TILE // 2
    for row in range(-(-height // TILE)):
        for column in range(-(-width // TILE)):
            tile = np.zeros((TILE, TILE, 4), above.dtype)
            for dy in (0, 1):
                for dx in (0, 1):
                    r, c = 2 * row + dy, 2 * column + dx
                    if r < most_rows and c < most_columns:
                        tile[dy * half : (dy + 1) * half, dx * half : (dx + 1) * half] = above.get(r, c)
            yield tile
