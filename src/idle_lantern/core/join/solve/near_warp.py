"""Local warps from how near things stand: each frame as the middle of all places would have seen it.

Over each frame the nearness is a smooth sheet through its tie points that may tear where near things stand before far
ones. Where the frame was taken and how near a thing is tell how far and which way the thing is shifted; one number for
each node where ``local_warp`` needs two, and all frames are laid to one view instead of each two to each other.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csc_array, diags_array, eye_array, kron
from scipy.sparse.linalg import spsolve

from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.join.solve.local_warp import grid_shape, interpolation, steps
from idle_lantern.core.join.solve.nearness import NearThings
from idle_lantern.core.join.solve.poses import Poses

Array = NDArray[Any]

#: Nodes along a frame's longer side.
_NODES = 28
#: In pixels of shift: pull of neighbouring nodes to each other, and to far.
_STIFFNESS, _TO_FAR = 1.0, 0.003
#: Tie points that miss the sheet by more count for less; a sheet that differs by more from node to node tears.
_SCALE_PX, _TEAR_PX = 1.0, 1.0
_ROUNDS = 8


def seen_from_the_middle(poses: Poses, things: NearThings) -> Poses:
    """The poses with local warps that show each frame as from the middle of all places."""
    bends = []
    for i, (lens, world_from_camera) in enumerate(zip(poses.lenses, poses.world_from_camera)):
        own = things.frame == i
        place = world_from_camera.T @ things.place[i]
        bends.append(_bend(lens, place, things.at[own], things.near[own]))
    return replace(poses, bends=tuple(bends))


def _bend(lens: Lens, place: Array, at: Array, near: Array) -> Array:
    """Shifts (h, w, 2) float32 of one frame that was taken at ``place`` (3,), in its own axes, seen from the middle."""
    # what is shifted by a pixel, about
    unit = max(float(np.linalg.norm(place)) * lens.focal_px, 1e-9)
    sheet = np.maximum(_sheet(lens, at, near * unit), 0) / unit
    h, w = sheet.shape
    nodes = np.stack(np.meshgrid(np.linspace(0, lens.width - 1, w), np.linspace(0, lens.height - 1, h)), -1)
    seen, valid = lens.project(np.nan_to_num(lens.unproject(nodes)) + sheet[..., None] * place)
    shift = np.where((valid & np.isfinite(seen).all(-1))[..., None], nodes - seen, 0)
    return np.asarray(shift.astype(np.float32))


def _sheet(lens: Lens, at: Array, shift_px: Array) -> Array:
    """A smooth sheet (h, w) through values at pixels that may tear: iteratively reweighted least squares."""
    shape = grid_shape(lens, _NODES)
    h, w = shape
    rows = csc_array(interpolation(lens, shape, at))
    across = [csc_array(kron(steps(h), eye_array(w))), csc_array(kron(eye_array(h), steps(w)))]
    weight, whole = np.ones(len(at)), [np.ones(d.shape[0]) for d in across]
    sheet = np.zeros(h * w)
    for _ in range(_ROUNDS):
        normal = rows.T @ diags_array(weight) @ rows + _TO_FAR * eye_array(h * w)
        for d, held in zip(across, whole):
            normal = normal + _STIFFNESS * (d.T @ diags_array(held) @ d)
        sheet = spsolve(csc_array(normal), rows.T @ (weight * shift_px))
        weight = 1 / (1 + ((rows @ sheet - shift_px) / _SCALE_PX) ** 2)
        whole = [1 / (1 + ((d @ sheet) / _TEAR_PX) ** 2) for d in across]
    return np.asarray(sheet.reshape(shape))
