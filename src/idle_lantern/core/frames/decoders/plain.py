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
from idle_lantern.core.frames.bounds import Claim, check_claim, check_jpeg, check_png, cut_short, ends_in_zeros
from idle_lantern.core.frames.decoders.head import FileHead, of_samples
from idle_lantern.core.frames.metadata import from_exif

# our own limit decides, and joined pictures pass the decoder's
Image.MAX_IMAGE_PIXELS = None
#: What Pillow calls the kinds that are read by it.
#: What tells the depth of a picture lies within so many bytes of its head.
_HEAD_BYTES = 65536
_FOOT_BYTES = 256
_FORMATS = {"JPEG": "JPEG", "PNG": "PNG", "AVIF": "AVIF", "HEIC": "HEIF", "TIFF": "TIFF"}


def head(path: Path, kind: str) -> FileHead:
    """Size and facts of a file of that kind."""
    with _opened(path, kind) as image:
        width, height = image.size
        bits = _bits(path, kind)
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


def _bits(path: Path, kind: str) -> int:
    """Bits of a colour as they are read: 16 where the file has more than 8."""
    with open(path, "rb") as stream:
        header = stream.read(_HEAD_BYTES)
    if kind == "PNG":
        return 16 if header[24:25] == b"\x10" else 8
    if kind == "AVIF":  # AV1 in ISOBMFF, 2.3.3: high_bitdepth is the seventh bit of the third byte
        at = header.find(b"av1C") + 6
        return 16 if at > 6 and header[at] & 0x40 else 8
    if kind == "HEIC":  # ISO/IEC 14496-15, 8.3.3: bit_depth_luma_minus8 in the eighteenth byte
        at = header.find(b"hvcC") + 21
        return 16 if at > 21 and header[at] & 0x07 else 8
    return 8


def _deep(path: Path, kind: str) -> Picture:
    """The picture in 16 bit."""
    if kind == "PNG":
        return of_samples(imagecodecs.png_decode(path.read_bytes()))
    if kind == "AVIF":
        data = path.read_bytes()
        samples = imagecodecs.avif_decode(data)
        # twelve_bit is the bit below high_bitdepth
        bits = 12 if data[data.find(b"av1C", 0, _HEAD_BYTES) + 6] & 0x20 else 10
        return of_samples(np.rint(samples * (65535 / (2**bits - 1))).astype(np.uint16))
    import pillow_heif

    image = pillow_heif.open_heif(path, convert_hdr_to_8bit=False, hdr_to_16bit=False)
    full = 2 ** int(image.info["bit_depth"]) - 1
    return of_samples(np.rint(np.asarray(image) * (65535 / full)).astype(np.uint16))


def pixels(path: Path, kind: str = "TIFF", *, deep: bool = False, reduce: int = 1, page: int = 0) -> Picture:
    """The picture; ``deep`` reads one of more than 8 bit, ``reduce`` decodes a JPEG at a fraction of its size, ``page`` is of a TIFF."""
    if kind == "HEIC" and ends_in_zeros(path, _FOOT_BYTES):
        raise cut_short(path)  # the decoder paints over what is missing
    if deep:
        return _deep(path, kind)
    with _opened(path, kind) as image:
        if page:
            image.seek(page)
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
