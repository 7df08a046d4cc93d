"""By how much what two frames show of a place is shifted, by detail, with how well that is known."""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array

#: Errors of neighbouring pixels go together: a patch of so many counts once.
_CORRELATED = 12.0
#: Detail is what is finer than this blur and coarser than that, in pixels.
_COARSE_PX, _FINE_PX = 6.0, 1.0
#: Where correlation of phases puts the shift is tried too, from here on and up to there.
_TRY_FROM_PX, _MOST_PX = 0.4, 24.0
#: A shift known worse than this in a direction is not known there; that of a quarter must be known better.
_KNOWN_PX, _QUARTER_KNOWN_PX = 0.25, 0.15
#: Least mean of squared slopes (display values by pixel) that tells a shift.
_LEAST_SLOPE2 = 0.5


@dataclass(frozen=True)
class Moved:
    """Shift of one frame against the other, its part in directions that are told, that part's doubt, and quarters' largest."""

    step: Array
    along: float
    sigma: float
    uneven: float


def shift(one: Array, two: Array, weight: Array) -> Moved | None:
    """Shift (x, y) of the second against the first, (h, w) each with ``weight``: by detail only, robust, by least squares (Lucas and
    Kanade 1981)."""
    fine = [g - cv2.GaussianBlur(g, (0, 0), _COARSE_PX) for g in (one, two)]
    fine = [cv2.GaussianBlur(f, (0, 0), _FINE_PX) for f in fine]
    start, _response = cv2.phaseCorrelate((fine[0] * weight).astype(np.float32), (fine[1] * weight).astype(np.float32))
    best = None
    for first in (np.zeros(2), np.asarray(start)) if np.hypot(*start) > _TRY_FROM_PX else (np.zeros(2),):
        found = _least_squares(fine[0], fine[1], weight, first) if np.hypot(*first) < _MOST_PX else None
        if found is not None and (best is None or found[2] < best[2]):
            best = found
    if best is None:
        return None
    step, normal, misfit = best
    values, vectors = np.linalg.eigh(normal)
    sigma = np.sqrt(misfit * _CORRELATED / np.maximum(values, 1e-9))
    along = vectors.T @ step
    sure = sigma < _KNOWN_PX
    if not sure.any():
        return None
    halves = _uneven(fine[0], moved(fine[1], step), weight)
    return Moved(step, float(np.hypot.reduce(along[sure])), float(np.hypot.reduce(sigma[sure])), halves)


def _least_squares(one: Array, two: Array, weight: Array, step: Array) -> tuple[Array, Array, float] | None:
    gx, gy = (cv2.Scharr(one, cv2.CV_32F, *d) / 32 for d in ((1, 0), (0, 1)))
    slope = gx**2 + gy**2
    normal, misfit = np.eye(2), math.inf
    for _ in range(8):
        miss = moved(two, step) - one
        usual = 1.4826 * float(np.median(np.abs(miss[weight > 0.2]))) + 0.3 if (weight > 0.2).any() else 1.0
        w = weight / (1 + (miss / (3 * usual)) ** 2)
        normal = np.array([[(w * gx * gx).sum(), (w * gx * gy).sum()], [(w * gx * gy).sum(), (w * gy * gy).sum()]])
        if normal[0, 0] + normal[1, 1] < _LEAST_SLOPE2 * float(w.sum()) or float(slope.max()) == 0:
            return None
        side = np.array([(w * gx * miss).sum(), (w * gy * miss).sum()])
        change = np.linalg.solve(normal + np.eye(2) * 1e-3 * np.trace(normal), side)
        step = step - np.clip(change, -2, 2)
        misfit = float((w * miss**2).sum() / max(1e-6, w.sum()))
        if np.abs(change).max() < 0.01:
            break
    return (step, normal, misfit) if np.hypot(*step) < _MOST_PX + 2 else None


def _uneven(one: Array, two: Array, weight: Array) -> float:
    """How far apart quarters of the window lie that are shifted differently."""
    half = len(one) // 2
    steps = []
    for rows in (slice(0, half), slice(half, None)):
        for columns in (slice(0, half), slice(half, None)):
            at = (rows, columns)
            found = _least_squares(one[at], two[at], weight[at], np.zeros(2)) if weight[at].sum() > 200 else None
            if found is not None:
                values, vectors = np.linalg.eigh(found[1])
                sigma = math.sqrt(found[2] * _CORRELATED / max(values[1], 1e-9))
                if sigma < _QUARTER_KNOWN_PX:
                    steps.append(float(vectors[:, 1] @ found[0]))
    return max(map(abs, steps), default=0.0)


def moved(pixels: Array, step: Array) -> Array:
    """Pixels (h, w) at places that lie ``step`` (x, y) further."""
    matrix = np.array([[1, 0, step[0]], [0, 1, step[1]]], np.float32)
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    return np.asarray(cv2.warpAffine(pixels, matrix, pixels.shape[1::-1], flags=flags, borderMode=cv2.BORDER_REPLICATE))
