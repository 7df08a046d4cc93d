"""Black and white by weights of the colours."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Float32Image
from idle_lantern.core.colour.oklab import transformed
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook

Weight = Annotated[float, Meta(ge=-2, le=3)]
#: Shares of red, green and blue in luminance (IEC 61966-2-1).
LUMINANCE = (0.2126, 0.7152, 0.0722)


class BlackWhite(Step, frozen=True, tag="black_white", kw_only=True):
    """Linear red, green and blue, summed by their weights; where these sum to 1 greys stay as they are."""

    weights: tuple[Weight, Weight, Weight] = LUMINANCE
    title: ClassVar[str] = "Black and white"
    meaning: ClassVar[str] = "Greys by how much each colour counts: more red darkens a blue sky"
    form: ClassVar[Form] = "linear"
    order: ClassVar[int] = 60

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return False

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""
        weights = np.tile(np.array(self.weights), (3, 1))

        def apply(light: Float32Image, _look: TileLook) -> Float32Image:
            return transformed(light, weights)

        return apply
