"""Noise of light and of colour, evened where nothing else changes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import cv2
import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Float32Image
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook

#: Lightness differences of full noise reduction; colour is evened over more pixels than light.
_LIGHT, _COLOUR = 0.06, 0.08
_LIGHT_PX, _COLOUR_PX = 1.5, 3.0
_REACH_PX = 9.0
#: Below so many pixels of a reduced picture nothing is left of the noise.
_LEAST_PX = 0.35


class Noise(Step, frozen=True, tag="noise", kw_only=True):
    """A bilateral filter (Tomasi and Manduchi 1998) on Oklab's lightness and on its colours, each as strong as asked."""

    light: Annotated[float, Meta(ge=0, le=1, extra={"title": "Noise of light", "step": 0.02})] = 0.0
    colour: Annotated[float, Meta(ge=0, le=1, extra={"title": "Noise of colour", "step": 0.02})] = 0.0
    title: ClassVar[str] = "Noise"
    meaning: ClassVar[str] = "Evens grain and specks of colour; look at 100 % while you set it"
    form: ClassVar[Form] = "oklab"
    order: ClassVar[int] = 2

    @property
    def halo_px(self) -> float:
        """As of ``Step``."""
        return _REACH_PX

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.light == 0 and self.colour == 0

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""

        def apply(lab: Float32Image, look: TileLook) -> Float32Image:
            scale = min(look.at.scale)
            made = np.ascontiguousarray(lab)
            if self.colour and _COLOUR_PX / scale > _LEAST_PX:
                even = _evened(made, _COLOUR * self.colour, _COLOUR_PX / scale)
                made = np.dstack([made[..., :1], even[..., 1:]])
            if self.light and _LIGHT_PX / scale > _LEAST_PX:
                even = _evened(np.ascontiguousarray(made[..., 0]), _LIGHT * self.light, _LIGHT_PX / scale)
                made = np.dstack([even, made[..., 1:]])
            return made

        return apply


def _evened(values: Float32Image, differences: float, pixels: float) -> Float32Image:
    radius = min(int(_REACH_PX), max(1, round(2 * pixels)))
    return np.asarray(cv2.bilateralFilter(values, 2 * radius + 1, differences, pixels))
