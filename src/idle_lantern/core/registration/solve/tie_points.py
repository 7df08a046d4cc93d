"""Tie points re-localised at full resolution, to hundredths of a pixel.

Each point's patch in one frame is compared with the other frame as the solved
geometry maps it there, so no perspective is left between the two; what shift
remains is found by gain-normalised Lucas-Kanade (Lucas & Kanade 1981), all
patches of a link at once, with the error and the direction in which it is known.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import lru_cache

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens, transfer
from idle_lantern.core.registration.match.links import BEST_PX, Link
from idle_lantern.core.registration.solve.poses import Poses

_HALF = 7
#: Side of a patch.
PATCH_PX = 2 * _HALF + 1
_MIDDLE = 4  # of a patch's nine knots
_STEPS = 5
#: Tie points of a link: at most so many matched ones, filled up with unmatched ones to so many.
_KEEP, _ENOUGH = 250, 160
#: Reductions at which patches are compared: what blur, noise or want of detail leaves open at full size
#: may be told by what is twice and four times as large.
_SCALES = (1, 2, 4)
#: The same for links that this leaves weak, at places on an even grid with so many across the shorter side;
#: what is known worse than the limit below ties nothing there either.
_SOFT_SCALES = (2, 4, 8, 16)
_ACROSS = 24
_WORST_SOFT_PX = 1.0
#: Points known to about this need no larger patch, and so many of them are enough for a link.
_SURE_PX, _ENOUGH_SURE = 0.1, 40
#: A patch that agrees less with its partner after the fit shows something else.
_CORRELATION = 0.6
#: A tie point known worse than this ties nothing.
_WORST_PX = 0.4
#: With fewer registered points a link keeps its matches too.
_FEW = 12
#: Neighbouring pixels share their noise, since the frames are smoothed, sampled and compressed: so many of
#: them count as one (measured: places miss by 2.8 times what independent pixels would let them).
_ALIKE = 8
#: What sampling adds to the error of any place, in pixels of the compared pictures.
_SAMPLING_PX = 0.03
#: A patch that moved less than this in the last step is not asked again.
_SETTLED_PX = 3e-3
#: Least curvature of a patch's agreement (of unit contrast, by pixels squared) that fixes both directions.
_WEAKEST_SLOPE = 1e-4
#: Area of a patch in frame b, as share of that in frame a, below which it is not compared.
_MOST_EDGE_ON = 0.05
#: Shifts beyond this, at each scale, are no fine registration but a wrong match.
_MOST_PX = 3.0


def smoothed(grey: Array) -> Array:
    """Full-size grey (H, W), 8 bit, lightly smoothed against noise.

    Kept in 8 bit, a quarter of the memory: what rounding adds is far below any sensor's noise.
    """
    return np.asarray(cv2.GaussianBlur(grey, (5, 5), 0.7))


def register_tie_points(
    link: Link,
    grey_a: Array,
    grey_b: Array,
    poses: Poses,
    rng: np.random.Generator,
    miss_px: float = np.inf,
    more_a: Array | None = None,
    *,
    soft: bool = True,
) -> Link:
    """Move ``points_b`` of the inliers to where the patch round ``points_a`` really lies.

    ``more_a`` (K, 2) are further places of frame a with detail: those that fall on frame b become
    tie points too, though no descriptor matched them.

    With ``soft``, links that corners leave weak, as out of focus, are tied by large patches all over the frame too.

    The search begins where the solved geometry puts the patch, or where the match was found
    if that lies more than ``miss_px`` off: near things stand elsewhere than turning alone puts them.

    Points whose patch is flat, leaves the frame or does not agree stop being inliers; where few are
    left, matches stay, with the error that features have. ``sqrt_information`` of the result tells how well
    each place is known.
    """
    pair = _Pair.of(link, poses)
    matched = len(link.points_a)
    asked = link if more_a is None else _with_more(link, more_a, pair)
    chosen = _most(asked.inlier, matched, rng)
    expected, _valid = pair.carried(asked.points_a[chosen])
    start = _first_shift(asked.points_b[chosen] - expected, miss_px)
    best = _found(pair, grey_a, grey_b, asked.points_a[chosen], start, _SCALES)
    worst = _WORST_PX
    if soft and (best.sigma_px < _SURE_PX).sum() < _ENOUGH_SURE:
        # out of focus there are no corners, but soft shapes all over
        wider = _with_more(asked, _evenly(grey_a.shape), pair)
        fresh = np.arange(len(asked.points_a), len(wider.points_a))
        nothing = np.zeros((len(fresh), 2))
        best = best.and_those(_found(pair, grey_a, grey_b, wider.points_a[fresh], nothing, _SOFT_SCALES))
        asked, chosen, worst = wider, np.append(chosen, fresh), _WORST_SOFT_PX
    good = best.sigma_px < worst
    points_b, inlier = asked.points_b.copy(), np.zeros(len(asked.inlier), bool)
    sqrt_information = np.broadcast_to(np.eye(2) * (BEST_PX / _feature_error(miss_px)), (len(inlier), 2, 2)).copy()
    points_b[chosen[good]] = best.points_b[good]
    sqrt_information[chosen[good]] = best.sqrt_information[good]
    inlier[chosen[good]] = True
    # what geometry alone proposed and no patch confirmed never was a tie point
    real = inlier | (np.arange(len(inlier)) < matched)
    if good.sum() < _FEW:
        inlier |= asked.inlier & real
    return replace(
        link,
        points_a=asked.points_a[real],
        points_b=points_b[real],
        inlier=inlier[real],
        sqrt_information=sqrt_information[real],
    )


def register_faint(a: int, b: int, points_a: Array, grey_a: Array, grey_b: Array, poses: Poses, scale: int) -> Link:
    """What little two frames share, as a link: large patches round ``points_a`` (N, 2) found in frame b.

    ``scale``, a power of two, is by how much both frames are reduced; patches are sought within three pixels of that.
    """
    pair = _Pair.of(Link(a, b, points_a, points_a), poses)
    found = _registered(pair, grey_a, grey_b, points_a, np.zeros_like(points_a), scale, detail_only=True)
    known = np.isfinite(found.sigma_px)
    return Link(
        a,
        b,
        points_a[known],
        found.points_b[known],
        pair.b_from_a,
        np.ones(int(known.sum()), bool),
        sqrt_information=found.sqrt_information[known],
    )


def _feature_error(miss_px: float) -> float:
    """Standard error of a match that no patch confirmed."""
    return miss_px / 2 if math.isfinite(miss_px) else 1.0


@dataclass(frozen=True)
class _Pair:
    """Two frames as the solved geometry lays them on each other."""

    lens_a: Lens
    lens_b: Lens
    b_from_a: Array

    @classmethod
    def of(cls, link: Link, poses: Poses) -> _Pair:
        a, b = poses.index(link.a), poses.index(link.b)
        return cls(poses.lenses[a], poses.lenses[b], poses.turn(a, b))

    def carried(self, points_a: Array) -> tuple[Array, Array]:
        """Where points (..., 2) of frame a lie in frame b, and which of them lie before its lens."""
        pixels, valid = transfer(self.lens_a, self.lens_b, self.b_from_a, points_a)
        return pixels, valid & np.isfinite(pixels).all(-1)


@dataclass
class _Registered:
    """Places in frame b (N, 2), their standard error in the less known direction (N,), square-root information (N, 2, 2)."""

    points_b: Array
    sigma_px: Array
    sqrt_information: Array

    @classmethod
    def nowhere(cls, count: int) -> _Registered:
        return cls(np.full((count, 2), np.nan), np.full(count, np.inf), np.zeros((count, 2, 2)))

    def and_those(self, other: _Registered) -> _Registered:
        """These places and further ones behind them."""
        return _Registered(
            np.concatenate([self.points_b, other.points_b]),
            np.concatenate([self.sigma_px, other.sigma_px]),
            np.concatenate([self.sqrt_information, other.sqrt_information]),
        )

    def improve(self, at: Array, other: _Registered) -> None:
        """Take over what ``other`` (of the points ``at``) knows better."""
        better = other.sigma_px < self.sigma_px[at]
        to = at[better]
        self.points_b[to], self.sigma_px[to] = other.points_b[better], other.sigma_px[better]
        self.sqrt_information[to] = other.sqrt_information[better]


def _found(
    pair: _Pair, grey_a: Array, grey_b: Array, centre: Array, start: Array, scales: tuple[int, ...]
) -> _Registered:
    """Places (N, 2) of frame a found in frame b at the first scales that tell enough of them."""
    best = _Registered.nowhere(len(centre))
    for scale in scales:
        open_ = np.flatnonzero(best.sigma_px > _SURE_PX)
        if len(open_) == 0 or len(centre) - len(open_) >= _ENOUGH_SURE:
            break
        best.improve(open_, _registered(pair, grey_a, grey_b, centre[open_], start[open_], scale))
    return best


def _evenly(shape: tuple[int, ...]) -> Array:
    """Places on an even grid of a frame (H, W), (N, 2)."""
    step = min(shape) / _ACROSS
    x, y = np.arange(step / 2, shape[1], step), np.arange(step / 2, shape[0], step)
    return np.stack(np.meshgrid(x, y), -1).reshape(-1, 2)


def _registered(
    pair: _Pair, grey_a: Array, grey_b: Array, centre: Array, start: Array, scale: int, *, detail_only: bool = False
) -> _Registered:
    """The patches round ``centre`` (N, 2) of frame a found in frame b, both reduced by ``scale``.

    ``start`` (N, 2) are the shifts from where the geometry puts them, at which the search begins.
    ``detail_only`` leaves out what runs smoothly across a whole patch: that may be the light or the lens.
    """
    result = _Registered.nowhere(len(centre))
    knots_a = centre[:, None, :] + scale * _knots()  # (N, 9, 2)
    knots_b, valid = pair.carried(knots_a)
    inside = _inside(knots_a, grey_a.shape, scale) & _inside(knots_b, grey_b.shape, scale) & valid.all(1)
    slope_b = _patch_slope(knots_b, scale)
    with np.errstate(invalid="ignore"):
        # where frame b shows a patch edge on, as at the rim of a fisheye, it cannot be compared
        inside &= np.linalg.det(slope_b) > _MOST_EDGE_ON
    at = np.flatnonzero(inside)
    if len(at) == 0:
        return result
    knots_a, knots_b = knots_a[at], knots_b[at]
    began = start[at] / scale
    shift = began.copy()
    template = _normalised(_FramePart(grey_a, knots_a, 0, scale).patches(knots_a), detail_only=detail_only)
    part_b = _FramePart(grey_b, knots_b, scale * (_MOST_PX + float(np.abs(shift).max(initial=0))), scale)
    slope = np.linalg.inv(slope_b[at])
    agreement, normal = np.zeros(len(at)), np.zeros((len(at), 2, 2))
    active = np.arange(len(at))
    for _ in range(_STEPS):
        patch = part_b.patches(knots_b[active] + scale * shift[active, None, :])
        patch = _normalised(patch, detail_only=detail_only)
        agreement[active] = np.einsum("np,np->n", template[active], patch)
        step, normal[active] = _lucas_kanade(template[active], patch, slope[active])
        shift[active] += step
        # what has settled, has no slope or has run away is not looked at again
        size = np.abs(step).max(1)
        active = active[(size > _SETTLED_PX) & (np.abs(shift - began)[active].max(1) < _MOST_PX)]
        if len(active) == 0:
            break
    good = (agreement > _CORRELATION) & np.isfinite(shift).all(1) & (np.linalg.norm(shift - began, axis=1) < _MOST_PX)
    sigma, sqrt_information = _known_to(normal[good], agreement[good])
    to = at[good]
    result.points_b[to] = knots_b[good, _MIDDLE] + scale * shift[good]
    result.sigma_px[to], result.sqrt_information[to] = scale * sigma, sqrt_information / scale
    return result


def _known_to(normal: Array, agreement: Array) -> tuple[Array, Array]:
    """Standard error of shifts in their less known direction (N,), and sqrt_information (N, 2, 2).

    The least squares' own: misses of the grey levels over their slopes.
    """
    variance = 2 * np.maximum(1 - agreement, 1e-6) * _ALIKE / (2 * _HALF + 1) ** 2
    values, vectors = np.linalg.eigh(normal)
    sigma = np.sqrt(variance[:, None] / np.maximum(values, 1e-9) + _SAMPLING_PX**2)
    sqrt_information = vectors @ (BEST_PX / sigma[..., None] * np.swapaxes(vectors, 1, 2))
    return sigma.max(1), sqrt_information


def _with_more(link: Link, more_a: Array, pair: _Pair) -> Link:
    """The link with further places of frame a, laid on frame b by geometry alone."""
    fresh_b, valid = pair.carried(more_a)
    size = np.array([pair.lens_b.width, pair.lens_b.height])
    with np.errstate(invalid="ignore"):
        valid &= (fresh_b > _HALF).all(1) & (fresh_b < size - _HALF).all(1)
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
    return np.asarray(np.einsum("yj,xi->jiyx", basis, basis).reshape(9, len(t) ** 2))


def _patch_slope(knots_b: Array, scale: int) -> Array:
    """Change of the place in b with the place in a, (N, 2, 2), across the patch."""
    along_x = (knots_b[:, _MIDDLE + 1] - knots_b[:, _MIDDLE - 1]) / (2 * _HALF * scale)
    along_y = (knots_b[:, _MIDDLE + 3] - knots_b[:, _MIDDLE - 3]) / (2 * _HALF * scale)
    return np.stack([along_x, along_y], -1)


def _first_shift(found: Array, miss_px: float) -> Array:
    """Where to begin, (N, 2): matches that miss by no more than features do begin at none."""
    far = np.linalg.norm(found, axis=1) > miss_px
    return np.where(far[:, None], found, 0.0)


class _FramePart:
    """The part of a grey picture that holds some patches, reduced by ``scale`` and ready to be sampled."""

    def __init__(self, grey: Array, knots: Array, reach: float, scale: int) -> None:
        flat = knots.reshape(-1, 2)
        low = np.maximum(np.floor(flat.min(0) - reach).astype(int) - 3 * scale, 0)
        high = np.ceil(flat.max(0) + reach).astype(int) + 4 * scale
        self._low, self._scale = low.astype(np.float64), scale
        part = grey[low[1] : high[1], low[0] : high[0]]
        for _ in range(int(math.log2(scale))):
            part = cv2.pyrDown(part)  # pixel (x, y) of the half lies at (2x, 2y)
        self._grey = part.astype(np.float32)

    def patches(self, knots: Array) -> Array:
        """Cubic samples at all pixels of the patches with these knots (N, 9, 2), (N, P) float32."""
        x, y = (((knots - self._low) / self._scale).transpose(2, 0, 1) @ _patch_weights()).astype(np.float32)
        rows = max(1, 30000 // x.shape[1])
        parts = [
            cv2.remap(self._grey, x[i : i + rows], y[i : i + rows], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
            for i in range(0, len(x), rows)
        ]
        return np.concatenate(parts)


def _lucas_kanade(template: Array, patch: Array, slope: Array) -> tuple[Array, Array]:
    """Shift of each patch towards its template, (N, 2) pixels of frame b; NaN where it has no two slopes.

    Also the normal matrices (N, 2, 2) it follows from. ``slope`` (N, 2, 2) carries steps along the patch
    grid to pixels of frame b.
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
    return step, normal


def _normalised(patches: Array, *, detail_only: bool) -> Array:
    """Mean 0 and length 1 each, so that exposure and contrast do not matter; of detail also no slope and no bow."""
    centred = patches - patches.mean(1, keepdims=True)
    if detail_only:
        smooth = _smooth_shapes()
        centred -= (centred @ smooth) @ smooth.T
    return np.asarray(centred / np.maximum(np.linalg.norm(centred, axis=1, keepdims=True), 1e-3))


@lru_cache(maxsize=1)
def _smooth_shapes() -> Array:
    """Slopes and bows of a patch, orthonormal, (P, 6)."""
    y, x = np.mgrid[-_HALF : _HALF + 1, -_HALF : _HALF + 1].reshape(2, -1) / _HALF
    shapes, _ = np.linalg.qr(np.stack([np.ones_like(x), x, y, x * x, x * y, y * y], -1))
    return shapes.astype(np.float32)


def _inside(places: Array, shape: tuple[int, ...], scale: int) -> Array:
    spare = 2 * scale
    with np.errstate(invalid="ignore"):
        x, y = places[..., 0], places[..., 1]
        inside = (x >= spare) & (y >= spare) & (x <= shape[1] - 1 - spare) & (y <= shape[0] - 1 - spare)
    return np.asarray(inside.all(1))
