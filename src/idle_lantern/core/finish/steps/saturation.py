"""Saturation, plain, and gently for what is pale."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import cv2
import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Float32Image
from idle_lantern.core.colour.oklab import transformed
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook

#: Chroma of Oklab at which the gentle part has fallen to a third: foliage has 0.12, full red 0.26.
_PALE = 0.10


class Saturation(Step, frozen=True, tag="saturation", kw_only=True):
    """Chroma in Oklab times ``factor``; ``gentle`` adds to what is pale and leaves what is strong."""

    factor: Annotated[float, Meta(ge=0, le=4, extra={"title": "Saturation", "step": 0.02})] = 1.0
    gentle: Annotated[float, Meta(ge=-1, le=1, extra={"title": "Pale colours", "step": 0.02})] = 0.0
    title: ClassVar[str] = "Saturation"
    meaning: ClassVar[str] = "Stronger or weaker colours, lightness kept"
    form: ClassVar[Form] = "oklab"
    order: ClassVar[int] = 50

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.factor == 1 and self.gentle == 0

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""

        def apply(lab: Float32Image, _look: TileLook) -> Float32Image:
            if not self.gentle:
                return transformed(lab, np.diag([1, self.factor, self.factor]))
            lightness, a, b = cv2.split(lab)
            factor = cv2.magnitude(a, b)
            factor *= np.float32(-1 / _PALE)
            np.exp(factor, out=factor)
            factor *= np.float32(self.factor * self.gentle)
            factor += np.float32(self.factor)
            return np.asarray(cv2.merge((lightness, a * factor, b * factor)))

        return apply
