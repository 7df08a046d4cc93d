"""Exposure and white balance of each frame against its neighbours, measured on the ground both show."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.inspection.overlaps import Overlap, balanced
from idle_lantern.core.merging.temperature import kelvin_shift
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.poses import Poses

#: Display values between which a place tells how bright it is.
_DARK, _BRIGHT = 0.06, 0.92
_LEAST_PLACES = 20
#: Told from this on: cameras step by thirds of an EV, and blends hide less than a sixth.
LEAST_EV, LEAST_KELVIN = 0.17, 150.0


@dataclass(frozen=True)
class Unevenness:
    """How one frame differs from the middle of its run.

    ``brighter_ev`` by brightness; ``warmer_k``: as if developed for a light so many kelvin higher (redder) than the others.
    """

    brighter_ev: float
    warmer_k: float


def unevenness(poses: Poses, overlaps: Sequence[Overlap], working: Sequence[WorkingFrame]) -> dict[int, Unevenness]:
    """By place in the poses, for every frame whose brightness can be compared."""
    linear = [w.picture.light() for w in working]
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
    return {i: Unevenness(float(each[i, 1]), kelvin_shift(float(each[i, 0] - each[i, 2]))) for i in sorted(known)}


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
