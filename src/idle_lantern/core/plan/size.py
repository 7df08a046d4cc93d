"""How large the joined picture gets, in pixels and on paper."""

from __future__ import annotations

import math
from dataclasses import dataclass

from idle_lantern.core.geometry.projections import suited
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.wish import Wish

_INCH_MM = 25.4


@dataclass(frozen=True)
class JoinedSize:
    """The wished field on its canvas at the frames' own scale."""

    projection: str
    width_px: int
    height_px: int

    @property
    def pixels(self) -> int:
        """Width times height."""
        return self.width_px * self.height_px

    def print_mm(self, dpi: float) -> tuple[float, float]:
        """Paper size at that many pixels per inch."""
        return self.width_px / dpi * _INCH_MM, self.height_px / dpi * _INCH_MM


def joined_size(rig: Rig, wish: Wish) -> JoinedSize:
    """Size on the projection that the join would choose for the field by itself."""
    scale = rig.focal_px
    sweep = math.radians(wish.sweep_deg)
    low, high = math.radians(wish.low_deg), math.radians(wish.high_deg)
    name = suited(sweep, low, high)
    width = 2 * math.tan(sweep / 2) if name == "rectilinear" else sweep
    height = high - low if name == "equirectangular" else math.tan(high) - math.tan(low)
    return JoinedSize(name, round(width * scale), round(height * scale))
