"""Tie points re-localised at full resolution, to hundredths of a pixel.

Each point's patch in one frame is compared with the other frame as the solved
geometry maps it there, so no perspective is left between the two; what shift
remains is found by gain-normalised Lucas-Kanade (Lucas & Kanade 1981), all
patches of a link at once.
"""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.join.links import Link
from idle_lantern.core.join.poses import Poses

Array = NDArray[Any]

_HALF = 7  # patches of 15 x 15 pixels
_STEPS = 5
_KEEP = 250
#: A patch counts as found when it agrees with its partner at least so well after the fit.
_CORRELATION = 0.85
#: Shifts beyond this are no fine registration but a wrong match.
_MOST_PX = 3.0


def smoothed(grey: Array) -> Array:
    """Full-size grey (H, W), 8 bit, lightly smoothed against noise.

    Kept in 8 bit, a quarter of the memory: what rounding adds is far below any sensor's noise.
    """
    return cv2.GaussianBlur(grey, (5, 5), 0.7)


def refine_link(link: Link, grey_a: Array, grey_b: Array, poses: Poses, rng: np.random.Generator) -> Link:
    """Move ``points_b`` of the inliers to where the patch round ``points_a`` really lies.

    Points whose patch is flat, leaves the frame or does not agree stop being
    inliers. When too few are left the link is returned as it was.
    """
    chosen = np.flatnonzero(link.inlier)
    if len(chosen) > _KEEP:
        chosen = np.sort(rng.choice(chosen, _KEEP, replace=False))
    a, b = poses.index(link.a), poses.index(link.b)
    lens_a, lens_b = poses.lenses[a], poses.lenses[b]
    b_from_a = poses.world_from_camera[b].T @ poses.world_from_camera[a]
    centre = link.points_a[chosen]
    knots, weights = _patch_knots()
    knots_b, valid = lens_b.project(lens_a.unproject(centre[:, None, :] + knots) @ b_from_a.T)
    at_a = centre[:, None, :] + _patch_grid()  # (N, P, 2)
    at_b = weights @ knots_b
    inside = _inside(at_a, grey_a.shape) & _inside(at_b, grey_b.shape) & valid.all(1)
    inside &= np.isfinite(knots_b).all((1, 2))
    chosen, at_a, at_b = chosen[inside], at_a[inside], at_b[inside]
    if len(chosen) < 12:
        return link
    template = _normalised(_sample(grey_a, at_a))
    shift = np.zeros((len(chosen), 2))
    current = _sample(grey_b, at_b)
    side = 2 * _HALF + 1
    for _ in range(_STEPS):
        patch = _normalised(current)
        # slopes along the patch grid of the mean of both, in pixels of frame b
        image = ((template + patch) / 2).reshape(-1, side, side)
        gy, gx = np.gradient(image, axis=1), np.gradient(image, axis=2)
        jacobian = _grid_slope(at_b, side)
        g = np.stack([gx, gy], -1).reshape(len(chosen), -1, 2) @ np.linalg.inv(jacobian)
        g -= g.mean(1, keepdims=True)
        normal = np.swapaxes(g, 1, 2) @ g
        right = np.swapaxes(g, 1, 2) @ (template - patch)[..., None]
        strength = np.linalg.eigvalsh(normal)[:, 0]
        solvable = strength > 1e-4
        step = np.zeros_like(shift)
        step[solvable] = np.linalg.solve(normal[solvable], right[solvable])[..., 0]
        shift += np.clip(step, -1, 1)
        current = _sample(grey_b, at_b + shift[:, None, :])
        if np.abs(step).max(initial=0) < 2e-3:
            break
    patch = _normalised(current)
    agreement = (template * patch).sum(1)
    good = (agreement > _CORRELATION) & solvable & (np.linalg.norm(shift, axis=1) < _MOST_PX)
    if good.sum() < 12:
        return link
    middle = at_b.shape[1] // 2
    points_b, inlier = link.points_b.copy(), np.zeros(len(link.inlier), bool)
    points_b[chosen[good]] = at_b[good, middle] + shift[good]
    inlier[chosen[good]] = True
    return replace(link, points_b=points_b, inlier=inlier)


@lru_cache(maxsize=1)
def _patch_grid() -> Array:
    """Offsets of a patch's pixels, (P, 2)."""
    offset = np.arange(-_HALF, _HALF + 1, dtype=np.float64)
    return np.stack(np.meshgrid(offset, offset), -1).reshape(-1, 2)


@lru_cache(maxsize=1)
def _patch_knots() -> tuple[Array, Array]:
    """Nine places of a patch (9, 2) and the weights (P, 9) that carry what is known there to all its pixels.

    Biquadratic: over fifteen pixels no lens bends more than that by a thousandth of a pixel.
    """
    three = np.array([-_HALF, 0.0, _HALF])
    knots = np.stack(np.meshgrid(three, three), -1).reshape(-1, 2)
    t = np.arange(-_HALF, _HALF + 1) / _HALF
    basis = np.stack([t * (t - 1) / 2, 1 - t * t, t * (t + 1) / 2], -1)  # (side, 3)
    weights = np.einsum("yj,xi->yxji", basis, basis).reshape(len(t) ** 2, 9)
    return knots, weights


def _grid_slope(at_b: Array, side: int) -> Array:
    """Change of the place in b with the place in a, (N, 2, 2), from the patch's middle row and column."""
    grid = at_b.reshape(-1, side, side, 2)
    m, s = side // 2, side // 2
    along_x = (grid[:, m, m + s] - grid[:, m, m - s]) / (2 * s)
    along_y = (grid[:, m + s, m] - grid[:, m - s, m]) / (2 * s)
    return np.stack([along_x, along_y], -1)


def _sample(grey: Array, places: Array) -> Array:
    """Cubic samples at (N, P, 2) places, (N, P) float32."""
    n, p, _ = places.shape
    # only the part with points is turned into floats
    low = np.maximum(np.floor(places.min((0, 1))).astype(int) - 3, 0)
    high = np.ceil(places.max((0, 1))).astype(int) + 4
    grey = grey[low[1] : high[1], low[0] : high[0]].astype(np.float32)
    places = places - low
    rows = max(1, 30000 // p)
    parts = [
        cv2.remap(grey, places[i : i + rows].astype(np.float32), None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
        for i in range(0, n, rows)
    ]
    return np.concatenate(parts)


def _normalised(patches: Array) -> Array:
    """Mean 0 and length 1 each, so that exposure and contrast do not matter."""
    centred = patches - patches.mean(1, keepdims=True)
    return np.asarray(centred / np.maximum(np.linalg.norm(centred, axis=1, keepdims=True), 1e-3))


def _inside(places: Array, shape: tuple[int, ...]) -> Array:
    with np.errstate(invalid="ignore"):
        x, y = places[..., 0], places[..., 1]
        inside = (x >= 2) & (y >= 2) & (x <= shape[1] - 3) & (y <= shape[0] - 3)
    return np.asarray(inside.all(1))
