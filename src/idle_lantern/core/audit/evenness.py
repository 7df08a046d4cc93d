"""Exposure and white balance of each frame against its neighbours, measured on the ground both show."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.audit.overlaps import Overlap, balanced
from idle_lantern.core.base.picture import srgb_to_linear
from idle_lantern.core.join.match.features import WorkingFrame
from idle_lantern.core.join.solve.poses import Poses

Array = NDArray[Any]

#: Display values between which a place tells how bright it is.
_DARK, _BRIGHT = 0.06, 0.92
_LEAST_PLACES = 20
#: Told from this on: cameras step by thirds of an EV, and blends hide less than a sixth.
LEAST_EV, LEAST_KELVIN = 0.17, 150.0
#: White balance is told as if the others were set to daylight.
DAYLIGHT_K = 5500.0


@dataclass(frozen=True)
class Unevenness:
    """How one frame differs from the middle of its run.

    ``brighter_ev`` by brightness; ``warmer_k``: as if developed for a light so many kelvin higher (redder) than the others.
    """

    brighter_ev: float
    warmer_k: float


def unevenness(poses: Poses, overlaps: Sequence[Overlap], working: Sequence[WorkingFrame]) -> dict[int, Unevenness]:
    """By place in the poses, for every frame whose brightness can be compared."""
    linear = [srgb_to_linear(w.picture.pixels.astype(np.float32) / w.picture.full_scale) for w in working]
    shown = [w.picture.pixels.astype(np.float32) / w.picture.full_scale for w in working]
    pairs, differences, weights = [], [], []
    for overlap in overlaps:
        one = _sampled(shown[overlap.i], working[overlap.i], overlap.points_i)
        two = _sampled(shown[overlap.j], working[overlap.j], overlap.points_j)
        tells = ((one > _DARK) & (one < _BRIGHT) & (two > _DARK) & (two < _BRIGHT)).all(1)
        if tells.sum() < _LEAST_PLACES:
            continue
        a = _sampled(linear[overlap.i], working[overlap.i], overlap.points_i)[tells]
        b = _sampled(linear[overlap.j], working[overlap.j], overlap.points_j)[tells]
        pairs.append((overlap.i, overlap.j))
        differences.append(np.median(np.log2(a / b), 0))
        weights.append(float(tells.sum()))
    if not pairs:
        return {}
    each = balanced(len(poses.frames), np.asarray(pairs), np.asarray(differences), np.asarray(weights))
    known = {i for pair in pairs for i in pair}
    return {i: Unevenness(float(each[i, 1]), _kelvin(float(each[i, 0] - each[i, 2]))) for i in sorted(known)}


def _sampled(values: Array, frame: WorkingFrame, points: Array) -> Array:
    """Means of 3 by 3 pixels of a reduced frame about places of the full one."""
    scale = np.asarray(frame.scale)
    at = np.rint((points + 0.5) / scale - 0.5).astype(int)
    height, width = values.shape[:2]
    x, y = np.clip(at[:, 0], 1, width - 2), np.clip(at[:, 1], 1, height - 2)
    total = np.zeros((len(points), 3), np.float32)
    for dy in (-1, 0, 1):
        for dx in (-1, 0, 1):
            total += values[y + dy, x + dx]
    return total / 9


def _kelvin(red_over_blue_ev: float) -> float:
    """How much higher a light a development was made for that shows so much more red against blue."""
    target = _red_over_blue(DAYLIGHT_K) - red_over_blue_ev
    low, high = 2500.0, 20000.0
    if not _red_over_blue(high) < target < _red_over_blue(low):
        return math.copysign(3000.0, red_over_blue_ev)
    for _ in range(40):
        middle = (low + high) / 2
        low, high = (middle, high) if _red_over_blue(middle) > target else (low, middle)
    return (low + high) / 2 - DAYLIGHT_K


def _red_over_blue(kelvin: float) -> float:
    """Logarithm to base 2 of red over blue, linear sRGB, of a black body.

    Chromaticity by Kim and others (2002), US patent 7 024 034; sRGB by IEC 61966-2-1.
    """
    t = 1000.0 / kelvin
    if kelvin <= 4000:
        x = -0.2661239 * t**3 - 0.2343589 * t**2 + 0.8776956 * t + 0.179910
    else:
        x = -3.0258469 * t**3 + 2.1070379 * t**2 + 0.2226347 * t + 0.240390
    if kelvin <= 2222:
        y = -1.1063814 * x**3 - 1.34811020 * x**2 + 2.18555832 * x - 0.20219683
    elif kelvin <= 4000:
        y = -0.9549476 * x**3 - 1.37418593 * x**2 + 2.09137015 * x - 0.16748867
    else:
        y = 3.0817580 * x**3 - 5.87338670 * x**2 + 3.75112997 * x - 0.37001483
    big_x, big_z = x / y, (1 - x - y) / y
    red = 3.2406 * big_x - 1.5372 - 0.4986 * big_z
    blue = 0.0557 * big_x - 0.2040 + 1.0570 * big_z
    return math.log2(max(red, 1e-6) / max(blue, 1e-6))
