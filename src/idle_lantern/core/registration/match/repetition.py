"""Frames of what repeats (windows, slats, tiles): each thing matches many alike, so that the usual matches tell nothing.

Every match with one of several alike things votes for a turn; what repeats gives as many heaps of votes as there are periods. Each
heap is a turn that may be the right one, and the picture itself decides: only at the right one do the small things agree that no
two windows share. What does so no better than a window further on is left apart, and told.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Flags
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens, transfer
from idle_lantern.core.registration.match.features import Features, WorkingFrame
from idle_lantern.core.registration.match.lens_guess import LOOSE_SHARE
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.match.verify import acceptable, rotation_between

#: Of a thing so many alike ones are looked for, and how much less like it than the best one may be.
_ALIKE, _NEAR_BEST = 8, 0.06
#: A frame repeats where so many of its things have another that is as like.
_REPEATS = 0.35
#: Votes are counted by so much of a turn; heaps of fewer votes are chance; so many are looked at.
_BIN_RAD, _LEAST_VOTES, _HEAPS = math.radians(0.35), 14, 12
#: Detail is what a blur of so many pixels takes away; so much of a frame must be shared, and agree so well.
_DETAIL_PX, _LEAST_SHARED, _MOST_UNLIKE = 4.0, 0.06, 0.3
#: Frames of more than twice so many pixels are halved to compare detail.
_DETAIL_SIZE = 120_000
#: What is left of a shift is told by one pixel of so many.
_EVERY = 4
#: What disagrees at the second best turn, against what does at the best and by how much more at least, and at a link against the
#: usual link.
_CLEARLY, _AT_LEAST, _LIKE_OTHERS = 1.4, 0.022, 1.6
#: Focal lengths that are tried where it is a guess, as shares of the longer side (6 to 90 degrees across it), then finer ones about
#: the best; and heaps looked at for each.
_FOCALS, _FINER = np.geomspace(0.5, 9.0, 19), np.exp(np.linspace(-0.06, 0.06, 5))
_FEW_HEAPS = 5
#: Frames in order are asked for partners up to so many further on where there are too many for all pairs.
_ALL_PAIRS, _ORDER_REACH = 14, 2


@dataclass(frozen=True)
class Repetition:
    """Links of frames that repeat, which frames (by index) do, and the lenses under which they agree."""

    links: tuple[Link, ...]
    frames: frozenset[int]
    lenses: list[Lens]


@dataclass(frozen=True)
class _Placed:
    """A turn of a pair: which alike things agree with it, and the share of its detail that disagrees."""

    link: Link
    disagrees: float


def repetition(
    features: Sequence[Features],
    working: Sequence[WorkingFrame],
    lenses: Sequence[Lens],
    apart: Sequence[int],
    *,
    focal_known: bool,
) -> Repetition:
    """Links of the frames ``apart``, by index, that usual matches do not tie, with each other and with the rest.

    ``features``, reduced frames and ``lenses`` are those of all frames, in the order taken. Where the focal length is a guess it is
    sought too: under a wrong one nothing agrees.
    """
    lenses = list(lenses)
    repeats = frozenset(f for f in apart if _repeats(features[f]))
    if not repeats:  # in most sets: bare or foreign frames, and the others need not be asked
        return Repetition((), repeats, lenses)
    repeats |= {f for f in range(len(features)) if f not in apart and _repeats(features[f])}
    count = len(features)
    reach = count if count <= _ALL_PAIRS else _ORDER_REACH
    pairs = [
        (a, b)
        for a in range(count)
        for b in range(a + 1, min(count, a + reach + 1))
        if {a, b} & set(apart) and {a, b} <= repeats
    ]
    detail = {f: _Detail.of(working[f]) for f in {f for pair in pairs for f in pair}}
    if not focal_known and pairs:
        lenses = _by_agreement(pairs, features, lenses, detail)
    placed = {}
    for a, b in pairs:
        found = _clearest(_by_votes(a, b, features, lenses, detail))
        if found is not None:
            placed[a, b] = found
    if not placed:
        return Repetition((), repeats, lenses)
    # frames that do not overlap agree a window off as well as windows do, and no better: worse than those that overlap
    best = [min((p.disagrees for pair, p in placed.items() if f in pair), default=math.inf) for f in sorted(repeats)]
    usual = float(np.median([b for b in best if math.isfinite(b)]))
    return Repetition(tuple(p.link for p in placed.values() if p.disagrees <= _LIKE_OTHERS * usual), repeats, lenses)


def _by_agreement(
    pairs: Sequence[tuple[int, int]],
    features: Sequence[Features],
    lenses: list[Lens],
    detail: dict[int, _Detail],
) -> list[Lens]:
    """The lenses at the focal length under which neighbours agree best, coarsely and then finely."""
    neighbours = [pair for pair in pairs if pair[1] == pair[0] + 1] or list(pairs)
    judges = [neighbours[k] for k in sorted({0, len(neighbours) // 2})]
    share = np.array(1.0)
    for tried in (_FOCALS, _FINER):
        shares, scores = share * tried, []
        for each in shares:
            own = [replace(lens, focal_px=float(each) * max(lens.width, lens.height)) for lens in lenses]
            found = [_by_votes(a, b, features, own, detail, heaps=_FEW_HEAPS) for a, b in judges]
            scores.append(sum(p[0].disagrees if p else 1.0 for p in found))
        share = shares[int(np.argmin(scores))]
    return [replace(lens, focal_px=float(share) * max(lens.width, lens.height)) for lens in lenses]


def _repeats(own: Features) -> bool:
    """Whether many things of a frame have another one in it that is as like them as the same thing in another frame would be."""
    if len(own) < 2 * _LEAST_VOTES:
        return False
    likeness = own.descriptors @ own.descriptors.T
    np.fill_diagonal(likeness, -1)
    return float((likeness.max(1) > 1 - _NEAR_BEST).mean()) > _REPEATS


@dataclass(frozen=True)
class _Detail:
    """Brightness of a frame without what is coarse, (h, w) float32; pixel (x, y) lies at ``(x + 0.5) * scale - 0.5`` of the whole."""

    pixels: Array
    scale: Array

    @classmethod
    def of(cls, frame: WorkingFrame) -> _Detail:
        grey = cv2.cvtColor(frame.picture.pixels, cv2.COLOR_RGB2GRAY).astype(np.float32)
        whole = np.array(grey.shape[::-1], float)
        if grey.size > 2 * _DETAIL_SIZE:
            grey = cv2.resize(grey, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
        fine = cv2.GaussianBlur(grey, (0, 0), 0.8) - cv2.GaussianBlur(grey, (0, 0), _DETAIL_PX)
        return cls(fine, np.asarray(frame.scale) * whole / np.array(grey.shape[::-1]))


def _by_votes(
    a: int,
    b: int,
    features: Sequence[Features],
    lenses: Sequence[Lens],
    detail: dict[int, _Detail],
    heaps: int = _HEAPS,
) -> list[_Placed]:
    """The turns of a pair that many alike things ask for, those first at which most of its detail agrees."""
    lens_a, lens_b = lenses[a], lenses[b]
    one, other = _alike_things(features[a], features[b])
    if len(one) < _LEAST_VOTES:
        return []
    points_a, points_b = features[a].points_px[one], features[b].points_px[other]
    rays_a, rays_b = lens_a.unproject(points_a), lens_b.unproject(points_b)
    tolerance = LOOSE_SHARE * math.hypot(lens_a.width, lens_a.height) / lens_a.focal_px
    found: list[_Placed] = []
    for heap in _heaps(rays_a, rays_b, heaps):
        turn, agree = rotation_between(rays_a[heap], rays_b[heap], tolerance, np.random.default_rng(1), trials=120)
        if agree.sum() < _LEAST_VOTES:
            continue
        for _ in range(2):  # of everything alike what this turn puts together
            inlier = np.linalg.norm(rays_a @ turn.T - rays_b, axis=1) < tolerance
            turn = rotations.aligning(rays_a[inlier], rays_b[inlier])
        disagrees = _disagreement(detail[a], detail[b], lens_a, lens_b, turn)
        kept = _each_once(one, other, inlier)
        link = Link(a, b, points_a[kept], points_b[kept], turn, np.ones(int(kept.sum()), bool))
        if disagrees is not None and acceptable(link, lens_a, lens_b):
            found.append(_Placed(link, disagrees))
    return sorted(found, key=lambda p: p.disagrees)


def _clearest(found: Sequence[_Placed]) -> _Placed | None:
    """The first of the turns, where it agrees well, and clearly better than any other; None else."""
    if not found or found[0].disagrees > _MOST_UNLIKE:
        return None
    others = [p for p in found[1:] if rotations.angle_between(p.link.b_from_a, found[0].link.b_from_a) > 3 * _BIN_RAD]
    clearly = max(_CLEARLY * found[0].disagrees, found[0].disagrees + _AT_LEAST)
    return None if others and others[0].disagrees < clearly else found[0]


def _alike_things(one: Features, other: Features) -> tuple[Array, Array]:
    """Pairs of alike things, indices (M,) each: the likest of each, and those hardly less like."""
    likeness = one.descriptors @ other.descriptors.T
    count = min(_ALIKE, likeness.shape[1])
    nearest = np.argpartition(-likeness, count - 1, axis=1)[:, :count]
    values = np.take_along_axis(likeness, nearest, axis=1)
    best = values.max(1, keepdims=True)
    kept = (values >= best - _NEAR_BEST) & (best >= one.kind.alike)
    rows, columns = np.nonzero(kept)
    return rows, nearest[rows, columns]


def _heaps(rays_a: Array, rays_b: Array, most: int) -> list[Array]:
    """Places (K,) of the pairs of rays in each heap of votes, the highest heaps first; both cameras are held about as upright."""
    yaw = np.arctan2(rays_b[:, 0], rays_b[:, 2]) - np.arctan2(rays_a[:, 0], rays_a[:, 2])
    pitch = np.arcsin(np.clip(rays_b[:, 1], -1, 1)) - np.arcsin(np.clip(rays_a[:, 1], -1, 1))
    cells = np.stack([np.rint(yaw / _BIN_RAD), np.rint(pitch / _BIN_RAD)], -1).astype(int)
    first = cells.min(0)
    votes = np.zeros(cells.max(0) - first + 3, np.float32)
    np.add.at(votes, tuple((cells - first + 1).T), 1.0)
    heaps = cv2.boxFilter(votes, -1, (3, 3), normalize=False, borderType=cv2.BORDER_CONSTANT)
    found = []
    for _ in range(most):
        top = np.array(np.unravel_index(int(heaps.argmax()), heaps.shape))
        if heaps[tuple(top)] < _LEAST_VOTES:
            break
        found.append(np.flatnonzero((np.abs(cells - first + 1 - top) <= 1).all(1)))
        low = np.maximum(top - 2, 0)
        heaps[low[0] : top[0] + 3, low[1] : top[1] + 3] = 0
    return found


def _each_once(one: Array, other: Array, inlier: Flags) -> Flags:
    """Of the pairs that agree those whose things were not taken before."""
    kept = np.zeros(len(one), bool)
    at = np.flatnonzero(inlier)
    _values, first = np.unique(one[at], return_index=True)
    at = at[first]
    _values, first = np.unique(other[at], return_index=True)
    kept[at[first]] = True
    return kept


def _disagreement(one: _Detail, other: _Detail, lens_a: Lens, lens_b: Lens, turn: Array) -> float | None:
    """Share of the detail of two frames that disagrees where one is laid on the other by a turn ``b_from_a``, after what is left of a
    shift; None where they share too little."""
    detail_a, detail_b = one.pixels, other.pixels
    h, w = detail_a.shape
    u, v = np.meshgrid(np.arange(w), np.arange(h))
    at, valid = transfer(lens_a, lens_b, turn, (np.stack([u, v], -1) + 0.5) * one.scale - 0.5)
    at = ((at + 0.5) / other.scale - 0.5).astype(np.float32)
    inside = valid & (at >= 2).all(-1) & (at[..., 0] < detail_b.shape[1] - 3) & (at[..., 1] < detail_b.shape[0] - 3)
    if inside.mean() < _LEAST_SHARED:
        return None
    laid = cv2.remap(detail_b, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    flow = _shift_left(detail_a, laid, inside)
    if flow is not None:
        laid = cv2.remap(detail_b, at + flow, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    mine, laid_there = detail_a[inside], laid[inside]
    mine, laid_there = mine - mine.mean(), laid_there - laid_there.mean()
    scale = math.sqrt(float((mine**2).sum() * (laid_there**2).sum()))
    return None if scale <= 0 else 1 - float((mine * laid_there).sum()) / scale


def _shift_left(one: Array, other: Array, inside: Flags) -> Array | None:
    """A smooth shift (h, w, 2) float32 that carries what is left: six numbers by two rounds of least squares; None where they run away."""
    h, w = one.shape
    x, y = np.meshgrid(np.linspace(-1, 1, w, dtype=np.float32), np.linspace(-1, 1, h, dtype=np.float32))
    basis = np.stack([np.ones_like(x), x, y], -1)
    gx, gy = cv2.Sobel(other, cv2.CV_32F, 1, 0, scale=1 / 8), cv2.Sobel(other, cv2.CV_32F, 0, 1, scale=1 / 8)
    some = np.flatnonzero(inside)[::_EVERY]
    at = basis.reshape(-1, 3)[some]
    columns = np.concatenate([gx.ravel()[some, None] * at, gy.ravel()[some, None] * at], -1)
    miss = (one - other).ravel()[some]
    weight = 1 / (1 + (miss / (2 * np.median(np.abs(miss)) + 1e-3)) ** 2)
    normal = (columns * weight[:, None]).T @ columns
    try:
        step = np.linalg.solve(normal + 1e-3 * np.eye(6), columns.T @ (weight * miss))
    except np.linalg.LinAlgError:
        return None
    shift = np.stack([basis @ step[:3], basis @ step[3:]], -1).astype(np.float32)
    return shift if float(np.abs(shift).max()) < 3 else None
