"""JPEG, PNG and what else Pillow reads: HEIC and AVIF of telephones among them."""

from __future__ import annotations

import io
from pathlib import Path

import imagecodecs
import numpy as np
from PIL import Image, ImageCms

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.profiles import space_of
from idle_lantern.core.frames.bounds import Claim, check_claim, check_jpeg, check_png
from idle_lantern.core.frames.decoders.head import FileHead, of_samples
from idle_lantern.core.frames.metadata import from_exif

# our own limit decides, and joined pictures pass the decoder's
Image.MAX_IMAGE_PIXELS = None
#: What Pillow calls the kinds that are read by it.
_FORMATS = {"JPEG": "JPEG", "PNG": "PNG", "AVIF": "AVIF", "HEIC": "HEIF", "TIFF": "TIFF"}


def head(path: Path, kind: str) -> FileHead:
    """Size and facts of a file of that kind."""
    with _opened(path, kind) as image:
        width, height = image.size
        bits = _png_bits(path) if kind == "PNG" else 8
        claim = Claim(width, height, len(image.getbands()), bits // 8)
        check_claim(path, claim)
        if kind == "JPEG":
            check_jpeg(path, claim, progressive=bool(image.info.get("progressive")))
        elif kind == "PNG":
            check_png(path, claim)
        usual = kind == "JPEG" and image.mode in ("RGB", "L")
        icc = image.info.get("icc_profile") if image.mode not in ("CMYK", "LAB") else None
        metadata = from_exif(image.getexif(), max(width, height))
    return FileHead(width, height, bits, metadata, usual, space_of(icc))


def _opened(path: Path, kind: str) -> Image.Image:
    if kind == "HEIC":
        import pillow_heif  # a library of its own, which only telephones' files need

        pillow_heif.register_heif_opener()
    return Image.open(path, formats=(_FORMATS[kind],))


def _png_bits(path: Path) -> int:
    with open(path, "rb") as stream:
        header = stream.read(26)
    return 16 if len(header) >= 25 and header[24] == 16 else 8


def pixels(path: Path, kind: str = "TIFF", *, deep: bool = False, reduce: int = 1) -> Picture:
    """The picture; ``deep`` reads a PNG of 16 bit, ``reduce`` decodes a JPEG at a fraction of its size."""
    if deep:
        return of_samples(imagecodecs.png_decode(path.read_bytes()))
    with _opened(path, kind) as image:
        if reduce > 1:
            image.draft("RGB", (-(-image.width // reduce), -(-image.height // reduce)))
        if image.mode == "CMYK":
            return Picture(_cmyk_to_rgb(image, image.info.get("icc_profile")))
        alpha = None
        if image.mode in ("RGBA", "LA", "PA") or "transparency" in image.info:
            rgba = np.asarray(image.convert("RGBA"))
            rgb, alpha = np.ascontiguousarray(rgba[..., :3]), np.ascontiguousarray(rgba[..., 3])
        else:
            rgb = np.asarray(image.convert("RGB"))
        return Picture(rgb, alpha)


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
