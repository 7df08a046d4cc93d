"""What is asked of the preparing of frames; loaded without what carries it out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from idle_lantern.core.merging.development import Development

Brackets = Literal["merge", "fuse", "base"]
BRACKETS: tuple[Brackets, ...] = ("merge", "fuse", "base")
Repeats = Literal["sharpest", "stack"]
REPEATS: tuple[Repeats, ...] = ("sharpest", "stack")


@dataclass(frozen=True)
class BracketExposure:
    """Another exposure of a place; ``ev`` tells how much more it was exposed than the base.

    A ``repeat`` was exposed alike and is averaged where that is asked for; a frame of a ``sensor-shift`` series lies a
    pixel or half of one beside the base and always goes in.
    """

    path: Path
    ev: float = 0.0
    kind: Literal["bracket", "repeat", "sensor-shift"] = "bracket"

    @property
    def again(self) -> bool:
        """Whether it was taken again."""
        return self.kind == "repeat"


@dataclass(frozen=True)
class Recipe:
    """How frames are made ready, alike for all; ``quick`` to be measured only, in 8 bit."""

    brackets: Brackets = "merge"
    development: Development = field(default_factory=Development)
    repeats: Repeats = "sharpest"
    quick: bool = False

    def used(self, others: Sequence[BracketExposure]) -> tuple[BracketExposure, ...]:
        """Those of a place's other exposures that go into its frame."""
        asked = {"bracket": self.brackets != "base", "repeat": self.repeats == "stack", "sensor-shift": True}
        return tuple(e for e in others if asked[e.kind])
