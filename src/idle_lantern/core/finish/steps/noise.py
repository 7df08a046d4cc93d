"""Noise of light and of colour, evened where nothing else changes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import cv2
import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook

#: Differences of lightness, and of colour, that full noise reduction takes for noise.
_LIGHT, _COLOUR = 0.05, 0.06
#: Windows of light and colour: colour is evened over more pixels.
_LIGHT_PX, _COLOUR_PX = 2.0, 5.0


class Noise(Step, frozen=True, tag="noise", kw_only=True):
    """Guided filters (He, Sun and Tang 2010) on Oklab's lightness and on its two colours, as strong as asked."""

    light: Annotated[float, Meta(ge=0, le=1, extra={"title": "Noise of light", "step": 0.02})] = 0.0
    colour: Annotated[float, Meta(ge=0, le=1, extra={"title": "Noise of colour", "step": 0.02})] = 0.0
    title: ClassVar[str] = "Noise"
    meaning: ClassVar[str] = "Evens grain and specks of colour; look at 100 % while you set it"
    form: ClassVar[Form] = "oklab"
    order: ClassVar[int] = 2

    @property
    def halo_px(self) -> float:
        """As of ``Step``."""
        return 2 * _COLOUR_PX + 2

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.light == 0 and self.colour == 0

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""

        def apply(lab: Float32Image, look: TileLook) -> Float32Image:
            scale = min(look.at.scale)
            light, *colours = cv2.split(lab)
            window = round(_COLOUR_PX / scale)
            if self.colour and window:
                colours = [_evened(c, _COLOUR * self.colour, window) for c in colours]
            window = round(_LIGHT_PX / scale)
            if self.light and window:
                light = _evened(light, _LIGHT * self.light, window)
            return np.asarray(cv2.merge([light, *colours]))

        return apply


def _evened(values: Array, noise: float, window: int) -> Array:
    """Values (h, w) evened where they differ by no more than noise."""
    side = (2 * window + 1, 2 * window + 1)

    def mean(plane: Array) -> Array:
        return np.asarray(cv2.boxFilter(plane, -1, side, borderType=cv2.BORDER_REFLECT))

    middle = mean(values)
    spread = mean(values * values)
    spread -= middle * middle
    np.clip(spread, 0, np.inf, out=spread)
    a = spread / (spread + np.float32(noise * noise))
    middle -= a * middle
    made = mean(a)
    made *= values
    made += mean(middle)
    return made
