"""Highlights and shadows, by what surrounds a place, without halos along edges."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Float32Image
from idle_lantern.core.finish.base_layer import BaseLayer, base_layer
from idle_lantern.core.finish.once import once
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook, for_each_colour

Amount = Annotated[float, Meta(ge=-1, le=1, extra={"title": "Shadows", "step": 0.02})]
#: Stops that full shadows lift, and full highlights lower, at most.
_STOPS = 2.0
#: A smaller difference of brightness is an edge here: what is left of one would be a halo of two stops.
_EDGE = 0.05


class Tones(Step, frozen=True, tag="tones", kw_only=True):
    """Light changed by up to two stops where the surroundings are dark (``shadows``) or bright (``highlights``).

    The surroundings follow edges (guided filter, ``base_layer``), so that no bright line runs along a horizon.
    """

    shadows: Amount = 0.0
    highlights: Annotated[float, Meta(ge=-1, le=1, extra={"title": "Highlights", "step": 0.02})] = 0.0
    title: ClassVar[str] = "Highlights and shadows"
    meaning: ClassVar[str] = "Lifts what is dark and holds back what is bright, each by its surroundings"
    form: ClassVar[Form] = "linear"
    order: ClassVar[int] = 15

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.shadows == 0 and self.highlights == 0

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""

        def made() -> BaseLayer:
            seen = whole()
            return base_layer(ground.brightness(seen.values), seen.alpha, edge=_EDGE)

        layer = once(made)

        def apply(light: Float32Image, look: TileLook) -> Float32Image:
            base = np.clip(layer().at(ground.brightness(light), look), 0, 1)
            away = 1 - base
            # a third of the tones each, softly into the middle
            stops = away * away * away * np.float32(_STOPS * self.shadows)
            stops += base * base * base * np.float32(_STOPS * self.highlights)
            return light * for_each_colour(np.exp2(stops))

        return apply
