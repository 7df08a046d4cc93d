"""Matches -> links that one rotation explains better than chance could."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from idle_lantern.core.base.arrays import Array, Rotations
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.links import Link

_TRIALS, _FIRST_TRIALS = 400, 60
#: Accept when inliers exceed 8 + 0.2 x matches (the form of Brown & Lowe 2007; their slope of 0.3
#: is for a homography test, a rotation leaves chance fewer inliers).
ACCEPT_BASE, _ACCEPT_SLOPE = 8, 0.2


def rotation_between(
    rays_a: Array, rays_b: Array, tolerance_rad: float, rng: np.random.Generator, trials: int = _TRIALS
) -> tuple[Array, Array]:
    """Rotation ``b_from_a`` that explains most pairs of rays, and which it explains.

    Random samples of two pairs each (RANSAC, many trials at once), then three rounds of
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
    rotation: Rotations = np.eye(3)
    most = -1
    first = min(trials, _FIRST_TRIALS)
    for count in (first, trials - first):
        candidates, score = _tried(rays_a, rays_b, tolerance_rad, rng, count)
        if count and score.max() > most:
            rotation, most = candidates[int(score.argmax())], int(score.max())
        if most > m / 2:  # a few dozen trials make sure of what most agree on
            break
    inlier = np.zeros(m, bool)
    for _ in range(3):
        inlier = np.linalg.norm(rays_a @ rotation.T - rays_b, axis=1) < tolerance_rad
        if inlier.sum() < 2:
            break
        rotation = rotations.aligning(rays_a[inlier], rays_b[inlier])
    return rotation, np.linalg.norm(rays_a @ rotation.T - rays_b, axis=1) < tolerance_rad


def _tried(
    rays_a: Array, rays_b: Array, tolerance_rad: float, rng: np.random.Generator, trials: int
) -> tuple[Array, Array]:
    """Rotations (T, 3, 3) that samples of two pairs ask for, and how many pairs agree with each (T,)."""
    m = len(rays_a)
    i = rng.integers(0, m, trials)
    j = (i + rng.integers(1, m, trials)) % m
    candidates = _triads(rays_b[i], rays_b[j]) @ np.swapaxes(_triads(rays_a[i], rays_a[j]), -1, -2)
    moved = (candidates.reshape(-1, 3) @ rays_a.T).reshape(trials, 3, m)
    cosine = np.einsum("tkm,mk->tm", moved, rays_b)
    # 1 - cos is the squared angle by two: float64 keeps it exact enough above 1e-7 rad
    return candidates, (1 - cosine < tolerance_rad**2 / 2).sum(1)


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
    if good.sum() < ACCEPT_BASE:
        return None
    tolerance = tolerance_px / min(lens_a.focal_px, lens_b.focal_px)
    rotation, agreeing = rotation_between(rays_a[good], rays_b[good], tolerance, rng)
    inlier = np.zeros(len(good), bool)
    inlier[good] = agreeing
    verified = replace(link, b_from_a=rotation, inlier=inlier)
    return verified if acceptable(verified, lens_a, lens_b) else None


def acceptable(link: Link, lens_a: Lens, lens_b: Lens) -> bool:
    """Whether enough of the matches that the rotation puts in the overlap agree with it, or a person set them."""
    if link.by_hand:
        return True
    rays = lens_a.unproject(link.points_a)
    shared = lens_b.sees(np.nan_to_num(rays) @ link.b_from_a.T)
    return link.inliers > ACCEPT_BASE + _ACCEPT_SLOPE * int((shared | link.inlier).sum())
