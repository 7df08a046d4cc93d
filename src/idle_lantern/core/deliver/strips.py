"""JPEG and PNG from rows of tiles: each row becomes a strip, packed by a few threads, written in order."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import IO

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.runners import in_order
from idle_lantern.core.colour.profiles import told_profile
from idle_lantern.core.deliver import jpeg_strips, png_strips
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.pictures.pyramid import KeptTiles, PyramidInfo


def write_strips(
    path: Path,
    info: PyramidInfo,
    tiles: Iterable[tuple[Array, Array | None]],
    options: WriteOptions,
    *,
    kept: KeptTiles | None = None,
    kept_rows: int = 0,
    threads: int = 2,
) -> None:
    """Write tiles (pixels, alpha), row by row from the left, as JPEG or PNG by the ending of ``path``.

    ``kept`` holds packed strips of an earlier run, ``kept_rows`` rows of pixels in all, which come before
    those of ``tiles``, and takes the new ones.

    Raises
    ------
    ValueError
        The tiles do not make up the picture.
    OSError
        The disk is full or the file cannot be written.
    """
    png = path.suffix.lower() == ".png"

    def pack(numbered: tuple[int, Array]) -> tuple[bytes, int]:
        top, strip = numbered
        if png:
            return png_strips.packed_strip(strip), len(strip)
        whole = (info.width, info.height) if top == 0 else None
        return jpeg_strips.packed_strip(strip, options, whole=whole, icc=told_profile(info.space)), len(strip)

    strips = strips_of(tiles, info.width, alpha=png and info.alpha, deep=png)
    with open(path, "wb") as stream, ThreadPoolExecutor(threads) as pool:
        target = png_strips.PngStream(stream, info, options.metadata) if png else _JpegStream(stream)
        for i in range(0 if kept is None else len(kept)):
            assert kept is not None
            target.add(kept[i])
        done = kept_rows
        for piece, rows in in_order(pack, _with_tops(strips, kept_rows), pool, 1):
            if kept is not None:
                kept.append(piece)
            target.add(piece)
            done += rows
        if done != info.height:
            raise ValueError(f"{done} rows were given for a picture of {info.height}")
        target.end()


def strips_of(
    tiles: Iterable[tuple[Array, Array | None]], width: int, *, alpha: bool = False, deep: bool = False
) -> Iterator[Array]:
    """Rows of tiles, pixels (h, w, 3) and alpha (h, w), put side by side, with alpha as a fourth channel or without, reduced to 8 bit unless ``deep``."""
    row: list[Array] = []
    for pixels, shown in tiles:
        whole = np.dstack([pixels, shown]) if alpha and shown is not None else pixels
        row.append((whole >> 8).astype(np.uint8) if whole.dtype == np.uint16 and not deep else whole)
        if sum(p.shape[1] for p in row) == width:
            yield np.concatenate(row, axis=1)
            row = []


def _with_tops(strips: Iterable[Array], top: int) -> Iterator[tuple[int, Array]]:
    for strip in strips:
        yield top, strip
        top += len(strip)


class _JpegStream:
    """A JPEG that grows by packed strips."""

    def __init__(self, stream: IO[bytes]) -> None:
        self._stream = stream

    def add(self, piece: bytes) -> None:
        self._stream.write(piece)

    def end(self) -> None:
        self._stream.write(jpeg_strips.END)
