"""Exposure: light times a power of two."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

from msgspec import Meta

from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Form, Ground


class ExposureStep(Step, frozen=True, tag="exposure", kw_only=True):
    """``ev`` stops brighter: linear values times 2 to this power."""

    ev: Annotated[float, Meta(ge=-10, le=10, extra={"title": "Exposure", "unit": "EV", "step": 0.05})] = 0.0
    title: ClassVar[str] = "Exposure"
    meaning: ClassVar[str] = "Brightens or darkens all of it, as more or less light would have"
    form: ClassVar[Form] = "linear"
    order: ClassVar[int] = 10

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return self.ev == 0

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""
        gain = 2.0**self.ev
        return lambda light, _look: light * gain
