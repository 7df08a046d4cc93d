"""Local contrast: what parts a place from its surroundings, more or less of it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import cv2
import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Float32Image
from idle_lantern.core.finish.base_layer import BaseLayer, base_layer
from idle_lantern.core.finish.once import once
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook


class LocalContrast(Step, frozen=True, tag="local_contrast", kw_only=True):
    """Lightness (Oklab) parted from its surroundings by so much more; they reach over ``reach_percent`` of the longer side."""

    amount: Annotated[float, Meta(ge=-1, le=2, extra={"title": "Local contrast", "step": 0.02})] = 0.0
    reach_percent: Annotated[
        float, Meta(ge=0.2, le=10, extra={"title": "Reach", "unit": "% of the longer side", "step": 0.1})
    ] = 2.0
    title: ClassVar[str] = "Local contrast"
    meaning: ClassVar[str] = "Brings out shapes without making the whole harder"
    form: ClassVar[Form] = "oklab"
    order: ClassVar[int] = 40

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.amount == 0

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""

        def made() -> BaseLayer:
            seen = whole()
            return base_layer(seen.values[..., 0], seen.alpha, self.reach_percent / 100)

        layer = once(made)

        def apply(lab: Float32Image, look: TileLook) -> Float32Image:
            lightness = cv2.extractChannel(lab, 0)
            lightness += np.float32(self.amount) * (lightness - layer().at(lightness, look))
            return np.asarray(cv2.insertChannel(lightness, lab.copy(), 0))

        return apply
