"""The one place where files become pictures, upright as the photographer held the camera."""

from __future__ import annotations

import io
import warnings
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import tifffile
from numpy.typing import NDArray
from PIL import Image, ImageCms, UnidentifiedImageError

from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.base.picture import Picture
from idle_lantern.core.frames.metadata import Metadata, from_exif

Array = NDArray[Any]

SUFFIXES = (".jpg", ".jpeg", ".png", ".tif", ".tiff")

#: Pictures above this are refused before they are decoded: a header may claim anything.
MAX_PIXELS = 1_200_000_000
# our own limit decides, and joined pictures pass the decoder's
Image.MAX_IMAGE_PIXELS = None
_SIDEWAYS = (5, 6, 7, 8)


@dataclass(frozen=True)
class FrameInfo:
    """A frame file before its pixels are read; width and height are upright.

    ``plain_jpeg`` marks JPEG of three or one colour, which any decoder reads alike; ``icc`` is the
    embedded colour profile of an RGB file.
    """

    path: Path
    width: int
    height: int
    bits: int
    metadata: Metadata
    plain_jpeg: bool = False
    icc: bytes | None = field(default=None, repr=False)

    @property
    def megapixels(self) -> float:
        """Millions of pixels."""
        return self.width * self.height / 1e6


def probe(path: Path) -> FrameInfo:
    """Read size and metadata, not the pixels.

    Raises
    ------
    UnreadableFrame
        Missing, empty, damaged, of another kind, or absurdly large.
    """
    path = Path(path)
    _check_exists(path)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(path) as image:
                width, height = image.size
                bits = 16 if image.mode.startswith("I;16") else 8
                kind = image.format
                plain = kind in ("JPEG", "MPO") and image.mode in ("RGB", "L")
                icc = image.info.get("icc_profile") if image.mode not in ("CMYK", "LAB") else None
                exif = image.getexif()
                metadata = from_exif(exif, max(width, height))
    except UnidentifiedImageError:
        return _probe_tiff(path)
    except (OSError, ValueError, SyntaxError) as error:
        raise _damaged(path) from error
    if kind not in ("JPEG", "PNG", "TIFF", "MPO"):
        raise UnreadableFrame(
            f"Is a {kind or 'unknown'} picture", where=path.name, remedy="Use JPEG, PNG or TIFF frames"
        )
    if kind == "TIFF":
        bits = _tiff_bits(path)
    elif kind == "PNG":
        bits = _png_bits(path)
    return replace(_upright_info(path, width, height, bits, metadata), plain_jpeg=plain, icc=icc or None)


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
    info = probe(path)
    if info.width * info.height > MAX_PIXELS:
        raise UnreadableFrame("Has more pixels than can be joined", where=path.name, remedy="Reduce it first")
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        if info.bits == 16 or is_tiff_file(path):
            picture = _read_deep(path)
        else:
            picture = _read_pillow(path, reduce)
    picture = replace(picture, icc=info.icc)
    picture = _turned(picture, info.metadata.orientation)
    return _reduced(picture, info, reduce)


def read_again(info: FrameInfo, reduce: int = 1) -> Picture:
    """The pixels of a frame that was read whole before, by the quickest way; ``reduce`` as of ``read``.

    OpenCV decodes JPEG half again as fast as Pillow and to the same values, but fills
    what is missing in a truncated file with grey; so it is not used for the first reading.
    """
    if reduce > 1 or not info.plain_jpeg:
        return read(info.path, reduce)
    pixels = cv2.imdecode(np.fromfile(info.path, np.uint8), cv2.IMREAD_COLOR_RGB | cv2.IMREAD_IGNORE_ORIENTATION)
    return read(info.path) if pixels is None else _turned(Picture(pixels, None, info.icc), info.metadata.orientation)


def sound_jpeg(info: FrameInfo) -> bool:
    """Whether a file is a plain JPEG that ends as it should, so that the quick decoder may read it first."""
    if not info.plain_jpeg:
        return False
    with open(info.path, "rb") as stream:
        stream.seek(-2, io.SEEK_END)
        return stream.read() == b"\xff\xd9"


def _check_exists(path: Path) -> None:
    if path.is_dir():
        raise UnreadableFrame("Is a folder, not a picture", where=str(path))
    if not path.exists():
        raise UnreadableFrame("Is missing", where=str(path), remedy="Check the name or copy the file again")
    if path.stat().st_size == 0:
        raise UnreadableFrame(
            "Is empty (zero bytes)", where=path.name, remedy="Copy it from the card again or leave it out"
        )


def _damaged(path: Path) -> UnreadableFrame:
    return UnreadableFrame(
        "Is damaged or not a picture", where=path.name, remedy="Copy it from the card again or leave it out"
    )


def _upright_info(path: Path, width: int, height: int, bits: int, metadata: Metadata) -> FrameInfo:
    if metadata.orientation in _SIDEWAYS:
        width, height = height, width
    if width * height > MAX_PIXELS or min(width, height) < 16:
        raise UnreadableFrame(f"Has an impossible size of {width} x {height} pixels", where=path.name)
    return FrameInfo(path, width, height, bits, metadata)


def _probe_tiff(path: Path) -> FrameInfo:
    """TIFF kinds that Pillow does not know, such as three channels of 16 bit."""
    if not is_tiff_file(path):
        raise _damaged(path)
    try:
        with tifffile.TiffFile(path) as tiff:
            page = tiff.pages[0]
            height, width = page.imagelength, page.imagewidth  # type: ignore[union-attr]
            exif = Image.Exif()
            for tag in page.tags:  # type: ignore[union-attr]
                if tag.code in (274, 306, 272):
                    exif[tag.code] = tag.value
            icc_tag = page.tags.get(34675)  # type: ignore[union-attr]
            focal = page.tags.get(37386)  # type: ignore[union-attr]
            if focal is not None:
                exif[37386] = focal.value[0] / max(1, focal.value[1])
    except Exception as error:
        raise _damaged(path) from error
    icc = bytes(icc_tag.value) if icc_tag is not None else None
    return replace(_upright_info(path, width, height, _tiff_bits(path), from_exif(exif, max(width, height))), icc=icc)


def is_tiff_file(path: Path) -> bool:
    """Whether a file is a TIFF, by what it begins with (TIFF 6.0, section 2, and its big variant): endings are often wrong.

    Raises
    ------
    UnreadableFrame
        It is missing or empty.
    """
    _check_exists(path)
    with open(path, "rb") as stream:
        return stream.read(4) in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")


def _tiff_bits(path: Path) -> int:
    try:
        with tifffile.TiffFile(path) as tiff:
            dtype = tiff.pages[0].dtype
    except Exception as error:
        raise _damaged(path) from error
    return 8 if dtype is not None and dtype.itemsize == 1 else 16


def _png_bits(path: Path) -> int:
    with open(path, "rb") as stream:
        header = stream.read(26)
    return 16 if len(header) >= 25 and header[24] == 16 else 8


def _read_pillow(path: Path, reduce: int) -> Picture:
    try:
        with Image.open(path) as image:
            if reduce > 1:
                image.draft("RGB", (-(-image.width // reduce), -(-image.height // reduce)))
            icc = image.info.get("icc_profile")
            if image.mode == "CMYK":
                return Picture(_cmyk_to_rgb(image, icc))
            alpha = None
            if image.mode in ("RGBA", "LA", "PA") or "transparency" in image.info:
                rgba = np.asarray(image.convert("RGBA"))
                rgb, alpha = np.ascontiguousarray(rgba[..., :3]), np.ascontiguousarray(rgba[..., 3])
            else:
                rgb = np.asarray(image.convert("RGB"))
            return Picture(rgb, alpha, icc)
    except MemoryError:
        raise
    except Exception as error:
        raise _damaged(path) from error


def _cmyk_to_rgb(image: Image.Image, icc: bytes | None) -> Array:
    if icc:
        try:
            source = ImageCms.ImageCmsProfile(io.BytesIO(icc))
            converted = ImageCms.profileToProfile(image, source, ImageCms.createProfile("sRGB"), outputMode="RGB")
            if converted is not None:
                return np.asarray(converted)
        except ImageCms.PyCMSError:
            pass  # a broken profile: the plain conversion is the next best
    return np.asarray(image.convert("RGB"))


def _read_deep(path: Path) -> Picture:
    icc = None
    try:
        if not is_tiff_file(path):
            pixels = cv2.imdecode(np.fromfile(path, np.uint8), cv2.IMREAD_UNCHANGED)
            if pixels is None:
                raise ValueError("not decoded")
            if pixels.ndim == 3:
                pixels = pixels[..., [2, 1, 0, 3][: pixels.shape[2]]]
        else:
            with tifffile.TiffFile(path) as tiff:
                page = tiff.pages[0]
                pixels = page.asarray()
                icc_tag = page.tags.get(34675)  # type: ignore[union-attr]
                icc = bytes(icc_tag.value) if icc_tag is not None else None
                if page.photometric == 0:  # type: ignore[union-attr]
                    pixels = np.iinfo(pixels.dtype).max - pixels
                if page.photometric not in (0, 1, 2, 6):  # type: ignore[union-attr]
                    return _read_pillow(path, 1)
                if page.planarconfig == 2 and pixels.ndim == 3:  # type: ignore[union-attr]
                    pixels = np.moveaxis(pixels, 0, -1)
    except Exception as error:
        raise _damaged(path) from error
    if pixels.dtype.kind == "f":
        pixels = np.rint(np.clip(np.nan_to_num(pixels), 0, 1) * 65535).astype(np.uint16)
    elif pixels.dtype == bool or pixels.dtype.kind not in "u" or pixels.dtype.itemsize > 2:
        return _read_pillow(path, 1)
    if pixels.ndim == 2:
        return Picture(np.repeat(pixels[..., None], 3, -1), None, icc)
    if pixels.shape[2] == 2:
        return Picture(np.repeat(pixels[..., :1], 3, -1), np.ascontiguousarray(pixels[..., 1]), icc)
    alpha = np.ascontiguousarray(pixels[..., 3]) if pixels.shape[2] >= 4 else None
    return Picture(np.ascontiguousarray(pixels[..., :3]), alpha, icc)


def _turned(picture: Picture, orientation: int) -> Picture:
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

    return Picture(turn(picture.pixels), None if picture.alpha is None else turn(picture.alpha), picture.icc)


def _reduced(picture: Picture, info: FrameInfo, reduce: int) -> Picture:
    """Bring decoders that do not reduce themselves to the size asked for."""
    width, height = -(-info.width // reduce), -(-info.height // reduce)
    if (picture.width, picture.height) == (width, height):
        return picture

    def fit(a: Array) -> Array:
        return np.asarray(cv2.resize(a, (width, height), interpolation=cv2.INTER_AREA))

    return Picture(fit(picture.pixels), None if picture.alpha is None else fit(picture.alpha), picture.icc)
