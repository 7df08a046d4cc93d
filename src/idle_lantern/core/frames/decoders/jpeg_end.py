"""Whether a JPEG that decodes is whole: decoders fill with grey what is missing, and read zeros as if they were a picture."""

from __future__ import annotations

import io

import numpy as np
from PIL import Image

from idle_lantern.core.base.arrays import Array

_SCAN, _END, _PROGRESSIVE, _HUFFMAN = b"\xff\xda", b"\xff\xd9", b"\xff\xc2", 0xC4
#: Class and number of the table by which blocks of brightness are coded.
_BRIGHTNESS = 0x10
#: So many zero bytes on end are a hole: the codes for "nothing more here" of the usual tables have ones in them.
_HOLE = bytes(1024)
#: Rows at the foot that are all of one value may be missing; then the file is decoded once more without its last bytes.
_FOOT_ROWS, _LAST_BYTES = 8, 24


def is_whole(data: bytes, pixels: Array) -> bool:
    """Whether a JPEG file holds what was decoded from it, (H, W, 3).

    It ends with the mark that ends a picture (ITU-T T.81, B.1.1.3: EOI), has no hole of zeros, and its last bytes draw the last
    blocks of the picture. Of a progressive one, which is drawn over and over, only the first is asked.
    """
    scan = data.find(_SCAN)
    end = data.find(_END, scan)
    if scan < 0 or end < 0:
        return False
    if _PROGRESSIVE in data[:scan]:
        return True
    if data.find(_HOLE, scan, end) >= 0 and not _zeros_are_blocks(data[:scan]):
        return False
    return not _of_one_value(pixels[-_FOOT_ROWS:]) or _last_bytes_count(data, scan, end, pixels)


def _zeros_are_blocks(head: bytes) -> bool:
    """Whether the head's table for brightness codes an empty block in zeros only: then an even place is a run of zeros (ITU-T T.81, F.1.2)."""
    at = 2
    while at + 4 <= len(head) and head[at] == 0xFF:
        length = int.from_bytes(head[at + 2 : at + 4])
        if head[at + 1] == _HUFFMAN:
            table = head[at + 4 : at + 2 + length]
            while len(table) > 17:
                count = sum(table[1:17])
                # codes are given out in order, so the first one is all zeros
                if table[0] == _BRIGHTNESS and count and table[17] == 0:
                    return True
                table = table[17 + count :]
        at += 2 + length
    return False


def _of_one_value(rows: Array) -> bool:
    return bool((rows == rows[:1, :1]).all())


def _last_bytes_count(data: bytes, scan: int, end: int, pixels: Array) -> bool:
    """Whether the last bytes before the end draw the foot of the picture, not a place above it."""
    if end - scan < 4 * _LAST_BYTES:
        return True  # next to nothing is drawn at all
    shorter = data[: end - _LAST_BYTES] + _END
    with Image.open(io.BytesIO(shorter), formats=("JPEG",)) as image:
        if image.mode not in ("RGB", "L"):
            return True
        drawn = np.asarray(image.convert("RGB"))
    changed = np.flatnonzero((drawn.astype(np.int16) - pixels != 0).any((1, 2)))
    # what is of one value takes a bit or two for a block of 64 pixels
    even = 8 * _LAST_BYTES * 64 * 3 / pixels.shape[1]
    return not len(changed) or changed[-1] >= len(pixels) - even - 64
