"""A band over part of the circle: what a polariser leaves in a wide sky, evened."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Float32Image
from idle_lantern.core.finish.bump import bump
from idle_lantern.core.finish.drawn import Yaw
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook

Azimuth = Annotated[Yaw, Meta(extra={"title": "Middle of the band", "unit": "degrees", "step": 1.0})]
Width = Annotated[float, Meta(ge=5, le=180, extra={"title": "Width", "unit": "degrees", "step": 1.0})]


class Band(Step, frozen=True, tag="band", kw_only=True):
    """Light times 2 to the power of ``ev`` at the azimuth ``yaw_deg``, half of that at half of ``width_deg`` to either side (``bump``).

    A polariser darkens the sky most at right angles to the sun, which one frame hardly shows and a wide sky does.
    """

    yaw_deg: Azimuth = 0.0
    width_deg: Width = 60.0
    ev: Annotated[float, Meta(ge=-4, le=4, extra={"title": "Brighter there", "unit": "EV", "step": 0.05})] = 0.0
    title: ClassVar[str] = "Band in the sky"
    meaning: ClassVar[str] = "Evens a dark band of the sky, as a polariser leaves it; let it work on the sky alone"
    form: ClassVar[Form] = "linear"
    order: ClassVar[int] = 7

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.ev == 0

    def check(self, ground: Ground) -> None:
        """As of ``Step``."""
        super().check(ground)
        _ = ground.direction_canvas

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""

        def apply(light: Float32Image, look: TileLook) -> Float32Image:
            share = bump(look.angles_deg[0], self.yaw_deg, self.width_deg)
            return np.asarray(light * np.exp2(np.float32(self.ev) * share)[..., None])

        return apply
