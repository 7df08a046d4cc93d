"""Local warps: what turning and lens leave between frames, spread smoothly over them.

Each frame gets a grid of shifts in its own pixels, laid so that matched points fall on the
same place of the canvas. The grid is as stiff as a membrane and is drawn to zero, so it
stays flat where frames agree and where nothing is known. Things before others in depth, a
rail before the sea, cannot both be met by a smooth warp; round those the seams must run.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.sparse import block_diag, coo_array, csc_array, diags_array, eye_array, kron
from scipy.sparse.linalg import spsolve

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.poses import Poses

#: Nodes along a frame's longer side.
_NODES = 14
_STIFFNESS, _TO_ZERO = 1.5, 0.01
#: Matches that miss the common warp by more than this count for less.
_SCALE_PX = 1.0
_ROUNDS = 4
#: A warp must take away this much of the misses' root mean square, or it is left.
_WORTH = 0.35
_PROBE_PX = 4.0
#: Tie points known worse than this tell of noise, not of depth.
_WORST_PX = 0.15


@dataclass(frozen=True)
class _Ties:
    """Matches of all links: places in frames a and b (M, 2), the miss in b, and how b moves with a (M, 2, 2)."""

    a: Array
    b: Array
    at_a: Array
    at_b: Array
    miss: Array
    slope: Array


def bent(poses: Poses, links: Sequence[Link]) -> Poses:
    """The poses with local warps where they are worth it, else as they are."""
    ties = _ties(poses, links)
    if len(ties.a) < 30:
        return poses
    shapes = [grid_shape(lens, _NODES) for lens in poses.lenses]
    starts = np.concatenate([[0], np.cumsum([h * w for h, w in shapes])])
    at_a = _of_all(poses, shapes, starts, ties.a, ties.at_a)
    at_b = _of_all(poses, shapes, starts, ties.b, ties.at_b)
    # unknowns: shifts in x of all nodes, then in y
    rows = _both(at_b) - _turned(at_a, ties.slope)
    stiff = _stiffness(shapes)
    right = np.concatenate([ties.miss[:, 0], ties.miss[:, 1]])
    weight = 1 / (1 + (ties.miss**2).sum(1) / (4 * _SCALE_PX) ** 2)
    shifts = np.zeros(2 * starts[-1])
    for _ in range(_ROUNDS):
        twice = np.concatenate([weight, weight])
        weighted = diags_array(twice) @ rows
        shifts = spsolve(csc_array(rows.T @ weighted + stiff), weighted.T @ right)
        left = (right - rows @ shifts).reshape(2, -1)
        weight = 1 / (1 + (left**2).sum(0) / _SCALE_PX**2)
    if np.sqrt((weight * (left**2).sum(0)).sum()) > (1 - _WORTH) * np.sqrt((weight * (ties.miss**2).sum(1)).sum()):
        return poses
    half = int(starts[-1])
    bends = tuple(
        np.stack([shifts[s:e].reshape(shape), shifts[half + s : half + e].reshape(shape)], -1).astype(np.float32)
        for s, e, shape in zip(starts[:-1].tolist(), starts[1:].tolist(), shapes)
    )
    return replace(poses, bends=bends)


def _ties(poses: Poses, links: Sequence[Link]) -> _Ties:
    a, b, at_a, at_b, miss, slope = [], [], [], [], [], []
    for link in links:
        if not link.inliers or link.a not in poses.frames or link.b not in poses.frames:
            continue
        i, j = poses.index(link.a), poses.index(link.b)

        def carried(points: Array, i: int = i, j: int = j) -> Array:
            return poses.transfer(i, j, points)[0]

        known = link.inlier & (link.sigma_px < _WORST_PX)
        one, other = link.points_a[known], link.points_b[known]
        expected = carried(one)
        good = np.isfinite(expected).all(1)
        one, other, expected = one[good], other[good], expected[good]
        a.append(np.full(len(one), i))
        b.append(np.full(len(one), j))
        at_a.append(one)
        at_b.append(other)
        miss.append(other - expected)
        along = [(carried(one + step) - expected) / _PROBE_PX for step in np.eye(2) * _PROBE_PX]
        slope.append(np.stack(along, -1))
    if not a:
        empty = np.zeros((0, 2))
        return _Ties(np.zeros(0, int), np.zeros(0, int), empty, empty, empty, np.zeros((0, 2, 2)))
    return _Ties(*(np.concatenate(part) for part in (a, b, at_a, at_b, miss, slope)))


def grid_shape(lens: Lens, nodes: int) -> tuple[int, int]:
    """Rows and columns of a frame's grid with so many nodes along its longer side."""
    spacing = max(lens.width, lens.height) / (nodes - 1)
    return max(3, round(lens.height / spacing) + 1), max(3, round(lens.width / spacing) + 1)


def interpolation(lens: Lens, shape: tuple[int, int], at: Array) -> coo_array:
    """Bilinear weights (M, h w) that take values at the nodes of a frame's grid to pixels (M, 2)."""
    nodes = np.array([shape[1] - 1, shape[0] - 1])
    place = np.clip(at / [lens.width - 1, lens.height - 1], 0, 1) * nodes
    low = np.minimum(np.floor(place).astype(int), nodes - 1)
    x, y = (place - low).T
    across = shape[1]
    first = low[:, 1] * across + low[:, 0]
    columns = np.concatenate([first, first + 1, first + across, first + across + 1])
    values = np.concatenate([(1 - x) * (1 - y), x * (1 - y), (1 - x) * y, x * y])
    return coo_array((values, (np.tile(np.arange(len(at)), 4), columns)), shape=(len(at), shape[0] * shape[1]))


def _of_all(poses: Poses, shapes: list[tuple[int, int]], starts: Array, frame: Array, at: Array) -> coo_array:
    """The same for points (M, 2) of several frames and all their nodes, one grid after the other."""
    rows, columns, values = [], [], []
    for i, (lens, shape) in enumerate(zip(poses.lenses, shapes)):
        own = np.flatnonzero(frame == i)
        one = interpolation(lens, shape, at[own])
        row, column = one.coords
        rows.append(own[row])
        columns.append(column + starts[i])
        values.append(one.data)
    coords = (np.concatenate(rows), np.concatenate(columns))
    return coo_array((np.concatenate(values), coords), shape=(len(at), int(starts[-1])))


def _both(one: coo_array) -> csc_array:
    """The same for shifts in x and in y."""
    return csc_array(block_diag([one, one]))


def _turned(one: coo_array, slope: Array) -> csc_array:
    """Shifts of frame a as frame b sees them."""
    return csc_array(
        kron([[1, 0], [0, 0]], diags_array(slope[:, 0, 0]) @ one)
        + kron([[0, 1], [0, 0]], diags_array(slope[:, 0, 1]) @ one)
        + kron([[0, 0], [1, 0]], diags_array(slope[:, 1, 0]) @ one)
        + kron([[0, 0], [0, 1]], diags_array(slope[:, 1, 1]) @ one)
    )


def _stiffness(shapes: list[tuple[int, int]]) -> csc_array:
    """Squared differences between neighbouring nodes, and a little of the shifts themselves."""
    parts = []
    for h, w in shapes:
        down = kron(steps(h), eye_array(w))
        along = kron(eye_array(h), steps(w))
        parts.append(_STIFFNESS * (down.T @ down + along.T @ along) + _TO_ZERO * eye_array(h * w))
    one = block_diag(parts)
    return csc_array(block_diag([one, one]))


def steps(n: int) -> Any:
    """Differences of n values in a line, (n - 1, n)."""
    return diags_array([-np.ones(n - 1), np.ones(n - 1)], offsets=[0, 1], shape=(n - 1, n))
