"""Healing: places covered by clean ground beside them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

from msgspec import Meta

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.finish.healing import HealedPicture, Spot
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.pictures.source import PictureSource


class Heal(Step, frozen=True, tag="heal", kw_only=True):
    """``spots`` covered, in their order, by ground from elsewhere in the joined picture; always before all other steps."""

    spots: Annotated[tuple[Spot, ...], Meta(max_length=5000)] = ()
    title: ClassVar[str] = "Healing"
    meaning: ClassVar[str] = "Covers litter, posts and dust with the ground beside them"
    order: ClassVar[int] = 0
    takes_mask: ClassVar[bool] = False

    def __post_init__(self) -> None:
        if self.mask is not None:
            raise InputError("has places of its own and takes no mask", where="Healing")

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return not self.spots

    def begun_on(self, source: PictureSource, ground: Ground) -> PictureSource:
        """As of ``Step``."""
        return HealedPicture(source, self.spots, ground)

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``: all is done before."""
        return lambda shown, _look: shown
