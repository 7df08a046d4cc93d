"""Pairs of frames worth trying -> matches -> links that one rotation explains."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.join.features import Features, Kind
from idle_lantern.core.join.partners import votes

Array = NDArray[Any]

#: Up to so many frames every pair is tried; beyond, a coarse pass chooses partners.
ALL_PAIRS_UP_TO = 14
#: Up to so many the coarse pass compares each with each; beyond, all share one index.
EACH_WITH_EACH_UP_TO = 40
_COARSE_POINTS = 250
#: Partners that each frame asks for by what it shows, and by where it was pointed.
_PARTNERS, _TOLD_PARTNERS = 6, 10
_TRIALS = 400
#: Accept when inliers exceed 8 + 0.2 x matches (the form of Brown & Lowe 2007; their slope of 0.3
#: is for a homography test, a rotation leaves chance fewer inliers).
_ACCEPT_BASE, _ACCEPT_SLOPE = 8, 0.2
#: Standard error of a well-shown tie point, by which others are weighed.
BEST_PX = 0.05
#: Links of a frame that are kept for their strength, and the angle within which two point the same way.
_STRONGEST, _SAME_WAY_RAD = 3, math.radians(50.0)


@dataclass(frozen=True)
class Link:
    """Two frames and what ties them.

    Attributes
    ----------
    a, b : int
        Frame indices, a < b.
    points_a, points_b : (M, 2) float64
        Matched places in full-size pixels.
    b_from_a : (3, 3)
        Rotation that carries directions of camera a to camera b.
    inlier : (M,) bool
        Which matches that rotation explains.
    rms_px : float
        Of the inliers, after the last adjustment.
    whitening : (M, 2, 2) or (0, 2, 2)
        What misses in frame b are multiplied with so that all are known alike: ``BEST_PX`` over the
        standard error, by direction. Empty while all are.
    """

    a: int
    b: int
    points_a: Array
    points_b: Array
    b_from_a: Array = field(default_factory=lambda: np.eye(3))
    inlier: Array = field(default_factory=lambda: np.zeros(0, bool))
    rms_px: float = 0.0
    whitening: Array = field(default_factory=lambda: np.zeros((0, 2, 2)))

    @property
    def sigma_px(self) -> Array:
        """Standard error of each place in b, in its less known direction (M,); ``BEST_PX`` while all are known alike."""
        if not len(self.whitening):
            return np.full(len(self.points_b), BEST_PX)
        return np.asarray(BEST_PX / np.maximum(np.linalg.eigvalsh(self.whitening)[:, 0], 1e-9))

    @property
    def inliers(self) -> int:
        """How many matches agree."""
        return int(self.inlier.sum())

    @property
    def strength(self) -> float:
        """Inliers weighed by how well they spread over the frame: clumps tie poorly."""
        if not self.inlier.any():
            return 0.0
        spread = self.points_a[self.inlier].std(0).mean()
        return self.inliers * float(min(1.0, spread / 100))


def match(one: Features, other: Features) -> tuple[Array, Array]:
    """Mutual best pairs that pass the ratio test: two index arrays (M,)."""
    if len(one) < 2 or len(other) < 2:
        return np.zeros(0, int), np.zeros(0, int)
    return _match_descriptors(one.descriptors, other.descriptors, one.kind)


def _match_descriptors(d1: Array, d2: Array, kind: Kind) -> tuple[Array, Array]:
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
    """Pairs of frames worth matching in full.

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
    kind = features[0].kind
    shared = votes(chosen, kind.alike) if n > EACH_WITH_EACH_UP_TO else _each_with_each(chosen, kind)
    for i in range(n):
        for j in np.argsort(-shared[i], kind="stable")[:_PARTNERS]:
            if shared[i, j] >= 3:
                pairs.add((min(i, int(j)), max(i, int(j))))
    return sorted(pairs)


def _each_with_each(chosen: Sequence[Array], kind: Kind) -> Array:
    """Matches between the chosen descriptors of every two frames, (n, n)."""
    n = len(chosen)
    shared = np.zeros((n, n))
    for i in range(n):
        for j in range(i + 1, n):
            if len(chosen[i]) > 1 and len(chosen[j]) > 1:
                shared[i, j] = shared[j, i] = len(_match_descriptors(chosen[i], chosen[j], kind)[0])
    return shared


def match_pair(a: int, b: int, features: Sequence[Features]) -> Link | None:
    """All matches of a pair as an unverified link; None if there are too few."""
    first, second = match(features[a], features[b])
    if len(first) <= _ACCEPT_BASE:
        return None
    return Link(a, b, features[a].points_px[first], features[b].points_px[second])


def rotation_between(
    rays_a: Array, rays_b: Array, tolerance_rad: float, rng: np.random.Generator, trials: int = _TRIALS
) -> tuple[Array, Array]:
    """Rotation ``b_from_a`` that explains most pairs of rays, and which it explains.

    Random samples of two pairs each (RANSAC, all trials at once), then three rounds of
    least squares on the agreeing pairs.

    Parameters
    ----------
    rays_a, rays_b : (M, 3) unit directions in the two camera frames
    tolerance_rad : float
        Largest angle between ``b_from_a @ ray_a`` and ``ray_b`` that counts as agreement.
    """
    m = len(rays_a)
    if m < 2:
        return np.eye(3), np.zeros(m, bool)
    i = rng.integers(0, m, trials)
    j = (i + rng.integers(1, m, trials)) % m
    candidates = _triads(rays_b[i], rays_b[j]) @ np.swapaxes(_triads(rays_a[i], rays_a[j]), -1, -2)
    moved = (candidates.reshape(-1, 3) @ rays_a.T).reshape(trials, 3, m)
    cosine = np.einsum("tkm,mk->tm", moved, rays_b)
    # 1 - cos is the squared angle by two: float64 keeps it exact enough above 1e-7 rad
    score = (1 - cosine < tolerance_rad**2 / 2).sum(1)
    rotation = candidates[int(score.argmax())]
    inlier = np.zeros(m, bool)
    for _ in range(3):
        inlier = np.linalg.norm(rays_a @ rotation.T - rays_b, axis=1) < tolerance_rad
        if inlier.sum() < 2:
            break
        rotation = rotations.aligning(rays_a[inlier], rays_b[inlier])
    return rotation, np.linalg.norm(rays_a @ rotation.T - rays_b, axis=1) < tolerance_rad


def _triads(first: Array, second: Array) -> Array:
    """Right-handed frames spanned by two directions each, (T, 3, 3) with axes as columns."""
    one = first + second
    one /= np.maximum(np.linalg.norm(one, axis=1, keepdims=True), 1e-12)
    three = np.cross(first, second)
    three /= np.maximum(np.linalg.norm(three, axis=1, keepdims=True), 1e-12)
    return np.stack([one, np.cross(three, one), three], -1)


def verify(link: Link, lens_a: Lens, lens_b: Lens, tolerance_px: float, rng: np.random.Generator) -> Link | None:
    """The link with its rotation and inliers, or None when chance could explain it."""
    rays_a, rays_b = lens_a.unproject(link.points_a), lens_b.unproject(link.points_b)
    good = np.isfinite(rays_a[:, 0]) & np.isfinite(rays_b[:, 0])
    if good.sum() < _ACCEPT_BASE:
        return None
    tolerance = tolerance_px / min(lens_a.focal_px, lens_b.focal_px)
    rotation, agreeing = rotation_between(rays_a[good], rays_b[good], tolerance, rng)
    inlier = np.zeros(len(good), bool)
    inlier[good] = agreeing
    verified = replace(link, b_from_a=rotation, inlier=inlier)
    return verified if acceptable(verified, lens_a, lens_b) else None


def acceptable(link: Link, lens_a: Lens, lens_b: Lens) -> bool:
    """Whether enough of the matches that the rotation puts in the overlap agree with it."""
    rays = lens_a.unproject(link.points_a)
    shared = lens_b.sees(np.nan_to_num(rays) @ link.b_from_a.T)
    return link.inliers > _ACCEPT_BASE + _ACCEPT_SLOPE * int((shared | link.inlier).sum())


def groups_of(count: int, links: Sequence[Link]) -> list[list[int]]:
    """Frames tied to each other, largest group first."""
    # some lines instead of a graph library, whose loading would cost every join half a second
    label = np.arange(count)
    before = label - 1
    a, b = np.array([link.a for link in links], int), np.array([link.b for link in links], int)
    while not np.array_equal(label, before):
        before = label.copy()
        np.minimum.at(label, a, before[b])
        np.minimum.at(label, b, before[a])
        label = label[label]
    groups = [np.flatnonzero(label == k).tolist() for k in np.unique(label)]
    return sorted(groups, key=lambda g: (-len(g), g[0]))


def best_tied(links: Sequence[Link], world_from_camera: Mapping[int, Array]) -> list[Link]:
    """The links that fix the whole: more would tell little new.

    A link is kept while one of its frames has few, when it is that frame's strongest one that way
    (rows that overlap much must not crowd out what ties row to row), and when it holds two parts together.
    """
    ways: dict[int, list[float]] = {f: [] for f in world_from_camera}
    part = {f: f for f in world_from_camera}
    kept = []
    for link in sorted(links, key=lambda k: -k.strength):
        ends = (link.a, link.b)
        way = [_way_to(world_from_camera[f], world_from_camera[g]) for f, g in (ends, ends[::-1])]
        fresh = any(all(_between_ways(w, other) > _SAME_WAY_RAD for other in ways[f]) for f, w in zip(ends, way))
        apart = part[link.a] != part[link.b]
        if apart or fresh or min(len(ways[f]) for f in ends) < _STRONGEST:
            kept.append(link)
            for f, w in zip(ends, way):
                ways[f].append(w)
            old, new = part[link.a], part[link.b]
            part = {f: new if p == old else p for f, p in part.items()}
    return sorted(kept, key=lambda k: (k.a, k.b))


def _way_to(here: Array, there: Array) -> float:
    """Angle in the picture of one frame (rotations ``world_from_camera``) towards another's axis."""
    x, y, _z = here.T @ there[:, 2]
    return math.atan2(y, x)


def _between_ways(one: float, other: float) -> float:
    """Angle between two ways, 0 to pi."""
    return abs((one - other + math.pi) % (2 * math.pi) - math.pi)
