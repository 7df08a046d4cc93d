"""A measured lens with the standard error of each of its numbers."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from idle_lantern.core.base import units
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.optics.known import SCHEMA, KnownLens, Lateral

NUMBERS = ("focal_px", "k1", "k2", "k3", "cx", "cy")
#: Parts of the frame across and down in which corners of boards are counted, and how many are few.
_PARTS, _FEW = (8, 6), 4


def coverage_of(corners: Sequence[Array], width: int, height: int) -> tuple[tuple[int, ...], ...]:
    """How many corners (N, 2) lie in each part of the frame, rows from above."""
    places = np.concatenate(corners)
    counts, *_ = np.histogram2d(
        places[:, 1], places[:, 0], (_PARTS[1], _PARTS[0]), ((-0.5, height - 0.5), (-0.5, width - 0.5))
    )
    return tuple(tuple(int(n) for n in row) for row in counts)


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
    lateral_red, lateral_blue : (a, b)
        By how much more than green they are enlarged, ``a + b rho^2``.
    coverage : how many corners of boards lie in each part of the frame, rows from above
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
    lateral_red: Lateral = (0.0, 0.0)
    lateral_blue: Lateral = (0.0, 0.0)
    coverage: tuple[tuple[int, ...], ...] = ()

    def known(self, meta: Metadata, name: str, day: str) -> KnownLens:
        """As the gear library keeps it: measured on a day, with a camera and a focal length as the pictures tell them."""
        lens = self.lens
        return KnownLens(
            lens.width, lens.height, lens.focal_px, lens.model, lens.k1, lens.k2, lens.k3, lens.cx, lens.cy,
            self.sigma.get("focal_px", 0.0) / lens.focal_px, self.corner_sigma_px or 0.0, self.falloff,
            self.lateral_red, self.lateral_blue, meta.focal_mm or 0.0, meta.camera or "", name, day,
        )  # fmt: skip

    def sentence(self) -> str:
        """For people."""
        lens = self.lens
        told = f"{lens.model}, f = {units.measured(lens.focal_px, self.sigma.get('focal_px', math.nan))} px"
        for name in ("k1", "k2", "k3"):
            if abs(getattr(lens, name)) > self.sigma.get(name, 0.0):
                told += f", {name} = {getattr(lens, name):+.4f}"
                if name in self.sigma:
                    told += f" ± {self.sigma[name]:.4f}"
        told += f"; {self.rms_px:.2f} px are left over {units.counted(self.pictures, 'picture')}"
        if self.falloff is not None:
            told += f"; the corner gets {100 * math.exp(sum(self.falloff)):.0f} % of the light"
        if any((*self.lateral_red, *self.lateral_blue)):
            half = math.hypot(lens.width, lens.height) / 2
            red, blue = (half * sum(pair) for pair in (self.lateral_red, self.lateral_blue))
            told += f"; lateral colour in a corner: red {red:+.1f} px, blue {blue:+.1f} px"
        return told

    def bare_parts(self) -> str:
        """Which parts of the frame the boards do not reach, for people; empty where they reach all."""
        if not self.coverage:
            return ""
        bare = sum(n == 0 for row in self.coverage for n in row)
        if not bare:
            return ""
        every = sum(len(row) for row in self.coverage)
        return (
            f"The boards leave {bare} of {every} parts of the frame bare, where the lens is only guessed from the others: take "
            "more pictures with the board there, cut off by the rim if need be"
        )

    def map_lines(self) -> list[str]:
        """The parts of the frame as the boards fill them, a line for each row."""
        return [" ".join("." if n == 0 else "+" if n < _FEW else "#" for n in row) for row in self.coverage]

    def as_json(self, known: KnownLens) -> dict[str, Any]:
        """As ``idle-lantern/lens-calibration/1``; ``known`` is what a join takes over."""
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
            "coverage": [list(row) for row in self.coverage],
            "falloff": None
            if self.falloff is None
            else {"terms": list(self.falloff), "corner": math.exp(sum(self.falloff))},
            "lateral": {"red": list(self.lateral_red), "blue": list(self.lateral_blue)},
            "known": asdict(known),
            "left_out": list(self.left_out),
            "sentence": f"{self.sentence()}.",
        }
