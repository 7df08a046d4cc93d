"""A band of hues: the sky less bright, the grass less yellow."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Annotated, ClassVar

import cv2
import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Float32Image
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.strengths import hue_strength
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook

#: A colour weaker than this (chroma of Oklab) is a grey, which has no hue.
_GREY = 0.02
#: How much lightness the full amount gives or takes, as a share.
_LIGHTNESS = 0.4


class HueBand(Step, frozen=True, tag="hue_band", kw_only=True):
    """Colours about ``hue_deg`` of Oklab (30 red, 110 yellow, 145 green, 195 cyan, 260 blue, 330 magenta), softly to both sides."""

    hue_deg: Annotated[float, Meta(ge=0, le=360, extra={"title": "Hue", "unit": "degrees", "step": 1})] = 250.0
    width_deg: Annotated[float, Meta(ge=0, le=180, extra={"title": "Width", "unit": "degrees", "step": 1})] = 30.0
    feather_deg: Annotated[float, Meta(ge=1, le=180, extra={"title": "Feather", "unit": "degrees", "step": 1})] = 30.0
    lightness: Annotated[float, Meta(ge=-1, le=1, extra={"title": "Lightness", "step": 0.02})] = 0.0
    factor: Annotated[float, Meta(ge=0, le=4, extra={"title": "Saturation", "step": 0.02})] = 1.0
    turn_deg: Annotated[float, Meta(ge=-90, le=90, extra={"title": "Turn", "unit": "degrees", "step": 1})] = 0.0
    title: ClassVar[str] = "One colour"
    meaning: ClassVar[str] = "Lightness, strength and hue of one colour, as of the sky"
    form: ClassVar[Form] = "oklab"
    order: ClassVar[int] = 55

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return (self.lightness, self.factor, self.turn_deg) == (0.0, 1.0, 0.0)

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""

        def apply(lab: Float32Image, _look: TileLook) -> Float32Image:
            share = hue_strength(lab, self.hue_deg, self.width_deg, self.feather_deg, _GREY)
            lightness, a, b = cv2.split(lab)
            lightness = lightness * (1 + share * np.float32(_LIGHTNESS * self.lightness))
            if self.turn_deg:
                turn = share * np.float32(math.radians(self.turn_deg))
                cos, sin = np.cos(turn), np.sin(turn)
                a, b = cos * a - sin * b, sin * a + cos * b
            if self.factor != 1:
                factor = 1 + share * np.float32(self.factor - 1)
                a, b = a * factor, b * factor
            return np.asarray(cv2.merge((lightness, a, b)))

        return apply
