"""What part of the sphere the picture is to show, and how much neighbours shall overlap."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Annotated

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.plan.limits import check_limits, limit

FULL_TURN_DEG = 360.0
#: No field is narrower or lower.
LEAST_SIDE_DEG = 0.5
_ROUNDED = 1e-9
#: As many frames at a pole as save others: none or one.
AS_NEEDED = -1


@dataclass(frozen=True)
class TargetField:
    """The wanted field, in degrees, and the wanted overlap as a share of the frame.

    ``left_deg`` to ``right_deg`` runs to the right (clockwise seen from above) and
    may pass 180; 360 between them is the full circle. ``overlap`` holds along a row,
    ``overlap_rows`` between rows (0: the same). ``reserve`` is the share of the
    joined picture kept for the crop; ``spare_ends`` adds frames beyond each end.
    ``zenith_frames`` and ``nadir_frames`` look straight up and down where the field reaches there, as many as
    told or ``AS_NEEDED``; ``row_frames`` is the wished number in each row, 0 for as many as the overlap asks.
    ``fewest`` lets frames point anywhere if that saves some; else a single row looks at the middle.
    """

    left_deg: float = -100.0
    right_deg: float = 100.0
    low_deg: float = -24.0
    high_deg: float = 24.0
    overlap: float = 1 / 3
    overlap_rows: float = 0.0
    reserve: Annotated[float, limit("reserve")] = 0.0
    spare_ends: Annotated[int, limit("spare_ends")] = 0
    zenith_frames: Annotated[int, limit("zenith_frames")] = AS_NEEDED
    nadir_frames: Annotated[int, limit("nadir_frames")] = AS_NEEDED
    row_frames: Annotated[int, limit("row_frames")] = 0
    fewest: bool = False

    def __post_init__(self) -> None:
        for name, value in (("Left end", self.left_deg), ("Right end", self.right_deg)):
            if not (math.isfinite(value) and abs(value) <= 540):
                raise InputError("must lie between -540° and 540°", where=name)
        for name, value in (("Lower edge", self.low_deg), ("Upper edge", self.high_deg)):
            if not (math.isfinite(value) and -90 <= value <= 90):
                raise InputError("must lie between -90° (straight down) and 90° (straight up)", where=name)
        if not LEAST_SIDE_DEG - _ROUNDED <= self.sweep_deg <= FULL_TURN_DEG + _ROUNDED:
            raise InputError(
                f"The sweep from left to right end is {self.sweep_deg:g}°",
                where="Right end",
                remedy=f"Set the right end {LEAST_SIDE_DEG:g}° to 360° beyond the left end",
            )
        if self.high_deg - self.low_deg < LEAST_SIDE_DEG - _ROUNDED:
            raise InputError(f"must lie at least {LEAST_SIDE_DEG:g}° above the lower edge", where="Upper edge")
        for name, value, least in (("Overlap", self.overlap, 0.05), ("Overlap between rows", self.overlap_rows, 0.0)):
            if not (math.isfinite(value) and (least <= value <= 0.8) and not 0 < value < 0.05):
                raise InputError(
                    f"must lie between 5 % and 80 %, not {100 * value:.0f} %",
                    where=name,
                    remedy="A third is the usual choice",
                )
        check_limits(self)

    @property
    def is_tall(self) -> bool:
        """Whether it is tall for its width, as a sphere or a grid is and a row is not."""
        return self.sweep_deg < 2.5 * (self.high_deg - self.low_deg)

    @property
    def middle_deg(self) -> float:
        """Azimuth of its middle, in degrees."""
        return (self.left_deg + self.right_deg) / 2

    @property
    def sweep_deg(self) -> float:
        """Azimuth from left to right end."""
        return self.right_deg - self.left_deg

    @property
    def full_circle(self) -> bool:
        """Whether the picture closes on itself."""
        return self.sweep_deg >= FULL_TURN_DEG - 1e-9

    @property
    def between_rows(self) -> float:
        """Overlap between rows."""
        return self.overlap_rows or self.overlap

    def with_reserve(self) -> TargetField:
        """The field to be shot so that the wanted one is left after the crop.

        The reserve is a share of the area, so each side grows by the square root;
        a full circle loses nothing at its ends, all of the reserve goes to the heights.
        """
        if self.reserve <= 0:
            return self
        grown = 1 / (1 - self.reserve)
        wide, tall = (1.0, grown) if self.full_circle else (math.sqrt(grown), math.sqrt(grown))
        sweep = min(FULL_TURN_DEG, self.sweep_deg * wide)
        more = (self.high_deg - self.low_deg) * (tall - 1) / 2
        middle = (self.left_deg + self.right_deg) / 2
        return replace(
            self,
            left_deg=middle - sweep / 2,
            right_deg=middle + sweep / 2,
            low_deg=max(-90.0, self.low_deg - more),
            high_deg=min(90.0, self.high_deg + more),
            reserve=0.0,
        )


def fewest_sphere(field: TargetField) -> TargetField:
    """The same field shot with as few frames as show it all, wherever they point."""
    return replace(field, zenith_frames=AS_NEEDED, nadir_frames=AS_NEEDED, row_frames=0, fewest=True)
