"""What is asked of the preparing of frames; loaded without what carries it out."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from idle_lantern.core.merging.development import Development

Brackets = Literal["merge", "fuse", "base"]
BRACKETS: tuple[Brackets, ...] = ("merge", "fuse", "base")


@dataclass(frozen=True)
class Exposure:
    """Another exposure of a place; ``ev`` tells how much more it was exposed than the base."""

    path: Path
    ev: float = 0.0


@dataclass(frozen=True)
class Recipe:
    """How frames are made ready, alike for all."""

    brackets: Brackets = "merge"
    development: Development = field(default_factory=Development)
