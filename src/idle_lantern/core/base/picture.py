"""The one type for pixels: what they are, not just an array."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Pixels = NDArray[Any]


@dataclass(frozen=True)
class Picture:
    """A picture in memory.

    Attributes
    ----------
    pixels : (H, W, 3) array, uint8 or uint16
        Red, green, blue; display-encoded by the sRGB transfer function.
    alpha : (H, W) array of the same dtype, or None
        Full scale where there is a picture, 0 where there is none; None = all.
    icc : bytes or None
        Embedded colour profile, carried through.
    """

    pixels: Pixels
    alpha: Pixels | None = None
    icc: bytes | None = None

    @property
    def width(self) -> int:
        """Columns."""
        return int(self.pixels.shape[1])

    @property
    def height(self) -> int:
        """Rows."""
        return int(self.pixels.shape[0])

    @property
    def full_scale(self) -> int:
        """255 or 65535."""
        return int(np.iinfo(self.pixels.dtype).max)


def srgb_to_linear(encoded: Pixels) -> Pixels:
    """Display value 0..1 to linear light 0..1 (IEC 61966-2-1)."""
    encoded = np.asarray(encoded)
    return np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4).astype(encoded.dtype)


def linear_to_srgb(linear: Pixels) -> Pixels:
    """Linear light 0..1 to display value 0..1 (IEC 61966-2-1); clips below 0."""
    linear = np.maximum(np.asarray(linear), 0)
    return np.where(linear <= 0.0031308, linear * 12.92, 1.055 * linear ** (1 / 2.4) - 0.055).astype(linear.dtype)
