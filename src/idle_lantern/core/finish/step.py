"""What a step of a recipe is: frozen figures with their limits, and a pure function on tiles."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable
from typing import ClassVar

import msgspec

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.finish.masks import Mask
from idle_lantern.core.finish.tile_look import Form, Ground, TileLook
from idle_lantern.core.pictures.source import PictureSource

#: What becomes of the values (h, w, 3) of a tile, in the step's own form; alpha and the place are told beside them.
Apply = Callable[[Float32Image, TileLook], Float32Image]


class Whole(msgspec.Struct, frozen=True):
    """The whole picture, reduced, as it is before a step: values (h, w, 3) in the step's form, and alpha (h, w)."""

    values: Array
    alpha: Array


class Step(msgspec.Struct, frozen=True, tag_field="do", forbid_unknown_fields=True, kw_only=True):
    """A step: its figures are fields with limits, a title and a unit (``core.base.figures``).

    A step is one module in ``steps``; recipe, schema, window and command line learn of it by itself.

    Attributes
    ----------
    title, meaning : for people
    form : the values that it works on
    order : where it usually stands among the others
    needs_file : whether it is made from a file, and so is not one to be added empty
    takes_mask : whether it may work on a part only
    """

    on: bool = True
    mask: Mask | None = None
    title: ClassVar[str]
    meaning: ClassVar[str]
    form: ClassVar[Form] = "display"
    order: ClassVar[int] = 50
    needs_file: ClassVar[bool] = False
    takes_mask: ClassVar[bool] = True

    @property
    def files(self) -> tuple[str, ...]:
        """The files that it names, as the recipe calls them."""
        return () if self.mask is None else self.mask.files

    @property
    def halo_px(self) -> float:
        """How far beyond a tile it reads, in pixels of the full picture."""
        return 0.0

    @property
    @abstractmethod
    def idle(self) -> bool:
        """Whether it changes nothing as its figures stand."""

    def check(self, ground: Ground) -> None:
        """Say before the work starts whether it can be used with a picture; raises InputError."""
        if self.mask is not None:
            self.mask.check(ground)

    def begun_on(self, source: PictureSource, ground: Ground) -> PictureSource:
        """The joined picture as all steps begin on it; for what takes pixels from elsewhere in it. Raises InputError."""
        return source

    @abstractmethod
    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """The step for one picture; ``whole`` gives what is before it, for steps that look at all of the picture."""
