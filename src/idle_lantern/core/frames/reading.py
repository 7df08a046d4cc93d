"""The one place where files become pictures, upright as the photographer held the camera."""

from __future__ import annotations

import contextlib
import io
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.base.reducing import reduced_to
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.frames.boundary import RAW_SUFFIXES, kind_of, told
from idle_lantern.core.frames.bounds import cut_short
from idle_lantern.core.frames.decoders import jxl, plain, raw, tiff
from idle_lantern.core.frames.decoders.head import FileHead
from idle_lantern.core.frames.decoders.jpeg_end import is_whole

SUFFIXES = (".jpg", ".jpeg", ".png", ".tif", ".tiff", ".heic", ".heif", ".avif", ".jxl", *RAW_SUFFIXES)

#: Nothing can be matched on less.
_LEAST_SIDE = 16
_SIDEWAYS = (5, 6, 7, 8)


class TooSmall(UnreadableFrame):
    """A picture of too few pixels to be matched with others."""


@dataclass(frozen=True)
class FrameInfo(FileHead):
    """A frame file before its pixels are read; width and height are upright, not as stored."""

    path: Path = field(kw_only=True)

    @property
    def megapixels(self) -> float:
        """Millions of pixels."""
        return self.width * self.height / 1e6


def probe(path: Path) -> FrameInfo:
    """Read size and metadata, not the pixels.

    Raises
    ------
    UnreadableFrame
        Missing, empty, damaged, of another kind, absurdly large, or too small.
    """
    info = _inspected(Path(path))
    if min(info.width, info.height) < _LEAST_SIDE:
        raise TooSmall(
            f"Is of {info.width} x {info.height} pixels, too few to be a frame",
            where=info.path.name,
            remedy="Leave it out",
        )
    return info


def _inspected(path: Path) -> FrameInfo:
    kind = kind_of(path)
    with told(path):
        head = _HEADS[kind](path, kind) if kind in _HEADS else None
    if head is None:
        article = "an" if kind[0] in "AEIOU" else "a"
        raise UnreadableFrame(
            f"Is {article} {kind} picture", where=path.name, remedy="Save it as JPEG, PNG or TIFF, or leave it out"
        )
    width, height = head.width, head.height
    if head.metadata.orientation in _SIDEWAYS:
        width, height = height, width
    return FrameInfo(**{**vars(head), "width": width, "height": height}, path=path)


#: A pixel of a small look is the mean of at least so many pixels a side; a larger picture is thinned before.
_SEEN_OF_EACH = 4
_HEADS: dict[str, Callable[[Path, str], FileHead]] = {
    **dict.fromkeys(("JPEG", "PNG", "AVIF", "HEIC"), plain.head),
    "TIFF": lambda path, _kind: tiff.head(path),
    "JPEG XL": lambda path, _kind: jxl.head(path),
    "raw": lambda path, _kind: raw.head(path),
}


def read(path: Path, reduce: int = 1) -> Picture:
    """Read the pixels, upright; grey becomes RGB, CMYK is converted, alpha is kept.

    Parameters
    ----------
    reduce : {1, 2, 4, 8}
        Decode at a fraction of the size; quick for JPEG.

    Raises
    ------
    UnreadableFrame
        As ``probe``, and when the pixels are truncated or damaged.
    """
    path = Path(path)
    info = _inspected(path)
    kind = kind_of(path)
    with told(path):
        if info.raw:
            picture = raw.pixels(path, half=reduce > 1)
        elif kind == "TIFF":
            picture = tiff.pixels(path)
        elif kind == "JPEG XL":
            picture = jxl.pixels(path)
        else:
            picture = plain.pixels(path, kind, deep=info.bits == 16, reduce=reduce)
            if kind == "JPEG" and reduce == 1 and not is_whole(path.read_bytes(), picture.pixels):
                raise cut_short(path)
        picture = turned(replace(picture, space=info.space), info.metadata.orientation)
        return _reduced(_sound(picture), info, reduce)


def thumbnail(path: Path, longest_px: int) -> Picture:
    """A small picture for a first look, of 8 bit: of raw files the preview that lies in them, so that a card shows at once.

    Raises
    ------
    UnreadableFrame
        As ``read``.
    """
    path = Path(path)
    picture = None
    if kind_of(path) == "raw":
        with told(path):
            picture = raw.preview(path)
    if picture is None:
        info = _inspected(path)
        picture = read(path, next((r for r in (8, 4, 2) if max(info.width, info.height) >= r * longest_px), 1))
    return small_of(picture, longest_px)


def small_of(picture: Picture, longest_px: int) -> Picture:
    """A small picture of one that was read, of 8 bit."""
    if picture.pixels.dtype == np.uint16:
        picture = Picture((picture.pixels >> 8).astype(np.uint8), None, picture.space)
    every = max(1, max(picture.width, picture.height) // (_SEEN_OF_EACH * longest_px))
    picture = Picture(picture.pixels[::every, ::every], None, picture.space)
    factor = longest_px / max(picture.width, picture.height)
    if factor >= 1:
        return picture
    size = max(1, round(picture.width * factor)), max(1, round(picture.height * factor))
    return Picture(reduced_to(picture.pixels, *size), None, picture.space)


def read_again(info: FrameInfo, reduce: int = 1) -> Picture:
    """The pixels of a frame that was read whole before, by the quickest way; ``reduce`` as of ``read``.

    OpenCV decodes JPEG half again as fast as Pillow and to the same values, but fills
    what is missing in a truncated file with grey; so it is not used for the first reading.
    """
    if reduce > 1 or not info.plain_jpeg:
        return read(info.path, reduce)
    with told(info.path):
        data = np.fromfile(info.path, np.uint8)
        pixels = cv2.imdecode(data, cv2.IMREAD_COLOR_RGB | cv2.IMREAD_IGNORE_ORIENTATION)
        if pixels is None or pixels.shape[0] * pixels.shape[1] != info.width * info.height:
            return read(info.path)
        if not is_whole(data.tobytes(), pixels):
            raise cut_short(info.path)
        return turned(Picture(pixels, None, info.space), info.metadata.orientation)


def sound_jpeg(info: FrameInfo) -> bool:
    """Whether a file is a plain JPEG that ends as it should, so that the quick decoder may read it first.

    One that cannot be opened any more (a card pulled out, a folder moved) is none: reading it then says what is wrong.
    """
    if not info.plain_jpeg:
        return False
    with contextlib.suppress(OSError), open(info.path, "rb") as stream:
        stream.seek(-2, io.SEEK_END)
        return stream.read() == b"\xff\xd9"
    return False


def _sound(picture: Picture) -> Picture:
    """A picture as all others take it for granted; what a decoder made of a damaged file may be anything."""
    pixels, alpha = picture.pixels, picture.alpha
    if pixels.ndim != 3 or pixels.shape[2] != 3 or pixels.dtype not in (np.uint8, np.uint16):
        raise ValueError(f"decoded to {pixels.shape} of {pixels.dtype}")
    if alpha is not None and (alpha.shape != pixels.shape[:2] or alpha.dtype != pixels.dtype):
        raise ValueError(f"alpha decoded to {alpha.shape} of {alpha.dtype}")
    return picture


def turned(picture: Picture, orientation: int) -> Picture:
    """Apply the EXIF orientation code (EXIF 2.32, 4.6.4)."""
    if orientation == 1:
        return picture

    def turn(a: Array) -> Array:
        if orientation in _SIDEWAYS:
            a = np.swapaxes(a, 0, 1)
        if orientation in (2, 3, 6, 7):
            a = a[:, ::-1]
        if orientation in (3, 4, 7, 8):
            a = a[::-1]
        return np.ascontiguousarray(a)

    return Picture(turn(picture.pixels), None if picture.alpha is None else turn(picture.alpha), picture.space)


def _reduced(picture: Picture, info: FrameInfo, reduce: int) -> Picture:
    """Bring decoders that do not reduce themselves to the size asked for."""
    width, height = -(-info.width // reduce), -(-info.height // reduce)
    if (picture.width, picture.height) == (width, height):
        return picture

    alpha = None if picture.alpha is None else reduced_to(picture.alpha, width, height)
    return Picture(reduced_to(picture.pixels, width, height), alpha, picture.space)
