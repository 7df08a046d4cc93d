"""Which frames show the same ground, how much of it, and where in each."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.registration.solve.poses import Poses

_GRID = 25


@dataclass(frozen=True)
class Overlap:
    """Ground that two frames share.

    Attributes
    ----------
    i, j : int
        Places of the frames in the poses.
    share : float
        Part of frame i that frame j shows too.
    points_i, points_j : (N, 2)
        Pixels of the same directions, spread evenly over the shared part of i.
    """

    i: int
    j: int
    share: float
    points_i: Array
    points_j: Array


def overlaps_of(poses: Poses, least_share: float = 0.02) -> list[Overlap]:
    """All pairs of frames that share some of their ground, each once."""
    lenses, axes = poses.lenses, poses.world_from_camera[:, :, 2]
    reach = [math.hypot(*lens.field_rad()) / 2 for lens in lenses]
    found = []
    for i in range(len(lenses)):
        lens = lenses[i]
        pixels = lens.places_px(_GRID).reshape(-1, 2)
        world = poses.directions(i, pixels)
        for j in range(i + 1, len(lenses)):
            if math.acos(float(np.clip(axes[i] @ axes[j], -1, 1))) > reach[i] + reach[j]:
                continue
            seen, valid = poses.pixels(j, world)
            inside = valid & (seen >= -0.5).all(-1) & (seen < (lenses[j].width - 0.5, lenses[j].height - 0.5)).all(-1)
            share = float(inside.mean())
            if share >= least_share:
                found.append(Overlap(i, j, share, pixels[inside], seen[inside]))
    return found


def largest_of_each(overlaps: Sequence[Overlap], count: int) -> list[Overlap]:
    """Those that are among the ``count`` largest of one of their frames, in their order."""
    kept: set[int] = set()
    for frame in {f for o in overlaps for f in (o.i, o.j)}:
        mine = [n for n, o in enumerate(overlaps) if frame in (o.i, o.j)]
        kept |= set(sorted(mine, key=lambda n: -overlaps[n].share)[:count])
    return [overlaps[n] for n in sorted(kept)]


def balanced(count: int, pairs: Array, differences: Array, weights: Array) -> Array:
    """Values of each frame whose differences are as measured, least squares; their median is nothing.

    Parameters
    ----------
    pairs : (P, 2) int, differences : (P, ...) value of the first less that of the second, weights : (P,)
    """
    rows = np.zeros((len(pairs) + 1, count))
    at = np.arange(len(pairs))
    root = np.sqrt(weights)
    rows[at, pairs[:, 0]], rows[at, pairs[:, 1]] = root, -root
    rows[-1] = 1e-3
    values = np.concatenate(
        [differences * root.reshape(-1, *[1] * (differences.ndim - 1)), np.zeros((1, *differences.shape[1:]))]
    )
    found, *_ = np.linalg.lstsq(rows, values.reshape(len(rows), -1), rcond=None)
    found = found.reshape(count, *differences.shape[1:])
    return np.asarray(found - np.median(found, 0))
