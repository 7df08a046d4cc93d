"""What part of the sphere the picture is to show, and how much neighbours shall overlap."""

from __future__ import annotations

import math
from dataclasses import dataclass

from idle_lantern.core.base.errors import InputError

FULL_TURN_DEG = 360.0


@dataclass(frozen=True)
class Wish:
    """The wanted field, in degrees, and the wanted overlap as a share of the frame.

    ``left_deg`` to ``right_deg`` runs to the right (clockwise seen from above) and
    may pass 180; 360 between them is the full circle.
    """

    left_deg: float = -100.0
    right_deg: float = 100.0
    low_deg: float = -24.0
    high_deg: float = 24.0
    overlap: float = 1 / 3

    def __post_init__(self) -> None:
        for name, value in (("Left end", self.left_deg), ("Right end", self.right_deg)):
            if not (math.isfinite(value) and abs(value) <= 540):
                raise InputError("must lie between -540° and 540°", where=name)
        for name, value in (("Lower edge", self.low_deg), ("Upper edge", self.high_deg)):
            if not (math.isfinite(value) and -90 <= value <= 90):
                raise InputError("must lie between -90° (straight down) and 90° (straight up)", where=name)
        if not 0.5 <= self.sweep_deg <= FULL_TURN_DEG + 1e-9:
            raise InputError(
                f"The sweep from left to right end is {self.sweep_deg:g}°",
                where="Right end",
                remedy="Set the right end 0.5° to 360° beyond the left end",
            )
        if self.high_deg - self.low_deg < 0.5:
            raise InputError("must lie at least 0.5° above the lower edge", where="Upper edge")
        if not (math.isfinite(self.overlap) and 0.05 <= self.overlap <= 0.8):
            raise InputError(
                f"must lie between 5 % and 80 %, not {100 * self.overlap:.0f} %",
                where="Overlap",
                remedy="A third is the usual choice",
            )

    @property
    def sweep_deg(self) -> float:
        """Azimuth from left to right end."""
        return self.right_deg - self.left_deg

    @property
    def full_circle(self) -> bool:
        """Whether the picture closes on itself."""
        return self.sweep_deg >= FULL_TURN_DEG - 1e-9
