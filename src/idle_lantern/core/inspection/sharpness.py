"""Blur of a frame, measured against its neighbours over the ground both show.

A soft subject is soft in both and no fault; a soft frame has lost fine detail that its neighbours show. In patches of an
overlap the power of detail of 3 to 8 pixels is compared, in four directions. Each patch is taken once from either frame as it
lies there and once carried over from the other, so that what interpolation softens cancels out.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.parallel import mapped
from idle_lantern.core.base.progress import SILENT
from idle_lantern.core.inspection.overlaps import Overlap, balanced
from idle_lantern.core.registration.solve.poses import Poses

_LARGE_PX = 128  # side of a patch in large frames
_SMALL_PX = 64  # and in small ones
_SMALL_BELOW_PX = 1500  # those with a shorter side below this
#: Where frames are compared at one place, detail is what a blur of so many pixels takes away.
_FINE_PX = 1.5
#: Cycles per pixel of the detail that counts.
_BAND = (0.11, 0.32)
#: And of coarser detail, which blur leaves and another exposure or a veil takes as much as the fine.
_COARSE = (0.035, 0.085)
#: Radians per pixel by which a blur tells: a Gaussian of ``s`` pixels takes ``(s * BAND_RAD) ** 2`` off the logarithm of the band's
#: power against that of the coarse.
BAND_RAD = 2 * math.pi * math.sqrt(0.2**2 - 0.06**2)
#: Cycles per pixel from which there is noise only, and the mean of exponentially spread power over its median.
_FINEST, _MEAN_OF_MEDIAN = 0.52, 1.443
#: Share of the band's power that is left at least when noise is taken off.
_MOST_NOISE = 0.15
_SECTORS = 4
_PATCHES = 8
#: They are those with most detail among so many, spread over the overlap, alike in bands from above to below.
_CANDIDATES, _BANDS = 40, 4
#: Power per bin below which a patch shows no detail but noise (display values of 0 to 255).
_LEAST_POWER = 2.5
#: Grain has so much at most; detail of one direction counts that has so many times the grain.
_MOST_GRAIN, _OVER_GRAIN = 12.0, 3.0
#: Blur of a Gaussian of that many pixels is told, where it stands out from its doubt by so much.
LEAST_SIGMA_PX, _STANDS_OUT = 0.6, 4.0
#: Along one direction, where more may be chance: of four directions the one counts that lost most. A move of 3 px or so.
_LEAST_SHAKEN_PX = 0.8
#: What an odd frame costs, per unit of the logarithm of its power, against the square of a pair's miss in its doubts.
_ODD_COST = 4.0
#: A frame sharper than the others is by so much less likely than one that is softer.
_SHARPER = 3.0
#: The loss along one direction is so much more than across it where the camera moved.
_SHAKEN = 0.5


@dataclass(frozen=True)
class Blur:
    """Softness of one frame beyond that of the usual frame.

    Attributes
    ----------
    sigma_px : float
        Of a Gaussian that softens as much.
    doubt_px : float
    shake_px : float
        Length of a straight move that does, 0 where it is the same in all directions.
    direction_deg : float
        Of that move, from the right, upwards positive, -90 to 90.
    u, v : float
        Where it shows best.
    """

    sigma_px: float
    doubt_px: float
    shake_px: float
    direction_deg: float
    u: float
    v: float


@dataclass(frozen=True)
class Compared:
    """Detail of two frames over the ground both show, patch by patch.

    Attributes
    ----------
    i, j : int
        Places of the frames in the poses.
    ratios : (P, sectors)
        Logarithm of the power of i against j, by direction; NaN where neither shows more than noise.
    strength : (P,)
        Power in both.
    points_i, points_j : (P, 2)
        Middles of the patches.
    """

    i: int
    j: int
    ratios: Array
    strength: Array
    points_i: Array
    points_j: Array


def compared(
    poses: Poses, overlaps: Sequence[Overlap], grey: Callable[[int], Array], threads: int = 1
) -> list[Compared]:
    """All overlaps with enough detail. ``grey`` gives the full-size brightness of a place, (h, w) 8 bit."""
    every = mapped(lambda overlap: _compared(poses, overlap, grey), overlaps, threads, SILENT)
    return [found for found in every if found is not None]


def blurs(count: int, pairs_compared: Sequence[Compared]) -> dict[int, Blur]:
    """Soft frames by their place among ``count``."""
    pairs: list[tuple[int, int]] = []
    losses: list[Array] = []
    each: list[float] = []
    where: dict[int, tuple[float, float]] = {}
    for pair in pairs_compared:
        loss, spread = _loss(pair.ratios)
        best = int(pair.strength.argmax())
        pairs.append((pair.i, pair.j))
        losses.append(loss)
        each.append(max(0.06, spread / math.sqrt(len(pair.ratios))))
        for k, points in ((pair.i, pair.points_i), (pair.j, pair.points_j)):
            where.setdefault(k, (float(points[best][0]), float(points[best][1])))
    if not pairs:
        return {}
    doubt: Array = np.asarray(each)
    # logarithm of the power lost, by direction
    lost = -balanced(count, np.asarray(pairs), np.asarray(losses), doubt, _ODD_COST, above=_SHARPER)
    return {
        i: blur for i in sorted(where) if (blur := _blur_of(lost[i], _doubt_of(i, pairs, doubt), where[i])) is not None
    }


def _loss(ratios: Array) -> tuple[Array, float]:
    """Median over the patches by direction, (sectors,), the mean of the others where nothing tells; and the spread about it."""
    loss = np.full(_SECTORS, np.nan)
    known = np.isfinite(ratios).sum(0) >= min(2, np.isfinite(ratios).sum(0).max())
    loss[known] = np.nanmedian(ratios[:, known], 0)
    spread = 1.4826 * float(np.nanmedian(np.abs(ratios - loss)))
    return np.where(known, loss, loss[known].mean()), spread


def _doubt_of(i: int, pairs: Sequence[tuple[int, int]], doubts: Array) -> float:
    mine = [d for pair, d in zip(pairs, doubts) if i in pair]
    return 1 / math.sqrt(sum(1 / d**2 for d in mine)) if mine else math.inf


def _blur_of(lost: Array, doubt: float, where: tuple[float, float]) -> Blur | None:
    mean = float(lost.mean())
    # of a Gaussian: power falls by exp(-w^2 s^2)
    shaken = _shaken(lost)
    sigma = math.sqrt(max(0.0, float(lost.max()) if shaken else mean)) / BAND_RAD
    if sigma < (_LEAST_SHAKEN_PX if shaken else LEAST_SIGMA_PX) or lost.max() < _STANDS_OUT * doubt:
        return None
    shake, direction = 0.0, 0.0
    if shaken:
        shake = _length_of(float(lost.max()))
        direction = _direction_deg(lost)
    return Blur(sigma, doubt / (2 * BAND_RAD**2 * max(sigma, 0.1)), shake, direction, *where)


def _length_of(loss: float) -> float:
    """Length of a straight move that loses so much power along it: the spectrum of a line is ``sin(x) / x``, x = w l / 2."""
    low, high = 0.0, 0.95 * 2 * math.pi / BAND_RAD
    for _ in range(30):
        middle = (low + high) / 2
        x = max(1e-6, BAND_RAD * middle / 2)
        low, high = (middle, high) if -2 * math.log(math.sin(x) / x) < loss else (low, middle)
    return low


def _shaken(lost: Array) -> bool:
    return float(lost.max()) > 0 and float(lost.max() - lost.min()) > _SHAKEN * float(lost.max())


def _direction_deg(lost: Array) -> float:
    """Direction in which most is lost, from the double angle of the sectors."""
    angles = np.arange(_SECTORS) * math.pi / _SECTORS
    x, y = float((lost * np.cos(2 * angles)).sum()), float((lost * np.sin(2 * angles)).sum())
    # rows count downwards
    return -math.degrees(math.atan2(y, x)) / 2


def _compared(poses: Poses, overlap: Overlap, grey: Callable[[int], Array]) -> Compared | None:
    candidates = _places(poses, overlap)
    if not len(candidates):
        return None
    first, second = grey(overlap.i), grey(overlap.j)
    side = _side_px(poses, overlap)
    at = _most_detailed(candidates, [(first, overlap.points_i), (second, overlap.points_j)], side)
    seen = []
    for p, q, there in zip(overlap.points_i[at], overlap.points_j[at], _changes(poses, overlap, overlap.points_i[at])):
        own_i, own_j = _patch(first, p, side), _patch(second, q, side)
        if own_i is None or own_j is None or there is None:
            continue
        carried_j = _carried(second, q, there, side)
        carried_i = _carried(first, p, np.linalg.inv(there), side)
        if _alike(own_i, carried_j):
            seen.append((np.stack([own_i, carried_j, own_j, carried_i]), p, q))
    if len(seen) < 2:
        return None
    powers, coarse = _powers(np.concatenate([patches for patches, _p, _q in seen]))
    powers, coarse = powers.reshape(len(seen), 4, _SECTORS), coarse.reshape(len(seen), 4, 1)
    # grain that JPEG smoothed at its finest shows in the barest patch
    grain = min(float(powers.min()), _MOST_GRAIN)
    shows = np.asarray((powers > max(_LEAST_POWER, _OVER_GRAIN * grain)).any(1))
    powers = np.maximum(powers - grain, _MOST_NOISE * powers)
    means = powers.mean(2)
    told = shows.any(1) & (means.min(1) >= _LEAST_POWER * 0.2)
    if told.sum() < 2:
        return None
    own_i, carried_j, own_j, carried_i = np.moveaxis((powers / coarse)[told], 1, 0)
    ratios = np.where(shows[told], (np.log(own_i / carried_j) - np.log(own_j / carried_i)) / 2, np.nan)
    points_i, points_j = (np.asarray([s[n] for s, t in zip(seen, told) if t]) for n in (1, 2))
    return Compared(overlap.i, overlap.j, ratios, means[told][:, 0] + means[told][:, 2], points_i, points_j)


def _places(poses: Poses, overlap: Overlap) -> Array:
    """Points of an overlap whose patches lie inside both frames, spread."""
    half = _side_px(poses, overlap) / 2 + 4
    inside = np.ones(len(overlap.points_i), bool)
    for points, k in ((overlap.points_i, overlap.i), (overlap.points_j, overlap.j)):
        lens = poses.lenses[k]
        inside &= (points > half).all(1) & (points < (lens.width - half, lens.height - half)).all(1)
    at = np.flatnonzero(inside)
    if len(at) > _CANDIDATES:
        at = at[np.linspace(0, len(at) - 1, _CANDIDATES).round().astype(int)]
    return at


def _most_detailed(at: Array, frames: Sequence[tuple[Array, Array]], side: int) -> Array:
    """Of places of an overlap those where either of two frames, a grey picture and pixels (N, 2) in it, shows most fine detail.

    As many from the upper part as from the lower: what is near lies low.
    """
    if len(at) <= _PATCHES:
        return at
    detail = np.array([max(_detail(_patch(grey, points[k], side)) for grey, points in frames) for k in at])
    by_height = np.array_split(np.argsort(frames[0][1][at, 1], kind="stable"), _BANDS)
    best = [band[np.argsort(detail[band])[-_PATCHES // _BANDS :]] for band in by_height]
    return np.asarray(np.sort(at[np.concatenate(best)]))


def _detail(patch: Array | None) -> float:
    if patch is None:
        return 0.0
    return float((cv2.GaussianBlur(patch, (0, 0), 1.0) - cv2.GaussianBlur(patch, (0, 0), 2.0)).std())


def _changes(poses: Poses, overlap: Overlap, points: Array) -> list[Array | None]:
    """Change of the pixel in j with that in i about each of some points (P, 2), (2, 2); None where j does not show one."""
    i, j = (overlap.i, overlap.j)
    step = 8.0
    around = points[:, None, :] + np.array([[0, 0], [step, 0], [0, step]])
    seen, valid = poses.transfer(i, j, around)
    slopes = np.stack([seen[:, 1] - seen[:, 0], seen[:, 2] - seen[:, 0]], -1) / step
    return [slopes[n] if valid[n].all() else None for n in range(len(points))]


def _side_px(poses: Poses, overlap: Overlap) -> int:
    shortest = min(min(poses.lenses[k].width, poses.lenses[k].height) for k in (overlap.i, overlap.j))
    return _SMALL_PX if shortest < _SMALL_BELOW_PX else _LARGE_PX


def _patch(grey: Array, at: Array, side: int) -> Array | None:
    x, y = round(float(at[0])) - side // 2, round(float(at[1])) - side // 2
    if x < 0 or y < 0 or x + side > grey.shape[1] or y + side > grey.shape[0]:
        return None
    return grey[y : y + side, x : x + side].astype(np.float32)


def _carried(grey: Array, at: Array, jacobian: Array, side: int) -> Array:
    """The patch about ``at`` as the other frame would show it."""
    centre = (side - 1) / 2
    matrix = np.column_stack([jacobian, at - jacobian @ np.array([centre, centre])])
    flags = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
    made = cv2.warpAffine(grey, matrix, (side, side), flags=flags, borderMode=cv2.BORDER_REFLECT)
    return np.asarray(made.astype(np.float32))


def _alike(one: Array, other: Array) -> bool:
    """Whether two patches show the same thing, a few pixels aside: a walker in one of them says nothing of sharpness."""
    small = [cv2.resize(cv2.GaussianBlur(x, (0, 0), 2), (32, 32), interpolation=cv2.INTER_AREA) for x in (one, other)]
    best = cv2.matchTemplate(small[0], np.ascontiguousarray(small[1][4:-4, 4:-4]), cv2.TM_CCOEFF_NORMED)
    return float(best.max()) > 0.7


def _powers(patches: Array) -> tuple[Array, Array]:
    """Power of the band by direction, (N, sectors), and of what is coarser, (N,), of patches (N, side, side) float32."""
    count, side, _side = patches.shape
    window = _window(side)
    waves = np.fft.rfft2((patches - patches.mean((1, 2), keepdims=True)) * window)
    spectrum = (waves.real**2 + waves.imag**2).reshape(count, -1) / float((window**2).sum())
    # what is left at the finest is noise more than detail; the same much of it lies in the band
    noise = np.median(spectrum[:, _finest(side)], axis=1, keepdims=True) * _MEAN_OF_MEDIAN
    band = np.stack([spectrum[:, at] @ weight / len(at) for at, weight in _sectors(side)], -1)
    coarse = spectrum[:, _coarse(side)].mean(1)
    return np.asarray(np.maximum(band - noise, _MOST_NOISE * band) + 1e-6), np.asarray(coarse + 1e-6)


@lru_cache(maxsize=2)
def _finest(side: int) -> Array:
    return np.flatnonzero(np.hypot(np.fft.rfftfreq(side)[None, :], np.fft.fftfreq(side)[:, None]) > _FINEST)


@lru_cache(maxsize=2)
def _coarse(side: int) -> Array:
    radius = np.hypot(np.fft.rfftfreq(side)[None, :], np.fft.fftfreq(side)[:, None])
    return np.flatnonzero((radius >= _COARSE[0]) & (radius <= _COARSE[1]))


@lru_cache(maxsize=2)
def _window(side: int) -> Array:
    one = np.hanning(side)
    return np.outer(one, one).astype(np.float32)


@lru_cache(maxsize=2)
def _sectors(side: int) -> list[tuple[Array, Array]]:
    """Which bins of the spectrum lie in the band, by direction of the detail's change, and their weights, under which the power
    of photographs is much the same at all frequencies: it falls with their square."""
    fy = np.fft.fftfreq(side)[:, None]
    fx = np.fft.rfftfreq(side)[None, :]
    radius, angle = np.hypot(fx, fy), np.arctan2(fy, fx)
    band = (radius >= _BAND[0]) & (radius <= _BAND[1])
    width = math.pi / _SECTORS
    inside = [
        np.flatnonzero(band & (np.abs((angle - k * width + math.pi / 2) % math.pi - math.pi / 2) <= width / 2))
        for k in range(_SECTORS)
    ]
    return [(at, ((radius.ravel()[at] * 2 * math.pi / BAND_RAD) ** 2).astype(np.float32)) for at in inside]


def sharpest(views: Sequence[Array]) -> int | None:
    """Which of several frames, each drawn on the same piece of the picture (h, w, 4) uint8 with alpha, shows most fine detail where
    all of them show it; None where none of it is shown by all."""
    if not views:
        return None
    common = cv2.erode(np.min([v[..., 3] for v in views], axis=0), np.ones((7, 7), np.uint8)) > 127
    if not common.any():
        return None
    greys = [cv2.cvtColor(np.ascontiguousarray(v[..., :3]), cv2.COLOR_RGB2GRAY).astype(np.float32) for v in views]
    detail = [float(((g - cv2.GaussianBlur(g, (0, 0), _FINE_PX))[common] ** 2).mean()) for g in greys]
    return int(np.argmax(detail))
