"""How far a direction depends on parts of the view: what is told by one house or wall errs together.

Efron, *The Jackknife, the Bootstrap and Other Resampling Plans* (1982): each part is left out once, and the variance is (g - 1) / g
times the sum of squares of what is then found, about its mean.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from idle_lantern.core.base.arrays import Array, Flags

#: Parts of the view, by azimuth.
_PARTS = 8


def sigma_by_parts(azimuth: Array, weight: Array, estimate: Callable[[Flags], Array | None]) -> float:
    """Standard error, in the less known of two numbers, of what ``estimate`` finds of the observations that are kept (N,).

    They lie at ``azimuth`` (N,), and count ``weight`` (N,); infinite where too few parts are left to find anything.
    """
    order = np.argsort(azimuth)
    part = np.empty(len(order), int)
    part[order] = np.minimum(np.cumsum(weight[order]) / weight.sum() * _PARTS, _PARTS - 1).astype(int)
    found = [estimate(part != k) for k in range(_PARTS)]
    told = np.array([f for f in found if f is not None])
    if len(told) < 2:
        return math.inf
    spread = told - told.mean(0)
    return math.sqrt(float(np.linalg.eigvalsh(spread.T @ spread)[-1]) * (len(told) - 1) / len(told))
