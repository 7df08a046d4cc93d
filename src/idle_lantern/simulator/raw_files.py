"""What the simulated camera writes as raw: a mosaic in a DNG that LibRaw and others read, made of known light.

Digital Negative 1.4: a small JPEG to be looked at first, and below it the colour filter array with what is needed to
develop it. The sensor's own colours are those of sRGB, each weakened by a factor, so that developing has a known truth.
"""

from __future__ import annotations

import io
import math
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import tifffile
from PIL import Image

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.frames.metadata import Metadata

#: What the sensor sees of red, green and blue under the light of the scene.
NEUTRAL = (0.5, 1.0, 0.625)
BLACK, WHITE = 512, 16383
#: XYZ (D65) to linear sRGB (IEC 61966-2-1).
_SRGB_FROM_XYZ = np.array([[3.2406, -1.5372, -0.4986], [-0.9689, 1.8758, 0.0415], [0.0557, -0.2040, 1.0570]])
_PREVIEW_PX = 640
#: Types of TIFF's values, as struct writes them.
_SHORT = "H"
_LONG = "I"
_RATIONAL = "2I"
_ASCII = "s"
_BYTE = "B"
_SRATIONAL = "2i"


def write_dng(path: Path, light: Array, metadata: Metadata) -> None:
    """A raw file of linear light (H, W, 3), one where green is full.

    Red and blue are full later than green; what a developer makes of the whole is white at one.
    """
    height, width = light.shape[0] // 2 * 2, light.shape[1] // 2 * 2
    seen = light[:height, :width] * np.asarray(NEUTRAL, light.dtype)
    mosaic = seen[..., 1].copy()
    mosaic[0::2, 0::2], mosaic[1::2, 1::2] = seen[0::2, 0::2, 0], seen[1::2, 1::2, 2]
    values = np.rint(np.clip(mosaic, 0, 1) * (WHITE - BLACK) + BLACK).astype(np.uint16)
    step = max(1, math.ceil(max(height, width) / _PREVIEW_PX))
    small = np.rint(SRGB.from_linear(np.clip(light[:height:step, :width:step], 0, 1)) * 255).astype(np.uint8)
    matrix = np.asarray(NEUTRAL)[:, None] * _SRGB_FROM_XYZ
    taken = (metadata.taken or "2026:05:14 18:40:00").encode()
    facts = [
        (274, _SHORT, 1, metadata.orientation),
        (271, _ASCII, 0, "Idle Lantern"),
        (272, _ASCII, 0, metadata.camera or "Simulated camera"),
        (306, _ASCII, 20, taken),
        (36867, _ASCII, 20, taken),
        (50706, _BYTE, 4, bytes((1, 4, 0, 0))),
        (50707, _BYTE, 4, bytes((1, 1, 0, 0))),
        (50708, _ASCII, 0, metadata.camera or "Simulated camera"),
        (50721, _SRATIONAL, 9, _rationals(matrix.ravel())),
        (50728, _RATIONAL, 3, _rationals(NEUTRAL)),
        (50778, _SHORT, 1, 21),
        *(
            (tag, _RATIONAL, 1, _rationals([value]))
            for tag, value in ((33434, metadata.exposure_s), (33437, metadata.aperture), (37386, metadata.focal_mm))
            if value
        ),
        *([(34855, _SHORT, 1, int(metadata.iso))] if metadata.iso else []),
    ]
    if metadata.sensor_width_mm:
        per_cm = max(width, height) / metadata.sensor_width_mm * 10
        facts += [(41486, _RATIONAL, 1, _rationals([per_cm])), (41487, _RATIONAL, 1, _rationals([per_cm]))]
        facts += [(41488, _SHORT, 1, 3)]
    sensor = [
        (33421, _SHORT, 2, (2, 2)),
        (33422, _BYTE, 4, bytes((0, 1, 1, 2))),
        (50714, _SHORT, 1, BLACK),
        (50717, _LONG, 1, WHITE),
    ]
    with replacing(path) as target, tifffile.TiffWriter(target) as tiff:
        tiff.write(
            iter([_jpeg(small)]), shape=small.shape, dtype=np.uint8, photometric="ycbcr", compression="jpeg", subsampling=(1, 1),
            subifds=1, subfiletype=1, rowsperstrip=small.shape[0], extratags=[(*fact, True) for fact in facts],
            software="Idle Lantern", metadata=None,
        )  # fmt: skip
        tiff.write(
            values, photometric="cfa", subfiletype=0, extratags=[(*fact, True) for fact in sensor], metadata=None,
        )  # fmt: skip


def _jpeg(pixels: Array) -> bytes:
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "JPEG", quality=88, subsampling=0)
    return out.getvalue()


def _rationals(values: Any) -> tuple[int, ...]:
    """Numbers as pairs of integers."""
    pairs = [Fraction(float(v)).limit_denominator(100_000) for v in values]
    return tuple(n for p in pairs for n in (p.numerator, p.denominator))
