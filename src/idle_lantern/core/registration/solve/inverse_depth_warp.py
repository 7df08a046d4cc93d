"""Local warps from how near things stand: each frame as the middle of all places would have seen it.

Where the frame was taken and how near a thing is tell how far and which way it is shifted; one number for each
direction where ``local_warp`` needs two for each node of each frame, and all frames are laid to one view instead of each
two to each other.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.registration.solve.inverse_depth_map import InverseDepthMap
from idle_lantern.core.registration.solve.local_warp import grid_shape
from idle_lantern.core.registration.solve.poses import Poses

#: Nodes along a frame's longer side: the edges of near things are to show.
_NODES = 160


def seen_from_the_middle(poses: Poses, place: Array, near: InverseDepthMap) -> Poses:
    """The poses with local warps that show each frame, taken at its ``place`` (F, 3), as from the middle of all places."""
    return replace(poses, bends=tuple(_bend(poses, i, place[i], near) for i in range(len(poses.frames))))


def _bend(poses: Poses, i: int, place: Array, near: InverseDepthMap) -> Array:
    """Shifts (h, w, 2) float32 from where the middle sees things to where the i-th frame shows them."""
    lens, turned = poses.lenses[i], poses.world_from_camera[i]
    h, w = grid_shape(lens, _NODES)
    nodes = np.stack(np.meshgrid(np.linspace(0, lens.width - 1, w), np.linspace(0, lens.height - 1, h)), -1)
    directions = np.nan_to_num(lens.unproject(nodes)) @ turned.T
    shown, valid = lens.project((directions - near.at(directions)[..., None] * place) @ turned)
    shift = np.where((valid & np.isfinite(shown).all(-1))[..., None], shown - nodes, 0)
    return np.asarray(shift.astype(np.float32))
