"""The one type for pixels: what they are, not just an array."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.colour.convert import converted
from idle_lantern.core.colour.space import SRGB, ColourSpace

Pixels = NDArray[Any]


def deep(values: Pixels) -> Pixels:
    """Values of 8 or 16 bit in 16."""
    return values if values.dtype == np.uint16 else values.astype(np.uint16) * 257


@dataclass(frozen=True)
class Picture:
    """A picture in memory.

    Attributes
    ----------
    pixels : (H, W, 3) array, uint8 or uint16
        Red, green, blue; display values of ``space``.
    alpha : (H, W) array of the same dtype, or None
        Full scale where there is a picture, 0 where there is none; None = all.
    space : ColourSpace
        What the values mean.
    """

    pixels: Pixels
    alpha: Pixels | None = None
    space: ColourSpace = SRGB

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

    @staticmethod
    def of_light(light: Pixels, space: ColourSpace, alpha: Pixels | None = None) -> Picture:
        """Linear light (H, W, 3) shown in ``space`` by 16 bit; ``alpha`` of 8 or 16 bit."""
        shown = np.rint(np.clip(space.from_linear(light), 0, 1) * 65535).astype(np.uint16)
        return Picture(shown, None if alpha is None else deep(alpha), space)

    def in_space(self, space: ColourSpace) -> Picture:
        """The same picture in another space; one that is in it already is only told so."""
        if self.space == space:
            return replace(self, space=space)
        return Picture(converted(self.pixels, self.space, space), self.alpha, space)

    def light(self) -> Pixels:
        """Linear light (H, W, 3) float32, full scale 1."""
        shown = self.pixels.astype(np.float32) / np.float32(self.full_scale)
        return np.asarray(self.space.to_linear(shown), np.float32)
