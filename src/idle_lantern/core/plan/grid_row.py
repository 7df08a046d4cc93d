"""One row of a plan before its frames are numbered."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class GridRow:
    """A pitch and the yaws along it, from left to right.

    ``step_rad`` is the turn that the overlap allows between two of its frames, 0 where the row has no neighbours.
    """

    pitch_rad: float
    yaws_rad: tuple[float, ...]
    role: str = "field"
    step_rad: float = 0.0
