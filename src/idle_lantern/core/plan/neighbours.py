"""Which frames meet along a seam, and by how much the camera turns from one to the other."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.coverage import cameras_of
from idle_lantern.core.plan.grid_frame import GridFrame

#: Neighbours looked at for each frame, itself among them.
_NEAREST = 25
#: A frame that is nearer to both of two frames by so much lies between them: they share no seam worth the name.
_BETWEEN = 0.92
#: Up to so many frames all pairs are compared; a search tree takes longer to load.
_FEW = 600


def widest_turn_rad(lens: Lens, frames: Sequence[GridFrame]) -> float:
    """Largest angle between the lines of sight of two frames that meet along a seam; 0 where none do.

    Two frames are neighbours when both show the direction midway between them and no third is clearly nearer to both
    (the relative neighbourhood graph, Toussaint 1980): rows, columns and staggered rows alike, and
    not the diagonals of a grid, which meet in a point.
    """
    if len(frames) < 2:
        return 0.0
    cameras = cameras_of(frames)
    axes = np.ascontiguousarray(cameras[:, :, 2])
    near = _nearest(axes, min(_NEAREST, len(frames)))
    around = axes[near]
    turns = np.arccos(np.clip(np.einsum("fc,fjc->fj", axes, around), -1, 1))
    apart = np.arccos(np.clip(np.einsum("fjc,fmc->fjm", around, around), -1, 1))
    longer = np.maximum(turns[:, None, :], apart)  # of the ways over m, the longer step
    between = (longer < _BETWEEN * turns[:, :, None]).any(2)
    a, j = np.nonzero(~between & (turns > 1e-6))
    b = near[a, j]
    middle = axes[a] + axes[b]
    long = np.linalg.norm(middle, axis=1)
    a, b, j, middle, long = (v[long > 1e-6] for v in (a, b, j, middle, long))
    middle = middle / long[:, None]
    shown = np.ones(len(a), bool)
    for camera in (a, b):
        shown &= np.asarray(lens.sees(np.einsum("nj,njk->nk", middle, cameras[camera]), margin_px=0.5))
    return float(turns[a, j][shown].max(initial=0.0))


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
