"""Solved rotations -> the same turned upright, with the picture's middle at yaw 0."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.registration.solve.poses import Poses

#: How much "the camera's own up" counts against "x-axes lie in the horizon": enough to decide
#: where the x-axes alone cannot (a single column), too little to tilt a row.
_OWN_UP = 0.01


def upright(poses: Poses) -> Poses:
    """Level by the common plane of the camera x-axes (photographers rarely roll the camera)."""
    x_axes, y_axes = poses.world_from_camera[:, :, 0], poses.world_from_camera[:, :, 1]
    n = len(x_axes)
    cost = x_axes.T @ x_axes / n + _OWN_UP * (np.eye(3) - y_axes.T @ y_axes / n)
    _, vectors = np.linalg.eigh(cost)
    down = vectors[:, 0]
    if (y_axes @ down).sum() < 0:
        down = -down
    forward = poses.world_from_camera[:, :, 2].mean(0)
    forward = forward - (forward @ down) * down
    if np.linalg.norm(forward) < 1e-3:  # a full circle has no middle: the first frame is it
        forward = poses.world_from_camera[0, :, 2] - (poses.world_from_camera[0, :, 2] @ down) * down
    if np.linalg.norm(forward) < 1e-6:
        forward = np.cross(poses.world_from_camera[0, :, 0], down)
    forward /= np.linalg.norm(forward)
    right = np.cross(down, forward)
    new_from_old = np.stack([right, down, forward])
    return replace(poses, world_from_camera=new_from_old @ poses.world_from_camera)


def to_prior(poses: Poses, prior: Sequence[Array | None]) -> Poses:
    """Turn the whole so that it lies as planned or logged, a rotation (3, 3) a frame (least squares over the frames)."""
    known = [(i, prior[f]) for i, f in enumerate(poses.frames) if prior[f] is not None]
    if not known:
        return poses
    turn = rotations.nearest(np.sum([wanted @ poses.world_from_camera[i].T for i, wanted in known], axis=0))
    return replace(poses, world_from_camera=turn @ poses.world_from_camera)


def centred(poses: Poses, middle_yaw_rad: float) -> Poses:
    """Turn about the vertical so that ``middle_yaw_rad`` becomes yaw 0."""
    return replace(poses, world_from_camera=rotations.about_y(-middle_yaw_rad) @ poses.world_from_camera)
