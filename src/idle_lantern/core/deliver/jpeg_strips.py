"""JPEG of any height in little memory: strips encoded one by one and laid behind each other.

Every row of blocks starts with a restart marker (ISO/IEC 10918-1, B.2.1 and E.1.4), after
which nothing depends on what came before. So strips of eight rows of blocks, or a multiple,
encoded on their own give the same stream as the whole picture would.
"""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from idle_lantern.core.deliver.streaming import Kept
from idle_lantern.core.deliver.writing import WriteOptions, jpeg_keywords
from idle_lantern.core.frames.metadata import to_exif

Array = NDArray[Any]

#: Rows of a strip must be a multiple of this: eight restart markers of sixteen rows.
STRIP_ROWS = 128
_SOF0, _SOS, _EOI, _RST0 = 0xC0, 0xDA, 0xD9, 0xD0


def write_jpeg_strips(
    path: Path,
    width: int,
    height: int,
    strips: Iterable[Array],
    options: WriteOptions,
    icc: bytes | None = None,
    kept: Kept | None = None,
    kept_rows: int = 0,
) -> None:
    """Write strips (h, ``width``, 3) uint8 from top to bottom; all but the last a multiple of ``STRIP_ROWS`` high.

    ``kept`` holds encoded strips of an earlier run, ``kept_rows`` in all, which come before those of ``strips``,
    and takes the new ones.
    """
    done = kept_rows
    with open(path, "wb") as stream:
        for i in range(0 if kept is None else len(kept)):
            assert kept is not None
            stream.write(kept[i])
        for strip in strips:
            header, data = _encoded(strip, options, icc, (width, height) if done == 0 else None)
            piece = (_with_height(header, height) if done == 0 else bytes([0xFF, _RST0 + 7])) + data
            if kept is not None:
                kept.append(piece)
            stream.write(piece)
            done += len(strip)
        if done != height:
            raise ValueError(f"{done} rows were given for a picture of {height}")
        stream.write(bytes([0xFF, _EOI]))


def strips_of(tiles: Iterable[tuple[Array, Array]], width: int) -> Iterator[Array]:
    """Rows of tiles (pixels, alpha) put side by side, 8 bit."""
    row: list[Array] = []
    for pixels, _alpha in tiles:
        row.append(pixels if pixels.dtype == np.uint8 else (pixels >> 8).astype(np.uint8))
        if sum(p.shape[1] for p in row) == width:
            yield np.concatenate(row, axis=1)
            row = []


def _encoded(
    strip: Array, options: WriteOptions, icc: bytes | None, whole: tuple[int, int] | None
) -> tuple[bytes, bytes]:
    """Header up to the scan, and the scan's data without the end marker; ``whole`` size for the first strip."""
    first: dict[str, Any] = {}
    if whole is not None:
        first = {"exif": to_exif(options.metadata, *whole), "icc_profile": icc}
    stream = io.BytesIO()
    Image.fromarray(np.ascontiguousarray(strip)).save(
        stream,
        "JPEG",
        restart_marker_rows=1,
        **jpeg_keywords(options),
        **first,
    )
    coded = stream.getvalue()
    start = _scan_start(coded)
    return coded[:start], coded[start:-2]


def _segments(coded: bytes) -> Iterator[tuple[int, int, int]]:
    """Marker, place and length of each segment up to the scan."""
    at = 2
    while True:
        marker, length = coded[at + 1], int.from_bytes(coded[at + 2 : at + 4], "big")
        yield marker, at, length
        if marker == _SOS:
            return
        at += 2 + length


def _scan_start(coded: bytes) -> int:
    return next(at + 2 + length for marker, at, length in _segments(coded) if marker == _SOS)


def _with_height(header: bytes, height: int) -> bytes:
    """The header of a strip as that of the whole."""
    at = next(at for marker, at, _ in _segments(header) if marker == _SOF0)
    return header[: at + 5] + height.to_bytes(2, "big") + header[at + 7 :]
