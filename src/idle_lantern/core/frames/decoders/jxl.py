"""JPEG XL through libjxl, of 8 and 16 bit; size and facts from its headers, so that no pixel is unpacked for them."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import BinaryIO

import imagecodecs
import numpy as np
from PIL import Image

from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.frames.bounds import Claim, check_claim
from idle_lantern.core.frames.decoders.head import FileHead, of_samples
from idle_lantern.core.frames.metadata import Metadata, from_exif

_STREAM = b"\xff\x0a"
#: A camera's facts take some kilobytes; packed ones must not become a flood.
_MOST_PACKED_BYTES, _MOST_EXIF_BYTES = 1_000_000, 4_000_000
_SIDEWAYS = (5, 6, 7, 8)
#: Width of a picture by its height, by the code of the header (ISO/IEC 18181-1, SizeHeader).
_RATIOS = {1: (1, 1), 2: (12, 10), 3: (4, 3), 4: (3, 2), 5: (16, 9), 6: (5, 4), 7: (2, 1)}


def head(path: Path) -> FileHead:
    """Size, depth and facts; the decoder turns the picture itself."""
    exif, stream = None, b""
    with open(path, "rb") as file:
        for kind, start, size in _boxes(file, path.stat().st_size):
            file.seek(start)
            if kind == b"brob" and 4 < size < _MOST_PACKED_BYTES and file.read(4) == b"Exif":
                kind, body = b"Exif", bytes(imagecodecs.brotli_decode(file.read(size - 4), out=_MOST_EXIF_BYTES))
            elif kind == b"Exif" and size > 12:
                body = file.read(size)
            if kind == b"Exif" and size > 12:
                exif = Image.Exif()
                exif.load(b"Exif\0\0" + body[4 + int(struct.unpack(">I", body[:4])[0]) :])
            elif kind in (b"jxlc", b"jxlp") and not stream:
                stream = file.read(min(size, 64))[4 if kind == b"jxlp" else 0 :]
    width, height, bits = _of_stream(stream, path)
    bits = 8 if bits <= 8 else 16
    check_claim(path, Claim(width, height, 4, 2))
    metadata = from_exif(exif, max(width, height)) if exif is not None else Metadata()
    return FileHead(width, height, bits, replace(metadata, orientation=1))


def pixels(path: Path) -> Picture:
    """The picture; values of 32 bit from 0 to 1."""
    samples = np.asarray(imagecodecs.jpegxl_decode(path.read_bytes()))
    if samples.dtype.kind == "f":
        whole = np.clip(np.nan_to_num(samples.astype(np.float32)), 0, 1)
        samples = np.rint(whole * 65535).astype(np.uint16)
    elif samples.dtype == np.uint16 and (most := 2 ** _bits_of(path) - 1) < 65535:
        # the decoder leaves values of 9 to 15 bit as they are
        table = np.rint(np.minimum(np.arange(65536) / most, 1) * 65535).astype(np.uint16)
        samples = np.take(table, samples)
    return of_samples(samples)


def _bits_of(path: Path) -> int:
    with open(path, "rb") as file:
        for kind, start, size in _boxes(file, path.stat().st_size):
            if kind in (b"jxlc", b"jxlp"):
                file.seek(start)
                return _of_stream(file.read(min(size, 64))[4 if kind == b"jxlp" else 0 :], path)[2]
    return 16


def _boxes(file: BinaryIO, length: int) -> Iterator[tuple[bytes, int, int]]:
    """Kind, start and size of what each box holds (ISO/IEC 18181-2); a bare stream is one of kind jxlc."""
    if file.read(2) == _STREAM:
        yield b"jxlc", 0, length
        return
    at = 0
    while at + 8 <= length:
        file.seek(at)
        size, kind = struct.unpack(">I4s", file.read(8))
        start = at + 8
        if size == 1:
            size, start = int(struct.unpack(">Q", file.read(8))[0]), start + 8
        end = length if size == 0 else at + size
        if not start <= end <= length:
            raise ValueError("a box ends outside the file")
        yield kind, start, end - start
        at = end


class _Bits:
    """Bits from the least significant on."""

    def __init__(self, data: bytes) -> None:
        self._value = int.from_bytes(data, "little")
        self._left = 8 * len(data)

    def take(self, count: int) -> int:
        self._left -= count
        if self._left < 0:
            raise ValueError("the header is cut short")
        taken = self._value & ((1 << count) - 1)
        self._value >>= count
        return taken

    def size(self) -> tuple[int, int]:
        """Width and height (SizeHeader)."""
        small = self.take(1)
        high = self._side(small)
        ratio = self.take(3)
        if ratio:
            over, under = _RATIOS[ratio]
            return high * over // under, high
        return self._side(small), high

    def _side(self, small: int) -> int:
        return 8 * (1 + self.take(5)) if small else 1 + self.take((9, 13, 18, 30)[self.take(2)])


def _of_stream(data: bytes, path: Path) -> tuple[int, int, int]:
    """Width, height, both upright, and bits of a sample (ISO/IEC 18181-1, ImageMetadata)."""
    if data[:2] != _STREAM:
        raise ValueError("no stream")
    bits = _Bits(data[2:])
    width, height = bits.size()
    if bits.take(1):  # all as usual
        return width, height, 8
    orientation = 1
    if bits.take(1):
        orientation = 1 + bits.take(3)
        if bits.take(1):
            bits.size()
        preview, animation = bits.take(1), bits.take(1)
        if animation:
            raise UnreadableFrame(
                "Is an animation", where=path.name, remedy="Save the picture of it that is meant alone"
            )
        if preview:  # what follows it is of no size known here
            return *((height, width) if orientation in _SIDEWAYS else (width, height)), 16
    deep = 16 if bits.take(1) else (8, 10, 12, 0)[bits.take(2)] or 1 + bits.take(6)
    return *((height, width) if orientation in _SIDEWAYS else (width, height)), deep
