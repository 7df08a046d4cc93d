"""The one place where files become pictures, upright as the photographer held the camera."""

from __future__ import annotations

import contextlib
import io
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import cv2
import imagecodecs
import numpy as np
import tifffile
from numpy.typing import NDArray
from PIL import Image, ImageCms

from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.base.picture import Picture
from idle_lantern.core.frames.boundary import is_tiff_file, kind_of, told
from idle_lantern.core.frames.bounds import Claim, Deadline, check_claim, check_jpeg, check_png, check_tiff
from idle_lantern.core.frames.metadata import Metadata, from_exif

Array = NDArray[Any]

SUFFIXES = (".jpg", ".jpeg", ".png", ".tif", ".tiff")

# our own limit decides, and joined pictures pass the decoder's
Image.MAX_IMAGE_PIXELS = None
#: Nothing can be matched on less.
_LEAST_SIDE = 16
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
    info = _inspected(Path(path))
    if min(info.width, info.height) < _LEAST_SIDE:
        raise UnreadableFrame(f"Has an impossible size of {info.width} x {info.height} pixels", where=info.path.name)
    return info


def _inspected(path: Path) -> FrameInfo:
    kind = kind_of(path)
    if kind not in ("JPEG", "PNG", "TIFF"):
        article = "an" if kind[0] in "AEIOU" else "a"
        raise UnreadableFrame(f"Is {article} {kind} picture", where=path.name, remedy="Use JPEG, PNG or TIFF frames")
    with told(path):
        return _probe_tiff(path) if kind == "TIFF" else _probe_pillow(path, kind)


def _probe_pillow(path: Path, kind: str) -> FrameInfo:
    with Image.open(path, formats=(kind,)) as image:
        width, height = image.size
        bits = _png_bits(path) if kind == "PNG" else 8
        claim = Claim(width, height, len(image.getbands()), bits // 8)
        check_claim(path, claim)
        if kind == "JPEG":
            check_jpeg(path, claim, progressive=bool(image.info.get("progressive")))
        else:
            check_png(path, claim)
        plain = kind == "JPEG" and image.mode in ("RGB", "L")
        icc = image.info.get("icc_profile") if image.mode not in ("CMYK", "LAB") else None
        metadata = from_exif(image.getexif(), max(width, height))
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
    info = _inspected(path)
    with told(path):
        if is_tiff_file(path):
            picture = _read_tiff(path)
        elif info.bits == 16:
            picture = _of_samples(imagecodecs.png_decode(path.read_bytes()))
        else:
            picture = _read_pillow(path, reduce)
        picture = _turned(replace(picture, icc=info.icc), info.metadata.orientation)
        return _reduced(_sound(picture), info, reduce)


def read_again(info: FrameInfo, reduce: int = 1) -> Picture:
    """The pixels of a frame that was read whole before, by the quickest way; ``reduce`` as of ``read``.

    OpenCV decodes JPEG half again as fast as Pillow and to the same values, but fills
    what is missing in a truncated file with grey; so it is not used for the first reading.
    """
    if reduce > 1 or not info.plain_jpeg:
        return read(info.path, reduce)
    with told(info.path):
        pixels = cv2.imdecode(np.fromfile(info.path, np.uint8), cv2.IMREAD_COLOR_RGB | cv2.IMREAD_IGNORE_ORIENTATION)
        if pixels is None or pixels.shape[0] * pixels.shape[1] != info.width * info.height:
            return read(info.path)
        return _turned(Picture(pixels, None, info.icc), info.metadata.orientation)


def sound_jpeg(info: FrameInfo) -> bool:
    """Whether a file is a plain JPEG that ends as it should, so that the quick decoder may read it first."""
    if not info.plain_jpeg:
        return False
    with open(info.path, "rb") as stream:
        stream.seek(-2, io.SEEK_END)
        return stream.read() == b"\xff\xd9"


def _upright_info(path: Path, width: int, height: int, bits: int, metadata: Metadata) -> FrameInfo:
    if metadata.orientation in _SIDEWAYS:
        width, height = height, width
    return FrameInfo(path, width, height, bits, metadata)


def _probe_tiff(path: Path) -> FrameInfo:
    with tifffile.TiffFile(path) as tiff:
        page: Any = tiff.pages[0]
        width, height = int(page.imagewidth), int(page.imagelength)
        claim = _claim_of(page)
        check_claim(path, claim)
        places, lengths = list(page.dataoffsets), list(page.databytecounts)
        check_tiff(path, claim, int(page.compression), places, lengths)
        icc_tag = page.tags.get(_TIFF_ICC)
        icc = bytes(icc_tag.value) if icc_tag is not None and page.photometric in _PLAIN_TIFF else None
        metadata = _tiff_metadata(path, page, max(width, height))
    return replace(_upright_info(path, width, height, 8 if claim.bytes_each == 1 else 16, metadata), icc=icc or None)


_TIFF_ICC = 34675
#: Grey (white or black at zero), RGB, and what JPEG makes of it (TIFF 6.0, PhotometricInterpretation).
_PLAIN_TIFF = (0, 1, 2, 6)


def _claim_of(page: Any) -> Claim:
    samples = int(page.samplesperpixel) * max(1, int(page.imagedepth))
    return Claim(int(page.imagewidth), int(page.imagelength), samples, page.dtype.itemsize if page.dtype else 9)


def _tiff_metadata(path: Path, page: Any, longer_side_px: int) -> Metadata:
    """EXIF by Pillow where it knows the kind, else the plain tags."""
    with contextlib.suppress(Exception), Image.open(path, formats=("TIFF",)) as image:
        return from_exif(image.getexif(), longer_side_px)
    exif = Image.Exif()
    for tag in page.tags:
        if tag.code in (274, 306, 272):
            exif[tag.code] = tag.value
    focal = page.tags.get(37386)
    if focal is not None:
        exif[37386] = focal.value[0] / max(1, focal.value[1])
    return from_exif(exif, longer_side_px)


def _png_bits(path: Path) -> int:
    with open(path, "rb") as stream:
        header = stream.read(26)
    return 16 if len(header) >= 25 and header[24] == 16 else 8


def _read_pillow(path: Path, reduce: int) -> Picture:
    with Image.open(path, formats=("JPEG", "PNG", "TIFF")) as image:
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


def _read_tiff(path: Path) -> Picture:
    with tifffile.TiffFile(path) as tiff:
        page: Any = tiff.pages[0]
        kind = page.dtype.kind if page.dtype is not None else "?"
        plain = page.photometric in _PLAIN_TIFF and (kind == "f" or (kind == "u" and page.dtype.itemsize <= 2))
        if not plain:
            return _read_pillow(path, 1)
        pixels = _unpacked(page, Deadline(path, _claim_of(page)))
        if page.photometric == 0:
            pixels = (1 if kind == "f" else np.iinfo(pixels.dtype).max) - pixels
    if kind == "f":
        pixels = np.rint(np.clip(np.nan_to_num(pixels), 0, 1) * 65535).astype(np.uint16)
    return _of_samples(pixels)


def _unpacked(page: Any, deadline: Deadline) -> Array:
    """The samples (H, W, S) of a page, piece by piece."""
    separate, _depth, height, width, samples = page.shaped
    whole = np.zeros((separate, height, width, samples), page.dtype)
    for piece, (plane, _d, top, left, _s), shape in page.segments(maxworkers=1):
        deadline.check()
        if piece is not None:
            h, w = min(shape[1], height - top), min(shape[2], width - left)
            whole[plane, top : top + h, left : left + w] = piece[0, :h, :w]
    # each colour may lie in a plane of its own
    return np.moveaxis(whole[..., 0], 0, -1) if separate > 1 else whole[0]


def _of_samples(pixels: Array) -> Picture:
    """Grey, grey with alpha, RGB or RGBA (H, W[, S]) of 8 or 16 bit as a picture."""
    if pixels.ndim == 2:
        pixels = pixels[..., None]
    samples = pixels.shape[2]
    alpha = np.ascontiguousarray(pixels[..., -1]) if samples == 2 else None
    if samples < 3:
        return Picture(np.repeat(pixels[..., :1], 3, -1), alpha)
    alpha = np.ascontiguousarray(pixels[..., 3]) if samples >= 4 else None
    return Picture(np.ascontiguousarray(pixels[..., :3]), alpha)


def _sound(picture: Picture) -> Picture:
    """A picture as all others take it for granted; what a decoder made of a damaged file may be anything."""
    pixels, alpha = picture.pixels, picture.alpha
    if pixels.ndim != 3 or pixels.shape[2] != 3 or pixels.dtype not in (np.uint8, np.uint16):
        raise ValueError(f"decoded to {pixels.shape} of {pixels.dtype}")
    if alpha is not None and (alpha.shape != pixels.shape[:2] or alpha.dtype != pixels.dtype):
        raise ValueError(f"alpha decoded to {alpha.shape} of {alpha.dtype}")
    return picture


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
