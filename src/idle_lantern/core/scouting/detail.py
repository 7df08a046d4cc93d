"""How much of each part of a place can be matched: corners that a registration would hold on to."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.scouting.ground import Glance
from idle_lantern.core.scouting.scout_picture import CELL_DEG

#: Side of the squares in a cell that hold a corner or do not.
_SQUARE_DEG = 1.0
#: Pixels of the picture to a degree at which corners are sought: those of frames at the size of a first look.
_PX_PER_DEG = 12.0
#: What a corner needs: slope in its weaker direction, against noise.
_CORNER = 0.8  # display values by pixel
_OVER_NOISE = 4.0  # times the noise
_SMOOTHEST = 5  # per cent of the picture whose slopes are the noise's
#: A cell is told when the pictures show so much of it.
_SHOWN = 0.3


@dataclass(frozen=True)
class Detail:
    """A cell of directions, by its middle, and the share of it with something to match."""

    azimuth_deg: float
    altitude_deg: float
    share: float


def detail_of(glances: Sequence[Glance]) -> list[Detail]:
    """Shares by cell, of the picture that shows most in each."""
    shown: dict[tuple[int, int], dict[tuple[int, int], bool]] = {}
    for glance in glances:
        corners, azimuth, altitude = _corners(glance)
        known = np.isfinite(azimuth)
        squares = np.stack([np.floor(azimuth[known] / _SQUARE_DEG), np.floor(altitude[known] / _SQUARE_DEG)], 1).astype(
            int
        )
        places, member = np.unique(squares, axis=0, return_inverse=True)
        held = np.zeros(len(places), bool)
        np.logical_or.at(held, member.ravel(), corners[known])
        side = round(CELL_DEG / _SQUARE_DEG)
        for (x, y), has in zip(places.tolist(), held.tolist()):
            cell = shown.setdefault((x // side, y // side), {})
            cell[(x, y)] = cell.get((x, y), False) or has
    told = []
    for (x, y), found in sorted(shown.items()):
        altitude_deg = (y + 0.5) * CELL_DEG
        if len(found) >= _SHOWN * (CELL_DEG / _SQUARE_DEG) ** 2:
            told.append(Detail((x + 0.5) * CELL_DEG, altitude_deg, sum(found.values()) / len(found)))
    return told


def _corners(glance: Glance) -> tuple[Array, Array, Array]:
    """Where a picture has corners, bool, with the directions of its pixels, all at the size at which they are sought."""
    scale = min(1.0, _PX_PER_DEG / max(glance.px_per_deg, 1e-6))
    h, w = glance.pixels.shape[:2]
    size = max(16, round(w * scale)), max(16, round(h * scale))
    grey = cv2.cvtColor(cv2.resize(glance.pixels, size, interpolation=cv2.INTER_AREA), cv2.COLOR_RGB2GRAY)
    smooth = cv2.GaussianBlur(grey.astype(np.float32), (0, 0), 0.8)
    x, y = (cv2.Scharr(smooth, cv2.CV_32F, *d) / 32 for d in ((1, 0), (0, 1)))
    xx, yy, xy = (cv2.boxFilter(v, -1, (5, 5)) for v in (x * x, y * y, x * y))
    weaker = (xx + yy) / 2 - np.hypot((xx - yy) / 2, xy)
    at = np.ix_(
        np.clip(((np.arange(size[1]) + 0.5) * h / size[1]).astype(int), 0, h - 1),
        np.clip(((np.arange(size[0]) + 0.5) * w / size[0]).astype(int), 0, w - 1),
    )
    slope = np.sqrt(np.maximum(weaker, 0))
    least = max(_CORNER, _OVER_NOISE * float(np.percentile(slope, _SMOOTHEST)))
    return np.asarray(slope > least), glance.azimuth_deg[at], glance.altitude_deg[at]


def share_within(
    details: Sequence[Detail], azimuth_deg: tuple[float, float], altitude_deg: tuple[float, float]
) -> float:
    """Mean share of the cells whose middles lie in a box of directions, NaN where none does."""
    middle, half = sum(azimuth_deg) / 2, (azimuth_deg[1] - azimuth_deg[0]) / 2
    inside = [
        d.share
        for d in details
        if abs((d.azimuth_deg - middle + 180) % 360 - 180) <= half
        and altitude_deg[0] <= d.altitude_deg <= altitude_deg[1]
    ]
    return sum(inside) / len(inside) if inside else math.nan
