"""Haze: a veil of light over the land, strongest towards the sun, taken off."""

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


class Haze(Step, frozen=True, tag="haze", kw_only=True):
    """A veil v of linear light taken off, (light - v) / (1 - v): ``veil`` at the azimuth ``yaw_deg``, half of it at half of ``width_deg``.

    Air adds its own light to what lies behind it and takes as much of that away (Koschmieder 1924); a width of 180 degrees with
    the veil in front reaches round to the back.
    """

    yaw_deg: Annotated[Yaw, Meta(extra={"title": "Strongest at", "unit": "degrees", "step": 1.0})] = 0.0
    width_deg: Annotated[float, Meta(ge=5, le=180, extra={"title": "Width", "unit": "degrees", "step": 1.0})] = 90.0
    veil: Annotated[float, Meta(ge=-0.5, le=0.5, extra={"title": "Veil", "unit": "of white", "step": 0.005})] = 0.0
    title: ClassVar[str] = "Haze towards the sun"
    meaning: ClassVar[str] = "Takes the veil of light off one side of the picture; below nothing it adds one"
    form: ClassVar[Form] = "linear"
    order: ClassVar[int] = 6

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.veil == 0

    def check(self, ground: Ground) -> None:
        """As of ``Step``."""
        super().check(ground)
        _ = ground.direction_canvas

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""

        def apply(light: Float32Image, look: TileLook) -> Float32Image:
            veil = (np.float32(self.veil) * bump(look.angles_deg[0], self.yaw_deg, self.width_deg))[..., None]
            return np.asarray((light - veil) / (1 - veil))

        return apply
