"""Sharpening: an unsharp mask on lightness."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Float32Image
from idle_lantern.core.finish.blurring import blurred, halo_of
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook


class Sharpen(Step, frozen=True, tag="sharpen", kw_only=True):
    """Oklab lightness parted from its Gaussian blur of ``radius_px`` (its sigma, at full size) by ``amount``.

    Differences smaller than ``threshold`` stay as they are, so that noise does not grow.
    """

    radius_px: Annotated[
        float, Meta(ge=0.2, le=50, extra={"title": "Radius", "unit": "px", "step": 0.1, "usual": "0.7 to 1.5"})
    ] = 1.0
    amount: Annotated[float, Meta(ge=0, le=5, extra={"title": "Sharpness", "step": 0.05})] = 0.0
    threshold: Annotated[float, Meta(ge=0, le=0.2, extra={"title": "Threshold", "step": 0.002})] = 0.0
    title: ClassVar[str] = "Sharpening"
    meaning: ClassVar[str] = "Crisper edges; look at 100 % while you set it"
    form: ClassVar[Form] = "oklab"
    order: ClassVar[int] = 80

    @property
    def halo_px(self) -> float:
        """As of ``Step``."""
        return halo_of(self.radius_px)

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.amount == 0

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""

        def apply(lab: Float32Image, look: TileLook) -> Float32Image:
            apart = lab[..., 0] - blurred(lab[..., 0], self.radius_px, look)
            if self.threshold:
                apart[np.abs(apart) < self.threshold] = 0
            made = lab.copy()
            made[..., 0] += np.float32(self.amount) * apart
            return made

        return apply
