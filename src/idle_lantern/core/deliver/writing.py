"""Finished pictures to files: TIFF, PNG and JPEG, whole or not at all."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import tifffile
from PIL import Image

from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.picture import Picture
from idle_lantern.core.frames.metadata import Metadata, to_exif

SUFFIXES = (".tif", ".tiff", ".png", ".jpg", ".jpeg")

#: Longest side a JPEG can have (ISO/IEC 10918-1: 16-bit line and sample counts).
JPEG_MAX_SIDE = 65535
#: Offsets in classic TIFF are 32 bit (TIFF 6.0); beyond, the big variant is written.
TIFF_MAX_BYTES = 2**32 - 2**20


@dataclass(frozen=True)
class WriteOptions:
    """How to write; ``dpi`` is only a note in the file for printing."""

    jpeg_quality: int = 92
    dpi: float = 300.0
    metadata: Metadata = field(default_factory=Metadata)


def check_target(target: Path, width: int | None = None, height: int | None = None) -> None:
    """Say before the work starts whether ``target`` can be written.

    Raises
    ------
    InputError
        Unknown ending, no such folder, not writable, or too large for the format.
    """
    suffix = target.suffix.lower()
    if suffix not in SUFFIXES:
        raise InputError(
            f"'{target.suffix or target.name}' is no picture ending", where=str(target), remedy="Use .tif, .png or .jpg"
        )
    if target.is_dir():
        raise InputError("Is a folder", where=str(target), remedy="Give the name of a file")
    if not target.parent.is_dir():
        raise InputError("Its folder does not exist", where=str(target), remedy="Make the folder first")
    if not os.access(target.parent, os.W_OK):
        raise InputError("Its folder is read-only", where=str(target), remedy="Choose a folder you may write to")
    if suffix in (".jpg", ".jpeg") and width and height and max(width, height) > JPEG_MAX_SIDE:
        raise InputError(
            f"A JPEG holds at most {JPEG_MAX_SIDE} pixels a side and this picture has {width} x {height}",
            where=str(target),
            remedy="Write .tif instead, or give a smaller --width",
        )


def write(picture: Picture, target: Path, options: WriteOptions | None = None) -> None:
    """Write ``picture`` in the format of ``target``'s ending.

    TIFF keeps 8 or 16 bit and alpha, deflate-compressed, in the big variant beyond
    4 GiB; PNG keeps 8 or 16 bit and alpha; JPEG is 8 bit, transparent parts black.
    """
    options = options or WriteOptions()
    target = Path(target)
    check_target(target, picture.width, picture.height)
    with replacing(target) as temporary:
        if target.suffix.lower() in (".tif", ".tiff"):
            _write_tiff(picture, temporary, options)
        elif target.suffix.lower() == ".png":
            _write_png(picture, temporary, options)
        else:
            _write_jpeg(picture, temporary, options)


def _write_tiff(picture: Picture, path: Path, options: WriteOptions) -> None:
    with_alpha = picture.alpha is not None
    pixels = picture.pixels if picture.alpha is None else np.dstack([picture.pixels, picture.alpha])
    tifffile.imwrite(
        path,
        pixels,
        bigtiff=pixels.nbytes > TIFF_MAX_BYTES,
        photometric="rgb",
        extrasamples=["unassalpha"] if with_alpha else None,
        compression="deflate",
        compressionargs={"level": 4},
        predictor=True,
        rowsperstrip=64,
        resolution=(options.dpi, options.dpi),
        resolutionunit="INCH",
        software="Idle Lantern",
        iccprofile=picture.icc,
        metadata=None,
    )


def _write_png(picture: Picture, path: Path, options: WriteOptions) -> None:
    if picture.full_scale == 255:
        mode_pixels = picture.pixels if picture.alpha is None else np.dstack([picture.pixels, picture.alpha])
        Image.fromarray(mode_pixels).save(
            path, "PNG", compress_level=4, dpi=(options.dpi, options.dpi), icc_profile=picture.icc
        )
        return
    bgr = picture.pixels[..., ::-1]
    data = bgr if picture.alpha is None else np.dstack([bgr, picture.alpha])
    done, encoded = cv2.imencode(".png", data, [cv2.IMWRITE_PNG_COMPRESSION, 4])
    if not done:
        raise OSError("the picture could not be encoded as PNG")
    encoded.tofile(path)


def jpeg_keywords(options: WriteOptions) -> dict[str, Any]:
    """How Pillow is told to pack a JPEG; from quality 90 on colour is kept at full size."""
    return {
        "quality": options.jpeg_quality,
        "subsampling": 0 if options.jpeg_quality >= 90 else 2,
        "dpi": (options.dpi, options.dpi),
    }


def _write_jpeg(picture: Picture, path: Path, options: WriteOptions) -> None:
    pixels = picture.pixels if picture.full_scale == 255 else (picture.pixels >> 8).astype(np.uint8)
    if picture.alpha is not None:
        pixels = pixels * (picture.alpha > 0)[..., None].astype(np.uint8)
    Image.fromarray(np.ascontiguousarray(pixels)).save(
        path,
        "JPEG",
        **jpeg_keywords(options),
        exif=to_exif(options.metadata, picture.width, picture.height),
        icc_profile=picture.icc,
    )
