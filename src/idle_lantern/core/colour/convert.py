"""Pixels of one space as pixels of another, by LittleCMS."""

from __future__ import annotations

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.profiles import profile_of
from idle_lantern.core.colour.space import ColourSpace


def converted(pixels: Array, source: ColourSpace, target: ColourSpace) -> Array:
    """Pixels (H, W, 3) of ``source`` in ``target``, relative colorimetric; dtype uint8, uint16 or float32, as given.

    What white stands for does not matter: display values are converted. A profile that LittleCMS cannot use leaves them as they are.
    """
    source, target = source.up_to(1.0), target.up_to(1.0)
    if source == target:
        return pixels
    import imagecodecs  # half of a second to load, and only sets of mixed spaces need it

    # its shortcut for 16 bit is a coarse table, off by up to 15 levels of 8 bit near the rim of the space
    flags = imagecodecs.CMS.FLAGS.NOOPTIMIZE if pixels.dtype != np.uint8 else None
    try:
        made = imagecodecs.cms_transform(
            np.ascontiguousarray(pixels),
            profile_of(source),
            profile_of(target),
            colorspace="rgb",
            outcolorspace="rgb",
            flags=flags,
        )
    except (RuntimeError, ValueError):
        return pixels
    return np.asarray(made, pixels.dtype)


def eight_bit(shown: Array) -> Array:
    """Display values (...,) as uint8, of uint8, uint16, or floats of which 1 is white."""
    if shown.dtype.kind == "f":
        return np.asarray(np.rint(np.clip(shown, 0, 1) * 255), np.uint8)
    return shown if shown.dtype == np.uint8 else np.asarray(shown >> 8, np.uint8)
