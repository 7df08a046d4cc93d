"""Which frames meet along a seam, and by how much the camera turns from one to the other."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.coverage import cameras_of, corner_angle_rad
from idle_lantern.core.plan.grid_frame import GridFrame

#: Neighbours looked at for each frame, itself among them.
_NEAREST = 25
#: A seam worth the name is so long by the turn between its frames: the diagonals of a grid meet in less.
_LEAST_SEAM = 0.3
#: A frame that is nearer to both of two frames by so much lies between them: no need to look for their seam.
_BETWEEN = 0.74
#: Frames beside one of the two that may look nearer at a seam.
_BESIDE = 13
#: Places on a seam that are asked, and pairs that are asked at once, the widest turns first.
_PLACES, _AT_ONCE = 21, 256
#: Answers kept: most of what is changed in a plan leaves its frames where they are.
_KEPT = 16
#: Up to so many frames all pairs are compared; a search tree takes longer to load.
_FEW = 600


def widest_turn_rad(lens: Lens, frames: Sequence[GridFrame]) -> float:
    """Largest angle between the lines of sight of two frames that meet along a seam; 0 where none do.

    Two frames meet where both show directions to which no third looks nearer: along an edge between their cells of the
    Voronoi diagram of all lines of sight. Rows, columns and staggered rows alike meet so, frames round a sphere too that
    have a third within the angle between them, and the diagonals of a grid hardly.
    """
    return _widest_turn_rad(lens, tuple(frames))


@lru_cache(maxsize=_KEPT)
def _widest_turn_rad(lens: Lens, frames: tuple[GridFrame, ...]) -> float:
    if len(frames) < 2:
        return 0.0
    cameras = cameras_of(frames)
    axes = np.ascontiguousarray(cameras[:, :, 2])
    near = _nearest(axes, min(_NEAREST, len(frames)))
    turns = np.arccos(np.clip(np.einsum("fc,fjc->fj", axes, axes[near]), -1, 1))
    around = axes[near]
    apart = np.arccos(np.clip(np.einsum("fjc,fmc->fjm", around, around), -1, 1))
    longer = np.maximum(turns[:, None, :], apart)  # of the ways over m, the longer step
    between = (longer < _BETWEEN * turns[:, :, None]).any(2)
    meet = ~between & (turns > 1e-6) & (turns < min(2 * corner_angle_rad(lens), math.pi - 1e-3))
    meet &= near > np.arange(len(near))[:, None]  # each pair once
    a, j = np.nonzero(meet)
    order = turns[a, j].argsort()[::-1]
    a, j = a[order], j[order]
    for first in range(0, len(a), _AT_ONCE):
        part = slice(first, first + _AT_ONCE)
        met = _seams_rad(lens, cameras, near, a[part], near[a[part], j[part]]) >= _LEAST_SEAM * turns[a[part], j[part]]
        if met.any():
            return float(turns[a[part], j[part]][met].max())
    return 0.0


def _seams_rad(lens: Lens, cameras: Array, near: Array, a: Array, b: Array) -> Array:
    """How long the seam between frames ``a`` and ``b`` is, (P,); ``near`` (F, N) are the numbers of those beside each."""
    axes = cameras[:, :, 2]
    middle = axes[a] + axes[b]
    middle /= np.linalg.norm(middle, axis=1)[:, None]
    along = np.cross(axes[a], axes[b])
    along /= np.linalg.norm(along, axis=1)[:, None]
    reach = min(corner_angle_rad(lens), math.pi)
    at = np.linspace(-reach, reach, _PLACES)[:, None]
    looks = np.cos(at) * middle[:, None] + np.sin(at) * along[:, None]  # (P, places, 3)
    own = (looks @ axes[a][:, :, None])[..., 0]
    others = (looks @ np.swapaxes(axes[near[a, :_BESIDE]], 1, 2)).max(-1)
    shared = others <= own + 1e-6
    for camera in (a, b):
        shared &= np.asarray(lens.sees(looks @ cameras[camera], margin_px=0.5))
    return np.asarray(shared.sum(1) * (2 * reach / (_PLACES - 1)))


def _nearest(axes: Array, count: int) -> Array:
    """For each direction the numbers of its nearest ones, itself first, (F, count)."""
    if len(axes) > _FEW:
        from scipy.spatial import cKDTree

        return np.asarray(cKDTree(axes).query(axes, k=count)[1])
    apart = -(axes @ axes.T)
    np.fill_diagonal(apart, -2.0)
    near = np.argpartition(apart, count - 1, axis=1)[:, :count]
    order = np.take_along_axis(apart, near, 1).argsort(1, kind="stable")
    return np.take_along_axis(near, order, 1)
