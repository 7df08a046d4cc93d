"""Pairs of frames worth trying, and their matches."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.registration.match.features import FeatureKind, Features
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.match.partners import votes
from idle_lantern.core.registration.match.verify import ACCEPT_BASE

#: Up to so many frames every pair is tried; beyond, a coarse pass chooses partners.
ALL_PAIRS_UP_TO = 14
_COARSE_POINTS = 250
#: Partners that each frame asks for by what it shows, and by where it was pointed.
_PARTNERS, _TOLD_PARTNERS = 6, 10


def match(one: Features, other: Features) -> tuple[Array, Array]:
    """Mutual best pairs that pass the ratio test: two index arrays (M,)."""
    if len(one) < 2 or len(other) < 2:
        return np.zeros(0, int), np.zeros(0, int)
    return _match_descriptors(one.descriptors, other.descriptors, one.kind)


def _match_descriptors(d1: Array, d2: Array, kind: FeatureKind) -> tuple[Array, Array]:
    likeness = d1 @ d2.T
    best = likeness.argmax(1)
    index = np.arange(len(d1))
    top = likeness[index, best].copy()
    likeness[index, best] = -1
    second = likeness.max(1)
    # unit vectors: squared distance is 2 - 2 x likeness
    keep = np.flatnonzero((1 - top) < kind.ratio**2 * (1 - second))
    # the way back is asked only of what passed: a tenth of the columns
    if len(keep):
        likeness[keep, best[keep]] = top[keep]
        back = np.ascontiguousarray(likeness[:, best[keep]].T)
        # other rows lost their own best above, so those that chose the same column are asked by it
        rival = np.full(len(d2), -1.0, likeness.dtype)
        np.maximum.at(rival, best, top)
        mutual = (back.max(1) <= top[keep]) & (rival[best[keep]] <= top[keep])
        keep = keep[mutual]
    return keep, best[keep]


def candidate_pairs(
    features: Sequence[Features], prior: Sequence[Array | None], reach_rad: float
) -> list[tuple[int, int]]:
    """Pairs of frames worth matching in full; ``prior`` are rotations (3, 3) where they are known.

    Few frames: all. With known directions: neighbours within ``reach_rad``. Else a
    coarse pass over the largest features ranks partners for each frame, so the full
    work grows with the number of frames and not with its square.
    """
    n = len(features)
    if n <= ALL_PAIRS_UP_TO:
        return [(i, j) for i in range(n) for j in range(i + 1, n)]
    pairs: set[tuple[int, int]] = set()
    known = [i for i in range(n) if prior[i] is not None]
    if known:
        axes = np.array([prior[i][:, 2] for i in known])  # type: ignore[index]
        nearness = axes @ axes.T
        np.fill_diagonal(nearness, -1)
        for i, row in enumerate(nearness):
            closest = np.argsort(-row, kind="stable")[:_TOLD_PARTNERS]
            pairs |= {(known[min(i, j)], known[max(i, j)]) for j in closest.tolist() if row[j] > np.cos(reach_rad)}
        if len(known) == n:
            return sorted(pairs)
    chosen = [f.descriptors[f.coarse(_COARSE_POINTS)] for f in features]
    shared = votes(chosen, features[0].kind.alike)
    for i in range(n):
        for j in np.argsort(-shared[i], kind="stable")[:_PARTNERS]:
            if shared[i, j] >= 3:
                pairs.add((min(i, int(j)), max(i, int(j))))
    return sorted(pairs)


def match_pair(a: int, b: int, features: Sequence[Features]) -> Link | None:
    """All matches of a pair as an unverified link; None if there are too few."""
    first, second = match(features[a], features[b])
    if len(first) <= ACCEPT_BASE:
        return None
    return Link(a, b, features[a].points_px[first], features[b].points_px[second])
