"""How a picture lies in directions."""

from __future__ import annotations

from typing import Protocol

from idle_lantern.core.base.arrays import Array


class CanvasDirections(Protocol):
    """How a picture lies in directions: as of the join's canvas."""

    def directions(self, pixels: Array) -> Array:
        """Unit directions (..., 3) of pixels (..., 2), y down; NaN where there are none."""

    def pixels(self, directions: Array) -> Array:
        """Pixels (..., 2) of directions (..., 3); NaN where there is no place."""
