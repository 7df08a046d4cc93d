"""Focus that moved between frames: near things lose the detail that far ones gain, or the other way round."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.inspection.sharpness import BAND_RAD, Compared

#: Logarithm of power that a patch must gain, and another lose, against a neighbour: some 0.7 px of blur each.
_TELLS = 0.8
_LEAST_PATCHES = 4


@dataclass(frozen=True)
class Refocused:
    """A frame focused elsewhere than its neighbours: the blur that came and went, and where most was lost."""

    sigma_px: float
    neighbour: int
    u: float
    v: float


def refocused(pairs: Sequence[Compared]) -> dict[int, Refocused]:
    """By place in the poses. Of two frames that differ the one counts that differs from more neighbours, else the later."""
    differing = [pair for pair in pairs if len(pair.ratios) >= _LEAST_PATCHES and _crossed(_even(pair))]
    times = Counter(k for pair in differing for k in (pair.i, pair.j))
    found: dict[int, Refocused] = {}
    for pair in sorted(differing, key=lambda p: -max(times[p.i], times[p.j])):
        if pair.i in found or pair.j in found:
            continue
        mine = pair.i if times[pair.i] > times[pair.j] else pair.j
        even = _even(pair) if mine == pair.i else -_even(pair)
        points = pair.points_i if mine == pair.i else pair.points_j
        at = points[int(even.argmin())]
        sigma = math.sqrt(float(np.abs(even).max())) / BAND_RAD
        found[mine] = Refocused(sigma, pair.j if mine == pair.i else pair.i, float(at[0]), float(at[1]))
    return found


def _even(pair: Compared) -> Array:
    """Of each patch whatever its direction."""
    return np.asarray(np.nanmean(pair.ratios, 1))


def _crossed(ratios: Array) -> bool:
    return float(ratios.max()) > _TELLS and float(ratios.min()) < -_TELLS
