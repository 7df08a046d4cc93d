"""Light beyond white brought down to what a screen shows."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Float32Image
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook, luminance_of


class HighRange(Step, frozen=True, tag="high_range", kw_only=True):
    """Luminance by ``L (1 + L / w^2) / (1 + L)`` (Reinhard and others 2002, equation 4): light of ``white_ev`` above white becomes white.

    Colours keep their ratios. For pictures of light, as merged brackets are in float files.
    """

    white_ev: Annotated[float, Meta(ge=0, le=16, extra={"title": "White at", "unit": "EV above", "step": 0.1})] = 3.0
    title: ClassVar[str] = "High range"
    meaning: ClassVar[str] = "Shows what merged brackets hold beyond white"
    form: ClassVar[Form] = "linear"
    order: ClassVar[int] = 12

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return False

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""
        white = 2.0**self.white_ev

        def apply(light: Float32Image, _look: TileLook) -> Float32Image:
            luminance = np.maximum(luminance_of(light, ground.space), 0)[..., None]
            return np.asarray(light * ((1 + luminance / np.float32(white * white)) / (1 + luminance)))

        return apply
