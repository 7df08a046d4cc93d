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

from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.join.links import Link
from idle_lantern.core.join.poses import Poses

Array = NDArray[Any]

_HALF = 7  # patches of 15 x 15 pixels
_MIDDLE = 4  # of a patch's nine knots
_STEPS = 5
#: Tie points of a link: at most so many matched ones, filled up with unmatched ones to so many.
_KEEP, _ENOUGH = 250, 160
#: A patch counts as found when it agrees with its partner at least so well after the fit.
_CORRELATION = 0.85
#: A patch that moved less than this in the last step is not asked again.
_SETTLED_PX = 3e-3
#: Least curvature of a patch's agreement (of unit contrast, by pixels squared) that fixes both directions.
_WEAKEST_SLOPE = 1e-4
#: Shifts beyond this are no fine registration but a wrong match.
_MOST_PX = 3.0


def smoothed(grey: Array) -> Array:
    """Full-size grey (H, W), 8 bit, lightly smoothed against noise.

    Kept in 8 bit, a quarter of the memory: what rounding adds is far below any sensor's noise.
    """
    return cv2.GaussianBlur(grey, (5, 5), 0.7)


def refine_link(
    link: Link,
    grey_a: Array,
    grey_b: Array,
    poses: Poses,
    rng: np.random.Generator,
    miss_px: float = np.inf,
    more_a: Array | None = None,
) -> Link:
    """Move ``points_b`` of the inliers to where the patch round ``points_a`` really lies.

    ``more_a`` (K, 2) are further places of frame a with detail: those that fall on frame b become
    tie points too, though no descriptor matched them.

    The search begins where the solved geometry puts the patch, or where the match was found
    if that lies more than ``miss_px`` off: near things stand elsewhere than turning alone puts them.

    Points whose patch is flat, leaves the frame or does not agree stop being
    inliers. When too few are left the link is returned as it was.
    """
    a, b = poses.index(link.a), poses.index(link.b)
    lens_a, lens_b = poses.lenses[a], poses.lenses[b]
    b_from_a = poses.world_from_camera[b].T @ poses.world_from_camera[a]
    matched = len(link.points_a)
    asked = link if more_a is None else _with_more(link, more_a, lens_a, lens_b, b_from_a)
    chosen = _most(asked.inlier, matched, rng)
    knots_a = asked.points_a[chosen][:, None, :] + _knots()  # (N, 9, 2)
    knots_b, valid = lens_b.project(lens_a.unproject(knots_a) @ b_from_a.T)
    inside = _inside(knots_a, grey_a.shape) & _inside(knots_b, grey_b.shape) & valid.all(1)
    chosen, knots_a, knots_b = chosen[inside], knots_a[inside], knots_b[inside]
    if len(chosen) < 12:
        return link
    shift = _first_shift(asked.points_b[chosen] - knots_b[:, _MIDDLE], miss_px)
    began = shift.copy()
    template = _normalised(_Part(grey_a, knots_a, 0).patches(knots_a))
    part_b = _Part(grey_b, knots_b, _MOST_PX + float(np.abs(shift).max(initial=0)))
    slope = np.linalg.inv(_patch_slope(knots_b))
    agreement = np.zeros(len(chosen))
    active = np.arange(len(chosen))
    for _ in range(_STEPS):
        patch = _normalised(part_b.patches(knots_b[active] + shift[active, None, :]))
        agreement[active] = np.einsum("np,np->n", template[active], patch)
        step = _lucas_kanade(template[active], patch, slope[active])
        shift[active] += step
        # what has settled, has no slope or has run away is not looked at again
        size = np.abs(step).max(1)
        active = active[(size > _SETTLED_PX) & (np.abs(shift - began)[active].max(1) < _MOST_PX)]
        if len(active) == 0:
            break
    good = (agreement > _CORRELATION) & np.isfinite(shift).all(1) & (np.linalg.norm(shift - began, axis=1) < _MOST_PX)
    if good.sum() < 12:
        return link
    points_b, inlier = asked.points_b.copy(), np.zeros(len(asked.inlier), bool)
    points_b[chosen[good]] = knots_b[good, _MIDDLE] + shift[good]
    inlier[chosen[good]] = True
    # what geometry alone proposed and no patch confirmed never was a tie point
    real = inlier | (np.arange(len(inlier)) < matched)
    return replace(link, points_a=asked.points_a[real], points_b=points_b[real], inlier=inlier[real])


def _with_more(link: Link, more_a: Array, lens_a: Lens, lens_b: Lens, b_from_a: Array) -> Link:
    """The link with further places of frame a, laid on frame b by geometry alone."""
    fresh_b, valid = lens_b.project(np.nan_to_num(lens_a.unproject(more_a)) @ b_from_a.T)
    size = np.array([lens_b.width, lens_b.height])
    valid &= np.isfinite(fresh_b).all(1) & (fresh_b > _HALF).all(1) & (fresh_b < size - _HALF).all(1)
    # matched places are known better than by geometry
    valid &= ~np.isin(_as_complex(more_a), _as_complex(link.points_a))
    return replace(
        link,
        points_a=np.concatenate([link.points_a, more_a[valid]]),
        points_b=np.concatenate([link.points_b, fresh_b[valid]]),
        inlier=np.append(link.inlier, np.ones(int(valid.sum()), bool)),
    )


def _as_complex(points: Array) -> Array:
    """Points (N, 2) as one number each, to be looked up."""
    return np.asarray(points[:, 0] + 1j * points[:, 1])


def _most(inlier: Array, matched: int, rng: np.random.Generator) -> Array:
    """Indices of the points that are registered, the matched ones first."""
    chosen = np.flatnonzero(inlier)
    own, fresh = chosen[chosen < matched], chosen[chosen >= matched]
    if len(own) > _KEEP:
        return np.sort(rng.choice(own, _KEEP, replace=False))
    room = _ENOUGH - len(own)
    if len(fresh) > room:
        fresh = rng.choice(fresh, max(0, room), replace=False)
    return np.sort(np.append(own, fresh))


@lru_cache(maxsize=1)
def _knots() -> Array:
    """Nine places of a patch, row by row, from its middle (9, 2)."""
    three = np.array([-_HALF, 0.0, _HALF])
    return np.stack(np.meshgrid(three, three), -1).reshape(-1, 2)


@lru_cache(maxsize=1)
def _patch_weights() -> Array:
    """Weights (9, P) that carry what is known at the knots to all pixels of a patch.

    Biquadratic: over fifteen pixels no lens bends more than that by a thousandth of a pixel.
    """
    t = np.arange(-_HALF, _HALF + 1) / _HALF
    basis = np.stack([t * (t - 1) / 2, 1 - t * t, t * (t + 1) / 2], -1)  # (side, 3)
    return np.einsum("yj,xi->jiyx", basis, basis).reshape(9, len(t) ** 2)


def _patch_slope(knots_b: Array) -> Array:
    """Change of the place in b with the place in a, (N, 2, 2), across the patch."""
    along_x = (knots_b[:, _MIDDLE + 1] - knots_b[:, _MIDDLE - 1]) / (2 * _HALF)
    along_y = (knots_b[:, _MIDDLE + 3] - knots_b[:, _MIDDLE - 3]) / (2 * _HALF)
    return np.stack([along_x, along_y], -1)


def _first_shift(found: Array, miss_px: float) -> Array:
    """Where to begin, (N, 2): matches that miss by no more than features do begin at none."""
    far = np.linalg.norm(found, axis=1) > miss_px
    return np.where(far[:, None], found, 0.0)


class _Part:
    """The part of a grey picture that holds some patches, ready to be sampled."""

    def __init__(self, grey: Array, knots: Array, reach: float) -> None:
        flat = knots.reshape(-1, 2)
        low = np.maximum(np.floor(flat.min(0) - reach).astype(int) - 3, 0)
        high = np.ceil(flat.max(0) + reach).astype(int) + 4
        self._low = low.astype(np.float64)
        self._grey = grey[low[1] : high[1], low[0] : high[0]].astype(np.float32)

    def patches(self, knots: Array) -> Array:
        """Cubic samples at all pixels of the patches with these knots (N, 9, 2), (N, P) float32."""
        x, y = ((knots - self._low).transpose(2, 0, 1) @ _patch_weights()).astype(np.float32)
        rows = max(1, 30000 // x.shape[1])
        parts = [
            cv2.remap(self._grey, x[i : i + rows], y[i : i + rows], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
            for i in range(0, len(x), rows)
        ]
        return np.concatenate(parts)


def _lucas_kanade(template: Array, patch: Array, slope: Array) -> Array:
    """Shift of each patch towards its template, (N, 2) pixels of frame b; NaN where it has no two slopes.

    ``slope`` (N, 2, 2) carries steps along the patch grid to pixels of frame b.
    """
    side = 2 * _HALF + 1
    image = (template + patch).reshape(-1, side, side)
    gx, gy = np.zeros_like(image), np.zeros_like(image)
    np.subtract(image[:, :, 2:], image[:, :, :-2], out=gx[:, :, 1:-1])
    np.subtract(image[:, 2:], image[:, :-2], out=gy[:, 1:-1])
    gx, gy = gx.reshape(len(image), -1), gy.reshape(len(image), -1)
    miss = template - patch
    # sums over the patch in grid axes, the mean taken out; the slope then turns 2 x 2 numbers, not pixels
    pixels = np.float32(side * side)
    sx, sy = gx.sum(1), gy.sum(1)
    xx = np.einsum("np,np->n", gx, gx) - sx * sx / pixels
    xy = np.einsum("np,np->n", gx, gy) - sx * sy / pixels
    yy = np.einsum("np,np->n", gy, gy) - sy * sy / pixels
    rx, ry = np.einsum("np,np->n", gx, miss), np.einsum("np,np->n", gy, miss)
    # the slope of the mean of two pictures by central differences: a quarter of the differences of their sum
    on_grid = np.stack([xx, xy, xy, yy], -1).reshape(-1, 2, 2).astype(np.float64) / 16
    turned = np.swapaxes(slope, 1, 2)
    normal = turned @ on_grid @ slope
    right = turned @ (np.stack([rx, ry], -1).astype(np.float64)[..., None] / 4)
    # smallest eigenvalue of a symmetric 2 x 2 matrix
    half_trace = (normal[:, 0, 0] + normal[:, 1, 1]) / 2
    weakest = half_trace - np.hypot((normal[:, 0, 0] - normal[:, 1, 1]) / 2, normal[:, 0, 1])
    step = np.full((len(image), 2), np.nan)
    solvable = weakest > _WEAKEST_SLOPE
    step[solvable] = np.clip(np.linalg.solve(normal[solvable], right[solvable])[..., 0], -1, 1)
    return step


def _normalised(patches: Array) -> Array:
    """Mean 0 and length 1 each, so that exposure and contrast do not matter."""
    centred = patches - patches.mean(1, keepdims=True)
    return np.asarray(centred / np.maximum(np.linalg.norm(centred, axis=1, keepdims=True), 1e-3))


def _inside(places: Array, shape: tuple[int, ...]) -> Array:
    with np.errstate(invalid="ignore"):
        x, y = places[..., 0], places[..., 1]
        inside = (x >= 2) & (y >= 2) & (x <= shape[1] - 3) & (y <= shape[0] - 3)
    return np.asarray(inside.all(1))
