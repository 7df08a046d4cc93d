"""PNG of any size in little memory, packed by several threads: strips filtered and deflated one by one.

A zlib stream may be cut at any place where its packer was flushed (RFC 1950, RFC 1951 section 3.2.4),
and the checksum of the whole follows from those of the parts; so strips are packed on their own and laid
behind each other (PNG, ISO/IEC 15948: sections 9 and 10).
"""

from __future__ import annotations

import struct
import zlib
from typing import IO

import numpy as np
from isal import isal_zlib

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.profiles import told_profile
from idle_lantern.core.frames.metadata import Metadata, to_exif
from idle_lantern.core.pictures.packing import deflated
from idle_lantern.core.pictures.pyramid import PyramidInfo

SIGNATURE = b"\x89PNG\r\n\x1a\n"
_RGB, _RGBA = 2, 6
_SUB = 1
_LEVEL = 2
_ZLIB_HEADER = b"\x78\x5e"
_BASE = 65521
_METRE_IN_INCHES = 1 / 0.0254


def packed_strip(strip: Array) -> bytes:
    """A strip (h, w, 3 or 4) of 8 or 16 bit: its checksum and length before filtering, then its deflated bytes."""
    rows = strip.astype(">u2") if strip.dtype == np.uint16 else strip
    height, _width, channels = strip.shape
    flat = np.ascontiguousarray(rows).view(np.uint8).reshape(height, -1)
    step = channels * strip.dtype.itemsize
    filtered = np.empty((height, 1 + flat.shape[1]), np.uint8)
    filtered[:, 0] = _SUB
    filtered[:, 1 : 1 + step] = flat[:, :step]
    np.subtract(flat[:, step:], flat[:, :-step], out=filtered[:, 1 + step :])
    raw = filtered.tobytes()
    packer = isal_zlib.compressobj(_LEVEL, isal_zlib.DEFLATED, -15)
    data = packer.compress(raw) + packer.flush(isal_zlib.Z_FULL_FLUSH)
    return struct.pack(">IQ", zlib.adler32(raw), len(raw)) + data


class PngStream:
    """A PNG that grows by packed strips."""

    def __init__(self, stream: IO[bytes], info: PyramidInfo, metadata: Metadata) -> None:
        self._stream, self._adler = stream, 1
        depth = 16 if np.dtype(info.dtype).itemsize == 2 else 8
        stream.write(SIGNATURE)
        header = struct.pack(">IIBBBBB", info.width, info.height, depth, _RGBA if info.alpha else _RGB, 0, 0, 0)
        self._chunk(b"IHDR", header)
        icc = told_profile(info.space)
        if icc:
            self._chunk(b"iCCP", b"ICC profile\0\0" + deflated(icc))
        per_metre = round(info.dpi * _METRE_IN_INCHES)
        self._chunk(b"pHYs", struct.pack(">IIB", per_metre, per_metre, 1))
        exif = to_exif(metadata, info.width, info.height).tobytes()
        self._chunk(b"eXIf", exif.removeprefix(b"Exif\0\0"))
        self._first = True

    def add(self, piece: bytes) -> None:
        """Write one strip of ``packed_strip``."""
        adler, length = struct.unpack(">IQ", piece[:12])
        self._adler = _joined(self._adler, adler, length)
        self._chunk(b"IDAT", (_ZLIB_HEADER if self._first else b"") + piece[12:])
        self._first = False

    def end(self) -> None:
        """Write what closes the picture."""
        last = isal_zlib.compressobj(_LEVEL, isal_zlib.DEFLATED, -15)
        self._chunk(b"IDAT", last.flush(isal_zlib.Z_FINISH) + struct.pack(">I", self._adler))
        self._chunk(b"IEND", b"")

    def _chunk(self, kind: bytes, data: bytes) -> None:
        check = zlib.crc32(data, zlib.crc32(kind))
        self._stream.write(struct.pack(">I", len(data)) + kind + data + struct.pack(">I", check))


def _joined(first: int, second: int, second_length: int) -> int:
    """Adler-32 of two runs of bytes laid behind each other, from that of each (RFC 1950, section 8.2)."""
    a1, b1, a2, b2 = first & 0xFFFF, first >> 16, second & 0xFFFF, second >> 16
    # the second run alone began with a = 1; behind the first it begins with a1
    a = (a1 + a2 - 1) % _BASE
    b = (b1 + b2 + (a1 - 1) * second_length) % _BASE
    return (b << 16) | a
