"""Oklab: lightness and colour as they are seen alike (Ottosson 2020, "A perceptual color space for image processing").

``lightness`` is 0 for black and 1 for white; a (green to red) and b (blue to yellow) are 0 for greys. Values below black and beyond
white go through and back as well.
"""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.colour.space import SRGB, ColourSpace, light_matrix

#: From linear sRGB to responses of the cones, and from their cube roots to L, a, b; and back, as published.
_CONES_FROM_LIGHT = np.array(
    [
        [0.4122214708, 0.5363325363, 0.0514459929],
        [0.2119034982, 0.6806995451, 0.1073969566],
        [0.0883024619, 0.2817188376, 0.6299787005],
    ]
)
_LAB_FROM_ROOTS = np.array(
    [
        [0.2104542553, 0.7936177850, -0.0040720468],
        [1.9779984951, -2.4285922050, 0.4505937099],
        [0.0259040371, 0.7827717662, -0.8086757660],
    ]
)
_LIGHT_FROM_CONES = np.linalg.inv(_CONES_FROM_LIGHT)
_ROOTS_FROM_LAB = np.linalg.inv(_LAB_FROM_ROOTS)


def to_oklab(light: Float32Image, space: ColourSpace = SRGB) -> Float32Image:
    """Linear light of ``space``, (h, w, 3) float32, as lightness, a, b."""
    roots = np.cbrt(transformed(light, _cones_from(space)))
    return transformed(roots, _LAB_FROM_ROOTS)


def from_oklab(lab: Float32Image, space: ColourSpace = SRGB) -> Float32Image:
    """Lightness, a, b (h, w, 3) as linear light of ``space``."""
    roots = transformed(lab, _ROOTS_FROM_LAB)
    return transformed(roots * roots * roots, _light_of(space))


@lru_cache(maxsize=16)
def _cones_from(space: ColourSpace) -> Array:
    return np.asarray(_CONES_FROM_LIGHT @ light_matrix(space, SRGB))


@lru_cache(maxsize=16)
def _light_of(space: ColourSpace) -> Array:
    return np.asarray(light_matrix(SRGB, space) @ _LIGHT_FROM_CONES)


def transformed(values: Float32Image, matrix: Array) -> Float32Image:
    """Each pixel's values (h, w, 3) multiplied by a matrix (3, 3); four times as fast as numpy's product of so few columns."""
    return np.asarray(cv2.transform(np.ascontiguousarray(values, np.float32), matrix.astype(np.float32)))
