"""Retouched elsewhere: what another program changed of the joined picture."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

from msgspec import Meta

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.finish.drawn import Place
from idle_lantern.core.finish.retouched import RetouchedPicture, looks_alike, looks_of, opened, size_told
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.pictures.source import PictureSource


class Retouched(Step, frozen=True, tag="retouched", kw_only=True):
    """``asset``, a picture of the joined one's size, laid over it before all other steps; ``looks_deg`` is where nine places of it look,
    by which another canvas is told from the same one."""

    asset: Annotated[str, Meta(max_length=1024)] = ""
    looks_deg: Annotated[tuple[Place, ...], Meta(max_length=9)] = ()
    title: ClassVar[str] = "Retouched elsewhere"
    meaning: ClassVar[str] = "What another program changed, laid over the joined picture; the steps below go on from it"
    order: ClassVar[int] = -10
    needs_file: ClassVar[bool] = True
    takes_mask: ClassVar[bool] = False

    def __post_init__(self) -> None:
        if self.mask is not None:
            raise InputError("lies where it was changed and takes no mask", where=self.title)

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return not self.asset

    @property
    def files(self) -> tuple[str, ...]:
        """As of ``Step``."""
        return (self.asset,) if self.asset else ()

    def check(self, ground: Ground) -> None:
        """As of ``Step``."""
        picture = opened(ground.assets(self.asset))
        moved = ground.canvas is not None and not looks_alike(self.looks_deg, looks_of(ground.canvas, ground.size))
        if picture.sizes[0] != ground.size or (self.looks_deg and moved):
            raise InputError(
                f"The retouched picture ({size_told(picture)}) was made of another projection, level or size than the present one",
                remedy="Switch its step off, or take in one that was made of this picture",
            )

    def begun_on(self, source: PictureSource, ground: Ground) -> PictureSource:
        """As of ``Step``."""
        return RetouchedPicture(source, opened(ground.assets(self.asset)))

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``: all is done before."""
        return lambda shown, _look: shown
