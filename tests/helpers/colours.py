"""A wide colour space, and what LittleCMS makes of its pictures."""

from __future__ import annotations

import io

import imagecodecs
import numpy as np
from PIL import Image, ImageCms

#: The plain power of ``WIDE_ICC``.
WIDE_POWER = 1.8
#: Primaries of ITU-R BT.2020, Table 3, under D65, with a plain power.
WIDE_ICC = bytes(
    imagecodecs.cms_profile(
        "rgb",
        whitepoint=(0.3127, 0.3290, 1),
        primaries=(0.708, 0.292, 1, 0.170, 0.797, 1, 0.131, 0.046, 1),
        gamma=WIDE_POWER,
    )
)


def by_littlecms(pixels: np.ndarray, source: bytes, target: bytes) -> np.ndarray:
    """Pixels (H, W, 3), 8 bit, from profile to profile through Pillow, relative colorimetric."""
    profiles = (ImageCms.ImageCmsProfile(io.BytesIO(p)) for p in (source, target))
    return np.asarray(ImageCms.profileToProfile(Image.fromarray(pixels), *profiles, renderingIntent=1))
