"""Evenness across the sweep: light and colour that drift from one end of the picture to the other."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Float32Image
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook


class Sweep(Step, frozen=True, tag="sweep", kw_only=True):
    """Light that grows evenly across the picture: the right end ``ev`` stops brighter against the left one, the middle as it is.

    ``warmth`` is by how many stops red grows against blue.
    """

    ev: Annotated[float, Meta(ge=-4, le=4, extra={"title": "Right end brighter", "unit": "EV", "step": 0.05})] = 0.0
    warmth: Annotated[float, Meta(ge=-2, le=2, extra={"title": "Right end warmer", "unit": "EV", "step": 0.02})] = 0.0
    title: ClassVar[str] = "Evenness across"
    meaning: ClassVar[str] = "Evens light and colour that drift from the left end to the right"
    form: ClassVar[Form] = "linear"
    order: ClassVar[int] = 8

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.ev == 0 and self.warmth == 0

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""
        stops = np.array([self.ev + self.warmth / 2, self.ev, self.ev - self.warmth / 2])

        def apply(light: Float32Image, look: TileLook) -> Float32Image:
            box, size = look.at.box, look.at.size
            across = (np.arange(box.left, box.left + box.width) + 0.5) / size[0] - 0.5
            return np.asarray(light * np.exp2(across[:, None] * stops).astype(np.float32))

        return apply
