"""White balance: what looks white under one light, made white under another (Bradford, in linear light)."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.oklab import transformed
from idle_lantern.core.colour.space import adaptation, rgb_to_xyz
from idle_lantern.core.colour.white import white_of
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground

Kelvin = Annotated[float, Meta(ge=1700, le=25000, extra={"title": "Light", "unit": "K", "step": 50})]


class WhiteBalance(Step, frozen=True, tag="white_balance", kw_only=True):
    """As if it had been developed for a light of ``kelvin`` and not of ``from_kelvin``: a bluer light (more kelvin) makes it warmer.

    The white of ``kelvin`` becomes that of ``from_kelvin``. ``tint`` from -1 (greener) to 1 (more magenta) moves the light by up to
    0.02 across the line of lights (CIE 1960 u, v).
    """

    kelvin: Kelvin = 6500.0
    tint: Annotated[float, Meta(ge=-1, le=1, extra={"title": "Tint", "step": 0.02})] = 0.0
    from_kelvin: Annotated[
        float, Meta(ge=1700, le=25000, extra={"title": "Developed for", "unit": "K", "step": 50})
    ] = 6500.0
    title: ClassVar[str] = "White balance"
    meaning: ClassVar[str] = "Makes the picture warmer or cooler, greener or more magenta"
    form: ClassVar[Form] = "linear"
    order: ClassVar[int] = 5

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.kelvin == self.from_kelvin and self.tint == 0

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""
        matrix = self.matrix(rgb_to_xyz(ground.space.chromaticities))
        return lambda light, _look: transformed(light, matrix)

    def matrix(self, to_xyz: Array) -> Array:
        """The matrix (3, 3) on linear light whose matrix to XYZ is given."""
        adapt = adaptation(white_of(self.kelvin, self.tint), white_of(self.from_kelvin))
        return np.asarray(np.linalg.inv(to_xyz) @ adapt @ to_xyz)
