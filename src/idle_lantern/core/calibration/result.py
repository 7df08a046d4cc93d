"""A measured lens with the standard error of each of its numbers."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from idle_lantern.core.base import units
from idle_lantern.core.geometry.lenses import Lens

SCHEMA = "idle-lantern/lens-calibration/1"
NUMBERS = ("focal_px", "k1", "k2", "k3", "cx", "cy")


@dataclass(frozen=True)
class Calibration:
    """What was found.

    Attributes
    ----------
    lens : Lens
    sigma : standard error of each of ``NUMBERS``, absent where it is not known
    rms_px : what is left between model and pictures
    pictures, points : how much it rests on
    falloff : (a, b) or None
        Natural logarithm of the light at a share rho of the half diagonal: ``a rho^2 + b rho^4``.
    corner_sigma_px : float or None
        Standard error of where the model puts what lies in a corner, its numbers' errors taken together.
    """

    lens: Lens
    sigma: dict[str, float]
    rms_px: float
    pictures: int
    points: int
    falloff: tuple[float, float] | None = None
    left_out: tuple[str, ...] = ()
    corner_sigma_px: float | None = None

    def sentence(self) -> str:
        """For people."""
        lens = self.lens
        told = f"{lens.model}, f = {units.measured(lens.focal_px, self.sigma.get('focal_px', math.nan))} px"
        for name in ("k1", "k2", "k3"):
            if getattr(lens, name):
                told += f", {name} = {getattr(lens, name):+.4f}"
                if name in self.sigma:
                    told += f" ± {self.sigma[name]:.4f}"
        told += f"; {self.rms_px:.2f} px are left over {units.counted(self.pictures, 'picture')}"
        if self.falloff is not None:
            told += f"; the corner gets {math.exp(sum(self.falloff)):.0%} of the light"
        return told

    def as_json(self) -> dict[str, Any]:
        """As ``idle-lantern/lens-calibration/1``."""
        lens = self.lens
        return {
            "schema": SCHEMA,
            "lens": {"model": lens.model, **{name: getattr(lens, name) for name in NUMBERS}},
            "sigma": {name: self.sigma.get(name) for name in NUMBERS},
            "width": lens.width,
            "height": lens.height,
            "rms_px": self.rms_px,
            "corner_sigma_px": self.corner_sigma_px,
            "pictures": self.pictures,
            "points": self.points,
            "falloff": None
            if self.falloff is None
            else {"terms": list(self.falloff), "corner": math.exp(sum(self.falloff))},
            "left_out": list(self.left_out),
            "sentence": f"{self.sentence()}.",
        }
