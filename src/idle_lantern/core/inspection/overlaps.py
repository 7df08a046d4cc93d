"""Which frames show the same ground, how much of it, and where in each."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.registration.solve.poses import Poses

_GRID = 25
#: Rounds after which few odd frames are found, and how near to the middle a frame counts as there.
_ODD_ROUNDS, _LEAST_AWAY = 12, 0.01


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


def balanced(count: int, pairs: Array, differences: Array, sigmas: Array, odd_cost: float, above: float = 1.0) -> Array:
    """Values of each frame whose differences are as measured, as few of them as can be away from their middle, (count, K).

    The least of the squared misses of the pairs in their doubts and of ``odd_cost`` for each unit that a frame is away; so
    one pair that is wrong does not shift all frames on one side of it, and one odd frame is not spread over its neighbours.

    Parameters
    ----------
    pairs : (P, 2) int
    differences : (P, K)
        Values of the first less those of the second.
    sigmas : (P,)
        Doubts of the differences.
    above : float
        Times as much as a frame below the middle one above it costs.
    """
    weight = 1 / sigmas**2
    normal = np.zeros((count, count))
    for (i, j), w in zip(pairs, weight):
        normal[[i, j], [i, j]] += w
        normal[i, j] -= w
        normal[j, i] -= w
    right = np.zeros((count, differences.shape[1]))
    np.add.at(right, pairs[:, 0], differences * weight[:, None])
    np.add.at(right, pairs[:, 1], -differences * weight[:, None])
    found: Array = np.zeros_like(right)
    for _ in range(_ODD_ROUNDS):
        off = found - np.median(found, 0)
        cost = np.where(off.mean(1) > 0, above, 1.0) * odd_cost
        # half the square under this weight is the cost itself (iteratively reweighted least squares)
        held = cost / 2 / np.maximum(np.linalg.norm(off, axis=1), _LEAST_AWAY)
        found = np.linalg.solve(normal + np.diag(held), right)
    return np.asarray(found - np.median(found, 0))
