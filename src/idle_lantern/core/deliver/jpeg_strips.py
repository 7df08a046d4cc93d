"""JPEG of any height in little memory: strips encoded one by one and laid behind each other.

Every row of blocks starts with a restart marker (ISO/IEC 10918-1, B.2.1 and E.1.4), after
which nothing depends on what came before. So strips of eight rows of blocks, or a multiple,
encoded on their own give the same stream as the whole picture would.
"""

from __future__ import annotations

import io
from collections.abc import Iterator
from typing import Any

import numpy as np
from PIL import Image

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.deliver.write_options import WriteOptions, jpeg_keywords
from idle_lantern.core.frames.metadata import to_exif

#: Rows of a strip must be a multiple of this: eight restart markers of sixteen rows.
STRIP_ROWS = 128
#: Markers (ITU-T T.81, table B.1).
_SOF0 = 0xC0  # start of a baseline frame
_SOS = 0xDA  # start of a scan
_RST0 = 0xD0  # first of the restart markers
#: What closes the file.
END = b"\xff\xd9"


def packed_strip(
    strip: Array, options: WriteOptions, *, whole: tuple[int, int] | None = None, icc: bytes | None = None
) -> bytes:
    """A strip (h, w, 3) uint8 as it stands in the file; for the first one ``whole`` is the picture's width and height.

    All strips but the last must be a multiple of ``STRIP_ROWS`` high.
    """
    header, data = _encoded(strip, options, icc, whole)
    return (_with_height(header, whole[1]) if whole else bytes([0xFF, _RST0 + 7])) + data


def _encoded(
    strip: Array, options: WriteOptions, icc: bytes | None, whole: tuple[int, int] | None
) -> tuple[bytes, bytes]:
    """Header up to the scan, and the scan's data without the end marker; ``whole`` size for the first strip."""
    first: dict[str, Any] = {}
    if whole is not None:
        first = {"exif": to_exif(options.metadata, *whole), "icc_profile": icc}
        first |= {"xmp": options.xmp} if options.xmp else {}
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
