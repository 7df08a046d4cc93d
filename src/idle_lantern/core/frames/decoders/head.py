"""What a decoder finds at the head of a file, and samples of any kind as a picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.frames.metadata import Metadata


@dataclass(frozen=True)
class FileHead:
    """Size as stored, depth and facts of a file.

    ``plain_jpeg`` marks JPEG of three or one colour, which any decoder reads alike; ``space`` is
    what an RGB file tells of its colours; ``raw`` is the mosaic of a camera, which is developed.
    """

    width: int
    height: int
    bits: int
    metadata: Metadata
    plain_jpeg: bool = False
    space: ColourSpace = SRGB
    raw: bool = False


def of_samples(pixels: Array) -> Picture:
    """Grey, grey with alpha, RGB or RGBA (H, W[, S]) of 8 or 16 bit as a picture."""
    if pixels.ndim == 2:
        pixels = pixels[..., None]
    samples = pixels.shape[2]
    alpha = np.ascontiguousarray(pixels[..., -1]) if samples == 2 else None
    if samples < 3:
        return Picture(np.repeat(pixels[..., :1], 3, -1), alpha)
    alpha = np.ascontiguousarray(pixels[..., 3]) if samples >= 4 else None
    return Picture(np.ascontiguousarray(pixels[..., :3]), alpha)
