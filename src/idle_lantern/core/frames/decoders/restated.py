"""DNG files that LibRaw cannot unpack, said again in a way that it can: packed in JPEG XL, or bent by a polynomial.

Digital Negative 1.7 allows JPEG XL, deals the pixels of a mosaic out into blocks of one colour each (its tags
RowInterleaveFactor and ColumnInterleaveFactor), and states the curve of linear files as opcodes (MapPolynomial). All this is
undone here; colours, white balance and demosaicing stay with LibRaw.
"""

from __future__ import annotations

import io
import struct
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import tifffile

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.frames.bounds import Claim, check_claim

#: Values of tags (DNG 1.7): compression, and photometric interpretations.
_JPEG_XL = 52546
_CFA = 32803
_LINEAR = 34892
_ROWS_DEALT, _COLUMNS_DEALT = 50975, 52547
#: Tags (DNG 1.7).
_BLACK = 50714  # BlackLevel
_WHITE = 50717  # WhiteLevel
_BASELINE = 50730  # BaselineExposure
_ACTIVE = 50829  # ActiveArea
_OPCODES = 51009  # OpcodeList2
_MAP_POLYNOMIAL = 8
#: What describes the sensor's colours and how the camera was held, in the first directory, and what describes the mosaic.
_FACTS = (271, 272, 274, 50706, 50707, 50708, 50721, 50722, 50723, 50724, 50727, 50728, 50729, 50778, 50779)
_MOSAIC = (33421, 33422, _ACTIVE)
_BAND = 256


def restated(path: Path, *, blank: bool = False) -> io.BytesIO | None:
    """The file with plain samples of 16 bit; None where LibRaw reads it as it is.

    ``blank`` leaves the samples out: all that is told of the file without unpacking it.
    """
    stat = path.stat()
    if not _needs(str(path), stat.st_size, stat.st_mtime_ns):
        return None
    with tifffile.TiffFile(path) as tiff:
        page = _sensor_page(tiff)
        assert page is not None
        check_claim(path, Claim(page.imagewidth, page.imagelength, page.samplesperpixel, 2))
        shape = (page.imagelength, page.imagewidth, *([3] if page.samplesperpixel == 3 else []))
        if blank:
            samples: Array = np.zeros(shape, np.uint16)
        else:
            samples = _plain(page, page.asarray(), _baseline(tiff.pages.first))
        first = tiff.pages.first
        facts = [_copied(first.tags[code]) for code in _FACTS if code in first.tags]
        mosaic = page.photometric == _CFA
        kept = [_copied(page.tags[code]) for code in _MOSAIC if code in page.tags] if mosaic else []
        levels = [(code, "H", 1, 0) for code in (_BLACK,) if not mosaic]
        if mosaic:
            black = page.tags[_BLACK].value if _BLACK in page.tags else 0
            first_black = black[0] / black[1] if isinstance(black, tuple) else black
            levels = [(_BLACK, "H", 1, round(float(first_black)))]
        white = _white(page) if mosaic else 65535
        out = io.BytesIO()
        with tifffile.TiffWriter(out, byteorder="<") as writer:
            writer.write(
                samples, photometric="cfa" if mosaic else _LINEAR, subfiletype=0, metadata=None, software=None,
                extratags=[(*tag, True) for tag in (*facts, *kept, *levels, (_WHITE, "I", 1, round(white)))],
            )  # fmt: skip
    out.seek(0)
    return out


@lru_cache(maxsize=4096)
def _needs(path: str, _size: int, _changed: int) -> bool:
    try:
        with tifffile.TiffFile(path) as tiff:
            page = _sensor_page(tiff)
            if page is None or 50706 not in tiff.pages.first.tags:
                return False
            return page.compression == _JPEG_XL or bool(_polynomials(page))
    except (tifffile.TiffFileError, struct.error, ValueError, OSError):
        return False  # LibRaw says what is wrong


def _sensor_page(tiff: tifffile.TiffFile) -> Any:
    """The directory of the sensor's own samples: mosaic or linear, of full size."""
    first = tiff.pages.first
    for page in (first, *(first.pages or ())):
        if page.photometric in (_CFA, _LINEAR) and not page.subfiletype:
            return page
    return None


def _plain(page: Any, samples: Array, baseline_ev: float) -> Array:
    """Samples in their places; those of a linear file as linear light that is full at 65535.

    Floats reach as high as one likes, so where white is to be is told by the exposure that the file asks for.
    """
    rows = page.tags[_ROWS_DEALT].value if _ROWS_DEALT in page.tags else 1
    columns = page.tags[_COLUMNS_DEALT].value if _COLUMNS_DEALT in page.tags else 1
    if rows > 1 or columns > 1:
        gathered = np.empty_like(samples)
        high, wide = -(-samples.shape[0] // rows), -(-samples.shape[1] // columns)
        for r in range(rows):
            for c in range(columns):
                place = gathered[r::rows, c::columns]
                place[...] = samples[r * high :, c * wide :][: place.shape[0], : place.shape[1]]
        samples = gathered
    if page.photometric == _CFA:
        return samples.astype(np.uint16, copy=False)
    white, bent = _white(page), _polynomials(page)
    if page.dtype.kind == "f":
        white /= 2.0**baseline_ev

    def light(levels: Array) -> Array:
        level = levels.astype(np.float32) / np.float32(white)
        for planes, coefficients in bent:
            level[..., planes] = np.polynomial.polynomial.polyval(
                level[..., planes], np.asarray(coefficients, np.float32)
            )
        full: Array = np.rint(np.clip(np.nan_to_num(level), 0, 1) * 65535).astype(np.uint16)
        return full

    linear = np.empty(samples.shape, np.uint16)
    if page.dtype.kind == "u" and page.dtype.itemsize <= 2:  # few values: each is reckoned once
        planes_of = samples.reshape(*samples.shape[:2], -1)
        values = np.arange(np.iinfo(page.dtype).max + 1)
        table = light(np.repeat(values[:, None], planes_of.shape[-1], 1))
        for plane in range(planes_of.shape[-1]):
            linear.reshape(planes_of.shape)[..., plane] = table[:, plane][planes_of[..., plane]]
        return linear
    for top in range(0, len(samples), _BAND):
        linear[top : top + _BAND] = light(samples[top : top + _BAND])
    return linear


def _baseline(first: Any) -> float:
    """BaselineExposure in EV."""
    over, under = first.tags[_BASELINE].value if _BASELINE in first.tags else (0, 1)
    return float(np.clip(over / under, -10, 10)) if under else 0.0


def _white(page: Any) -> float:
    if _WHITE not in page.tags:
        return 1.0 if page.dtype.kind == "f" else float(np.iinfo(page.dtype).max)
    told = page.tags[_WHITE].value
    return float(told[0] if isinstance(told, tuple) else told)


def _polynomials(page: Any) -> list[tuple[slice, tuple[float, ...]]]:
    """MapPolynomial of OpcodeList2 (Digital Negative 1.7.1, chapter 7): planes, and coefficients from the constant on."""
    if page.photometric != _LINEAR or _OPCODES not in page.tags:
        return []
    data = bytes(page.tags[_OPCODES].value)
    (count,) = struct.unpack_from(">I", data)
    at, found = 4, []
    for _ in range(min(count, 1000)):
        kind, _version, _flags, size = struct.unpack_from(">4I", data, at)
        if kind == _MAP_POLYNOMIAL:
            *_area, plane, planes, _row, _column, degree = struct.unpack_from(">9I", data, at + 16)
            found.append((slice(plane, plane + planes), struct.unpack_from(f">{min(degree, 8) + 1}d", data, at + 52)))
        at += 16 + size
    return found


def _copied(tag: Any) -> tuple[int, Any, int, Any]:
    """A tag as the writer takes it."""
    return tag.code, tag.dtype, tag.count, tag.value
