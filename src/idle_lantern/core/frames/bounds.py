"""What a picture file may claim: decided from its header, before a single pixel is unpacked.

A header may say anything. What it claims is held against what the file can hold at most (no packing is without
end), and against the memory that is free, so that a few bytes cannot take the machine down.
"""

from __future__ import annotations

import contextlib
import io
import mmap
import time
from dataclasses import dataclass
from pathlib import Path

import tifffile

from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.base.memory import available_bytes
from idle_lantern.core.base.units import file_size

#: Pictures above this are refused before they are decoded.
MAX_PIXELS = 1_200_000_000
_MOST_SIDE = 2_000_000
#: Colours and alpha, with one to spare.
_MOST_SAMPLES = 5
#: Cameras write up to some ten scans into a progressive JPEG; each costs a walk over the whole picture.
_MOST_SCANS = 64
#: Bytes that a byte of the file becomes at most. Deflate: 258 bytes from two bits (RFC 1951); LZW: strings of up to
#: 3838 bytes from 12 bits (TIFF 6.0, section 13); PackBits: 128 from 2 (section 9). Twice that is allowed for.
_DEFLATE = 2100.0
_LZW = 5200.0
_PACK_BITS = 128.0
_NONE = 2.0
_BY_TIFF_COMPRESSION = {1: _NONE, 5: _LZW, 8: _DEFLATE, 32946: _DEFLATE, 32773: _PACK_BITS}
#: Bits of a raw file for a pixel at least: the strongest packing of cameras, lossy, takes ten times that.
_RAW_BITS = 0.1
#: What decoders need beside the pixels: a second copy, and what they turn it into.
_COPIES = 3.0


@dataclass(frozen=True)
class Claim:
    """What a header says of a picture: pixels, samples of each, and bytes of a sample."""

    width: int
    height: int
    samples: int = 3
    bytes_each: int = 1

    @property
    def unpacked_bytes(self) -> int:
        """Memory of the pixels."""
        return self.width * self.height * self.samples * self.bytes_each


def check_claim(path: Path, claim: Claim) -> None:
    """Refuse what no picture to be joined can be, or what does not fit into memory.

    Raises
    ------
    UnreadableFrame
        An absurd size, more channels than colours and alpha, or more memory than is free.
    """
    low, high = min(claim.width, claim.height), max(claim.width, claim.height)
    if low < 1 or high > _MOST_SIDE or claim.width * claim.height > MAX_PIXELS:
        raise UnreadableFrame(f"Has an impossible size of {claim.width} x {claim.height} pixels", where=path.name)
    if not 1 <= claim.samples <= _MOST_SAMPLES or not 1 <= claim.bytes_each <= 8:
        raise UnreadableFrame(
            f"Has {claim.samples} channels of {8 * claim.bytes_each} bit", where=path.name, remedy="Save it as RGB"
        )
    needed, free = claim.unpacked_bytes * _COPIES, available_bytes()
    if needed > free:
        raise UnreadableFrame(
            f"Needs some {file_size(needed)} of memory to be read, and {file_size(free)} are free",
            where=path.name,
            remedy="Close other programs, or reduce the picture first",
        )


def check_jpeg(path: Path, claim: Claim, *, progressive: bool) -> None:
    """Refuse a JPEG that cannot hold what it claims: a block of 8 x 8 takes one bit at least (ITU-T T.81, F.1.2).

    Raises
    ------
    UnreadableFrame
        It is cut short, or made to keep a decoder busy.
    """
    blocks = -(-claim.width // 8) * -(-claim.height // 8)
    if path.stat().st_size * 8 < blocks:
        raise cut_short(path)
    if progressive:
        with open(path, "rb") as stream, mmap.mmap(stream.fileno(), 0, access=mmap.ACCESS_READ) as data:
            at, scans = data.find(b"\xff\xda"), 0
            while at >= 0 and scans <= _MOST_SCANS:
                at, scans = data.find(b"\xff\xda", at + 2), scans + 1
        if scans > _MOST_SCANS:
            raise UnreadableFrame("Is a JPEG of more passes than any camera writes", where=path.name)


def check_png(path: Path, claim: Claim) -> None:
    """Refuse a PNG that cannot hold what it claims.

    Raises
    ------
    UnreadableFrame
        It is cut short.
    """
    if path.stat().st_size * _DEFLATE < claim.unpacked_bytes / 8:  # a sample may be a bit
        raise cut_short(path)


def check_tiff(path: Path, claim: Claim, compression: int, places: list[int], lengths: list[int]) -> None:
    """Refuse a TIFF whose strips or tiles lie outside the file, or cannot hold what it claims.

    ``places`` and ``lengths`` are those of the strips or tiles, in bytes.

    Raises
    ------
    UnreadableFrame
        It is cut short.
    """
    size = path.stat().st_size
    if (
        not places
        or len(places) != len(lengths)
        or any(a < 0 or n < 0 or a + n > size for a, n in zip(places, lengths))
    ):
        raise cut_short(path)
    most = _BY_TIFF_COMPRESSION.get(compression)
    if most is not None and sum(lengths) * most < claim.unpacked_bytes / 8:
        raise cut_short(path)


def check_raw(path: Path, width: int, height: int) -> None:
    """Refuse camera raw that cannot hold the mosaic it claims: strips that it names lie outside, or it is far too short.

    Raises
    ------
    UnreadableFrame
        It is cut short.
    """
    size = path.stat().st_size
    if size * 8 < _RAW_BITS * width * height:
        raise cut_short(path)
    with contextlib.suppress(tifffile.TiffFileError), tifffile.TiffFile(path) as tiff:
        for page in tiff.pages:
            for one in (page, *(page.pages or ())):
                if any(a + n > size for a, n in zip(one.dataoffsets, one.databytecounts)):
                    raise cut_short(path)


class Deadline:
    """Patience that grows with the size of a picture; asked between its pieces."""

    def __init__(self, path: Path, claim: Claim) -> None:
        self._path, self._end = path, time.monotonic() + 5 + claim.unpacked_bytes / 30e6

    def check(self) -> None:
        """Give up when it has passed.

        Raises
        ------
        UnreadableFrame
            Reading takes longer than any sound file of that size does.
        """
        if time.monotonic() > self._end:
            raise UnreadableFrame(
                "Takes far too long to be read; it is damaged", where=self._path.name, remedy="Save it anew"
            )


def ends_in_zeros(path: Path, count: int) -> bool:
    """Whether the last ``count`` bytes are zero, as where room was made for a file that is not written to its end."""
    with open(path, "rb") as stream:
        stream.seek(-min(count, path.stat().st_size), io.SEEK_END)
        return not any(stream.read())


def cut_short(path: Path) -> UnreadableFrame:
    """What is said of a file whose end is missing."""
    return UnreadableFrame(
        "Is cut short: it claims more pixels than it holds",
        where=path.name,
        remedy="Copy it from the card again or leave it out",
    )
