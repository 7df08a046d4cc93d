"""What a join is carried out by: what was chosen, and how the engine runs."""

from __future__ import annotations

import os
from dataclasses import dataclass, fields
from typing import Any

from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.request.choices import JoinChoices, changing


@dataclass(frozen=True)
class JoinOptions(JoinChoices):
    """Choices and how the engine runs, each default with its reason.

    Attributes
    ----------
    width_px : int or None
        Canvas width; None keeps the frames' own scale, so that nothing is thrown away.
    crop : bool
        Cut the picture to the largest rectangle without gaps, as it is made.
    ratio : (width, height) or None
        Of that rectangle, where one is wished.
    profile : ColourSpace or None
        Colour space of the picture; None keeps that of the frames.
    jpeg_quality : int
        Of a JPEG result.
    working_mp : float
        Size at which features are sought first, and quickly: 0.2 MP ties most sets at a fraction
        of the cost of full size; fine registration brings back what that loses.
    second_mp : float
        Size of a second, thorough look when the first leaves frames apart or ties them weakly.
    features : int
        Most points kept per frame, spread evenly; the quick first look takes four fifths of them.
    refine : bool
        Re-localise tie points at full resolution.
    seed : int
        Of the random samples; the same frames always give the same picture.
    threads : int
        Workers; OpenCV and BLAS run one thread inside each.
    memory_bytes : int or None
        Most memory for pictures; None takes a quarter of the machine.
    """

    width_px: int | None = changing("canvas", None)
    crop: bool = changing("pixels", False)
    ratio: tuple[float, float] | None = changing("pixels", None)
    profile: ColourSpace | None = changing("pixels", None)
    jpeg_quality: int = changing("pixels", 92)
    working_mp: float = changing("solve", 0.2)
    second_mp: float = changing("solve", 0.7)
    features: int = changing("solve", 1000)
    refine: bool = changing("solve", True)
    seed: int = changing("solve", 1)
    threads: int = changing("run", max(1, min(8, os.cpu_count() or 1)))
    memory_bytes: int | None = changing("run", None)

    @classmethod
    def of(cls, choices: JoinChoices, **more: Any) -> JoinOptions:
        """What was chosen, carried out as usual but for ``more``."""
        return cls(**{f.name: getattr(choices, f.name) for f in fields(JoinChoices)}, **more)

    def choices(self) -> JoinChoices:
        """What of it was chosen."""
        return JoinChoices(**{f.name: getattr(self, f.name) for f in fields(JoinChoices)})

    def deciding(self, what: str) -> tuple[tuple[str, object], ...]:
        """Names and values of the fields that change ``what``."""
        return tuple((f.name, getattr(self, f.name)) for f in fields(self) if f.metadata["changes"] == what)

    def points_of(self, *, quick: bool) -> int:
        """Most points of a frame in the quick first look, or in the thorough second one."""
        return self.features * 4 // 5 if quick else self.features

    def memory(self) -> int:
        """Bytes that a join may use for pictures: as told, else a quarter of the machine."""
        return self.memory_bytes or machine_memory() // 4


def machine_memory() -> int:
    """Bytes of memory in this computer."""
    return os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
