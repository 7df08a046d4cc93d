"""What the frames of a plan must show: the wanted field and its reserve, without the reserve's corners."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from idle_lantern.core.base.arrays import Array, Directions, Flags
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.plan.coverage import samples_of
from idle_lantern.core.plan.rows import half_widths
from idle_lantern.core.plan.target_field import TargetField

#: Directions on a rim belong to it.
_ROUNDED = 1e-9


@dataclass(frozen=True)
class Required:
    """The wanted field and, beyond each of its sides, the reserve for the crop.

    A corner of the reserve lies beyond the field both sideways and up or down. The crop cuts it off whatever the
    frames show there, so no frame is planned for it. Nor is one that shows nothing of the wanted field itself: beyond a side
    the reserve ends where a frame would no longer overlap the field as wished, ``beyond_deg`` sideways and up.
    """

    wanted: TargetField
    beyond_deg: tuple[float, float]

    @classmethod
    def of(cls, lens: Lens, wanted: TargetField) -> Required:
        """With frames of a lens."""
        wide, tall = (math.degrees(side) for side in lens.field_rad())
        return cls(wanted, (wide * (1 - wanted.overlap), tall * (1 - wanted.between_rows)))

    @cached_property
    def grown(self) -> TargetField:
        """The field with its reserve, corners and all."""
        grown, field, (wide, tall) = self.wanted.with_reserve(), self.wanted, self.beyond_deg
        if grown is field:
            return field
        return replace(
            grown,
            left_deg=max(grown.left_deg, field.left_deg - wide),
            right_deg=min(grown.right_deg, field.right_deg + wide),
            low_deg=max(grown.low_deg, field.low_deg - tall),
            high_deg=min(grown.high_deg, field.high_deg + tall),
        )

    @property
    def capped(self) -> bool:
        """Whether the reserve is less than was wished."""
        wished, grown = self.wanted.with_reserve(), self.grown
        return wished != grown

    def samples(self, count: int) -> Array:
        """About ``count`` even directions over it and more along its rim, (N, 3)."""
        directions = samples_of(self.grown, count)
        return directions if self.grown is self.wanted else directions[~self._in_corner(directions)]

    def holds(self, directions: Directions) -> Flags:
        """Which directions (N, 3) are required, (N,)."""
        beside, beyond = _outside(self.grown, directions)
        return ~beside & ~beyond & ~self._in_corner(directions)

    def in_wanted(self, directions: Directions) -> Flags:
        """Which directions (N, 3) lie in the wanted field itself, (N,)."""
        beside, beyond = _outside(self.wanted, directions)
        return ~beside & ~beyond

    def _in_corner(self, directions: Directions) -> Flags:
        beside, beyond = _outside(self.wanted, directions)
        return beside & beyond

    def reach(self, lens: Lens, pitches: Array, bottoms: Array, tops: Array) -> Array:
        """How far inside the ends of ``grown`` the last frame of a row may stand, by pitch (P,), in radians.

        ``bottoms`` and ``tops`` are the altitudes that the row alone must show.
        """
        wanted, grown = self.wanted, self.grown
        to_wanted_end = half_widths(lens, pitches, bottoms, tops)
        if grown.sweep_deg <= wanted.sweep_deg:
            return to_wanted_end
        low, high = math.radians(wanted.low_deg), math.radians(wanted.high_deg)
        within = np.clip(bottoms, low, high), np.clip(tops, low, high)
        to_grown_end = np.where(within[1] > within[0], half_widths(lens, pitches, *within), math.pi)
        return np.minimum(to_grown_end, to_wanted_end + math.radians(grown.sweep_deg - wanted.sweep_deg) / 2)


def _outside(field: TargetField, directions: Directions) -> tuple[Flags, Flags]:
    """Which directions lie beyond the left or right end of a field, and which above or below it."""
    azimuth, altitude = azimuth_altitude(directions)
    middle = math.radians((field.left_deg + field.right_deg) / 2)
    off = np.abs((azimuth - middle + math.pi) % (2 * math.pi) - math.pi)
    beside = off > math.radians(field.sweep_deg) / 2 + _ROUNDED
    low, high = math.radians(field.low_deg), math.radians(field.high_deg)
    return beside, (altitude < low - _ROUNDED) | (altitude > high + _ROUNDED)
