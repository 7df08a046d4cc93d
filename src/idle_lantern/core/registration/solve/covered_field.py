"""What part of the sphere solved frames cover."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from idle_lantern.core.base.arrays import Directions
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.registration.solve.poses import Poses

#: So many places across a frame, and down it, tell what it covers.
_ACROSS = 33


@dataclass(frozen=True)
class Field:
    """What the frames cover: azimuth about ``middle_rad``, and altitudes."""

    middle_rad: float
    width_rad: float
    low_rad: float
    high_rad: float
    full_circle: bool


def field_of(poses: Poses, across: int = _ACROSS) -> Field:
    """The part of the sphere that the frames cover, from places spread over them, ``across`` by ``across`` of each."""
    intervals, low, high = [], math.pi / 2, -math.pi / 2
    for lens, rotation in zip(poses.lenses, poses.world_from_camera):
        azimuth, altitude = azimuth_altitude(spread_rays(lens, across) @ rotation.T)
        low, high = min(low, float(altitude.min())), max(high, float(altitude.max()))
        poles = [bool(lens.sees(rotation.T @ np.array([0.0, s, 0.0]))) for s in (-1, 1)]
        if any(poles):
            intervals.append((-math.pi, math.pi))
            high = math.pi / 2 if poles[0] else high
            low = -math.pi / 2 if poles[1] else low
            continue
        middle = math.atan2(rotation[0, 2], rotation[2, 2])
        around = np.angle(np.exp(1j * (azimuth - middle)))
        intervals.append((middle + float(around.min()), middle + float(around.max())))
    middle, width = _union(intervals)
    return Field(middle, width, low, high, width >= 2 * math.pi - 1e-9)


@lru_cache(maxsize=64)  # frames mostly share one lens
def spread_rays(lens: Lens, across: int) -> Directions:
    """Directions in the camera, (N, 3), spread over all that the lens shows, its edges among them."""
    rays = lens.unproject(lens.places_px(across, with_rim=True).reshape(-1, 2))
    return rays[np.isfinite(rays[:, 0])]


def _union(intervals: list[tuple[float, float]]) -> tuple[float, float]:
    """Middle and width of the arc outside the largest gap between azimuth intervals."""
    bins = 7200
    covered = np.zeros(bins, bool)
    for a, b in intervals:
        first, last = math.floor((a + math.pi) / (2 * math.pi) * bins), math.ceil((b + math.pi) / (2 * math.pi) * bins)
        covered[np.arange(first, min(last, first + bins)) % bins] = True
    if covered.all():
        return 0.0, 2 * math.pi
    # start counting at a covered bin, so that no gap is split by the ends
    start = int(np.flatnonzero(covered)[0])
    free = np.flatnonzero(~np.roll(covered, -start))
    runs = np.split(free, np.flatnonzero(np.diff(free) > 1) + 1)
    gap = max(runs, key=len)
    after = start + int(gap[-1]) + 1
    width = bins - len(gap)
    middle = (after + width / 2) / bins * 2 * math.pi - math.pi
    return float(np.angle(np.exp(1j * middle))), width / bins * 2 * math.pi
