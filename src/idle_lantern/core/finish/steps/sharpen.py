"""Sharpening: an unsharp mask on lightness."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Annotated, ClassVar

import cv2
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
            lightness = cv2.extractChannel(lab, 0)
            apart = lightness - blurred(lightness, self.radius_px, look)
            if self.threshold:
                apart[np.abs(apart) < self.threshold] = 0
            apart *= np.float32(self.amount)
            lightness += apart
            return np.asarray(cv2.insertChannel(lightness, lab.copy(), 0))

        return apply


def sharpen_for_blur(blur_px: float) -> Sharpen:
    """The unsharp mask for edges of that blur (its sigma).

    At half the finest frequency (a quarter of a cycle a pixel) contrast comes back to what a blur of half a pixel leaves: the transfer of a
    Gaussian is exp(-2 pi^2 sigma^2 f^2), that of the mask 1 + amount (1 - exp(-2 pi^2 radius^2 f^2)). No more than an amount of 1.2.
    """
    radius = min(max(blur_px, 0.5), 2.0)
    lost = 2 * math.pi**2 * max(0.0, min(blur_px, 1.6) ** 2 - 0.25) / 16
    amount = (math.exp(lost) - 1) / (1 - math.exp(-2 * math.pi**2 * radius**2 / 16))
    return Sharpen(radius_px=round(radius, 2), amount=round(min(amount, 1.2), 2))
