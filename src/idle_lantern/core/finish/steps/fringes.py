"""Colour fringes: purple and green rims along hard edges, paled."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import cv2
import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.strengths import hue_strength
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook

Amount = Annotated[float, Meta(ge=0, le=1, extra={"title": "Purple", "step": 0.02})]
#: Hues of Oklab in degrees: what lies out of focus is rimmed with purple in front of the sharp plane and with green behind it.
_PURPLE_DEG, _GREEN_DEG = 310.0, 145.0
_WIDTH_DEG, _FEATHER_DEG, _CHROMA = 60.0, 25.0, 0.03
#: Differences of lightness within reach from which an edge counts, and from which it counts wholly.
_EDGE = (0.15, 0.35)


class Fringes(Step, frozen=True, tag="fringes", kw_only=True):
    """Chroma (Oklab) of purple and of green times 1 less their amounts, where a hard edge of lightness lies within ``reach_px``."""

    purple: Amount = 0.0
    green: Annotated[float, Meta(ge=0, le=1, extra={"title": "Green", "step": 0.02})] = 0.0
    reach_px: Annotated[float, Meta(ge=1, le=20, extra={"title": "Reach", "unit": "px", "step": 0.5})] = 4.0
    title: ClassVar[str] = "Colour fringes"
    meaning: ClassVar[str] = "Pales purple and green rims along hard edges; look at 100 % while you set it"
    form: ClassVar[Form] = "oklab"
    order: ClassVar[int] = 3

    @property
    def halo_px(self) -> float:
        """As of ``Step``."""
        return self.reach_px + 1

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.purple == 0 and self.green == 0

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""

        def apply(lab: Float32Image, look: TileLook) -> Float32Image:
            reach = round(self.reach_px / min(look.at.scale))
            if not reach:
                return lab
            paled = np.zeros(lab.shape[:2], np.float32)
            for amount, hue in ((self.purple, _PURPLE_DEG), (self.green, _GREEN_DEG)):
                if amount:
                    of_hue = hue_strength(lab, hue, _WIDTH_DEG, _FEATHER_DEG, _CHROMA)
                    paled = np.maximum(paled, np.float32(amount) * of_hue)
            made = lab.copy()
            made[..., 1:] *= (1 - paled * _edges(np.ascontiguousarray(lab[..., 0]), reach))[..., None]
            return made

        return apply


def _edges(lightness: Array, reach: int) -> Array:
    """How far each place (h, w) lies at a hard edge, 0 to 1."""
    window = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * reach + 1, 2 * reach + 1))
    differs = cv2.morphologyEx(lightness, cv2.MORPH_GRADIENT, window, borderType=cv2.BORDER_REFLECT)
    return np.asarray(np.clip((differs - np.float32(_EDGE[0])) / np.float32(_EDGE[1] - _EDGE[0]), 0, 1))
