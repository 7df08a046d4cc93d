"""Contrast about middle grey, and the black and white points."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.finish.curves import TabledCurve
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Ground, TileLook

#: The display value of a grey card (18 % of the light, IEC 61966-2-1).
_MIDDLE = 0.461


class Contrast(Step, frozen=True, tag="contrast", kw_only=True):
    """Tones parted from middle grey or drawn to it, after what is below ``black`` became black and above ``white`` white.

    Display values; above and below middle grey each side is bent by the power 2 to the amount, so black, white and grey stay.
    """

    amount: Annotated[float, Meta(ge=-1, le=1, extra={"title": "Contrast", "step": 0.02})] = 0.0
    black: Annotated[float, Meta(ge=0, le=0.5, extra={"title": "Black point", "step": 0.005})] = 0.0
    white: Annotated[float, Meta(ge=0.5, le=1, extra={"title": "White point", "step": 0.005})] = 1.0
    title: ClassVar[str] = "Contrast"
    meaning: ClassVar[str] = "Parts light from dark, and sets what is black and what is white"
    order: ClassVar[int] = 20

    def __post_init__(self) -> None:
        if self.white - self.black < 0.01:
            raise InputError("must lie above the black point", where="The white point")

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return (self.amount, self.black, self.white) == (0.0, 0.0, 1.0)

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""
        power = 2.0**self.amount
        low, wide = np.float32(self.black), np.float32(self.white - self.black)

        def at(values: Array) -> Array:
            dark = _MIDDLE * (values / _MIDDLE) ** power
            light = 1 - (1 - _MIDDLE) * (np.maximum(1 - values, 0) / (1 - _MIDDLE)) ** power
            return np.asarray(np.where(values < _MIDDLE, dark, light))

        table = TabledCurve(at) if self.amount else None

        def apply(shown: Float32Image, _look: TileLook) -> Float32Image:
            moved = np.asarray((shown - low) / wide)
            return moved if table is None else table(moved)

        return apply
