"""Toning: lights and darks each a little of a colour."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Annotated, ClassVar

import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Float32Image
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook

#: Chroma of Oklab that the full amount adds.
_CHROMA = 0.08


class Toning(Step, frozen=True, tag="toning", kw_only=True):
    """A hue of Oklab added to lights and one to darks; black and white themselves stay without colour."""

    light_hue_deg: Annotated[
        float, Meta(ge=0, le=360, extra={"title": "Hue of the lights", "unit": "degrees", "step": 1})
    ] = 80.0
    light_amount: Annotated[float, Meta(ge=0, le=1, extra={"title": "Colour of the lights", "step": 0.02})] = 0.0
    dark_hue_deg: Annotated[
        float, Meta(ge=0, le=360, extra={"title": "Hue of the darks", "unit": "degrees", "step": 1})
    ] = 250.0
    dark_amount: Annotated[float, Meta(ge=0, le=1, extra={"title": "Colour of the darks", "step": 0.02})] = 0.0
    title: ClassVar[str] = "Toning"
    meaning: ClassVar[str] = "A little colour in the lights and another in the darks"
    form: ClassVar[Form] = "oklab"
    order: ClassVar[int] = 65

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.light_amount == 0 and self.dark_amount == 0

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""
        lights, darks = (
            np.float32(_CHROMA * amount)
            * np.array([math.cos(math.radians(hue)), math.sin(math.radians(hue))], np.float32)
            for hue, amount in ((self.light_hue_deg, self.light_amount), (self.dark_hue_deg, self.dark_amount))
        )

        def apply(lab: Float32Image, _look: TileLook) -> Float32Image:
            lightness = np.clip(lab[..., :1], 0, 1)
            within = 4 * lightness * (1 - lightness)
            made = lab.copy()
            made[..., 1:] += within * (lightness * lights + (1 - lightness) * darks)
            return made

        return apply
