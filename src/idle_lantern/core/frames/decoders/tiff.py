"""TIFF of 8, 16 and 32 bit, by tifffile."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Any

import numpy as np
import tifffile
from PIL import Image

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.profiles import space_of
from idle_lantern.core.frames.bounds import Claim, Deadline, check_claim, check_tiff
from idle_lantern.core.frames.decoders import plain, raw
from idle_lantern.core.frames.decoders.head import FileHead, of_samples
from idle_lantern.core.frames.metadata import Metadata, from_exif

_TIFF_ICC, _DNG_VERSION = 34675, 50706
#: Of files with many pages so many are looked at for the picture.
_MOST_PAGES = 16
#: Floating values above white by more than sharpening makes them, and the share of them from which a picture would be clipped.
_ABOVE_WHITE, _SHARE_ABOVE = 1.02, 0.005
#: Grey (white or black at zero), RGB, and what JPEG makes of it (TIFF 6.0, PhotometricInterpretation).
_PLAIN_TIFF = (0, 1, 2, 6)


def head(path: Path) -> FileHead:
    """Size and facts."""
    with tifffile.TiffFile(path) as tiff:
        page: Any = tiff.pages[0]
        if _DNG_VERSION not in page.tags:
            page = _largest(tiff)
        if _DNG_VERSION in page.tags:  # raw of another name
            return raw.head(path)
        width, height = int(page.imagewidth), int(page.imagelength)
        claim = _claim_of(page)
        check_claim(path, claim)
        places, lengths = list(page.dataoffsets), list(page.databytecounts)
        check_tiff(path, claim, int(page.compression), places, lengths)
        icc_tag = page.tags.get(_TIFF_ICC)
        icc = bytes(icc_tag.value) if icc_tag is not None and page.photometric in _PLAIN_TIFF else None
        metadata = _tiff_metadata(path, page, max(width, height))
    return FileHead(width, height, 8 if claim.bytes_each == 1 else 16, metadata, space=space_of(icc))


def pixels(path: Path) -> Picture:
    """The largest picture of the file; floating values from 0 to 1.

    Raises
    ------
    UnreadableFrame
        Floating values go well above white.
    """
    with tifffile.TiffFile(path) as tiff:
        page: Any = _largest(tiff)
        kind = page.dtype.kind if page.dtype is not None else "?"
        usual = page.photometric in _PLAIN_TIFF and (kind == "f" or (kind == "u" and page.dtype.itemsize <= 2))
        if not usual:
            return plain.pixels(path, page=int(page.index))
        samples = _unpacked(page, Deadline(path, _claim_of(page)))
        if page.photometric == 0:
            samples = (1 if kind == "f" else np.iinfo(samples.dtype).max) - samples
    if kind == "f":
        samples = np.nan_to_num(samples.astype(np.float32))
        if float((samples > _ABOVE_WHITE).mean()) > _SHARE_ABOVE:
            raise UnreadableFrame(
                f"Goes up to {float(samples.max()):.1f} times white, which would be clipped",
                where=path.name,
                remedy="Save it with values from 0 to 1, or as 16 bit",
            )
        samples = np.rint(np.clip(samples, 0, 1) * 65535).astype(np.uint16)
    return of_samples(samples)


def _largest(tiff: tifffile.TiffFile) -> Any:
    """The page with most pixels, the first of equal ones: a thumbnail may come first, and the picture lie below it."""
    pages = [one for page in tiff.pages[:_MOST_PAGES] for one in (page, *(page.pages or ()))]
    return max(pages, key=lambda page: int(page.imagewidth) * int(page.imagelength))


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
