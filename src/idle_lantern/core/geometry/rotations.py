"""Rotations as (…, 3, 3) matrices named ``to_from``; see the package for the axes."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from idle_lantern.core.base.arrays import Array, Directions, Rotations


def about_x(angle_rad: ArrayLike) -> Rotations:
    """Right-handed rotation about x, (..., 3, 3) of angles (...,); positive turns y towards z, so z towards -y (up)."""
    c, s, o, i = _parts(angle_rad)
    return _stack([[i, o, o], [o, c, -s], [o, s, c]])


def about_y(angle_rad: ArrayLike) -> Rotations:
    """Right-handed rotation about y (down), (..., 3, 3) of angles (...,); positive turns z towards x (to the right)."""
    c, s, o, i = _parts(angle_rad)
    return _stack([[c, o, s], [o, i, o], [-s, o, c]])


def about_z(angle_rad: ArrayLike) -> Rotations:
    """Right-handed rotation about z (forward), (..., 3, 3) of angles (...,); positive turns x towards y (clockwise)."""
    c, s, o, i = _parts(angle_rad)
    return _stack([[c, -s, o], [s, c, o], [o, o, i]])


def from_yaw_pitch_roll(yaw_rad: ArrayLike, pitch_rad: ArrayLike, roll_rad: ArrayLike = 0.0) -> Rotations:
    """``world_from_camera`` of a camera turned by yaw, then tilted, then rolled.

    Parameters
    ----------
    yaw_rad, pitch_rad, roll_rad : float or (...) array
        Positive right, up, clockwise.

    Returns
    -------
    (..., 3, 3) array
    """
    result: Array = about_y(yaw_rad) @ about_x(pitch_rad) @ about_z(roll_rad)
    return result


def to_yaw_pitch_roll(world_from_camera: Rotations) -> tuple[Array, Array, Array]:
    """Yaw, pitch, roll in radians of ``world_from_camera`` (..., 3, 3).

    At pitch ±90 degrees yaw and roll turn about the same axis; all of it is then
    given as yaw.
    """
    m = np.asarray(world_from_camera, dtype=np.float64)
    pitch = np.arcsin(np.clip(-m[..., 1, 2], -1, 1))
    steep = np.hypot(m[..., 0, 2], m[..., 2, 2]) < 1e-9
    yaw = np.where(steep, np.arctan2(-m[..., 2, 0], m[..., 0, 0]), np.arctan2(m[..., 0, 2], m[..., 2, 2]))
    roll = np.where(steep, 0.0, np.arctan2(m[..., 1, 0], m[..., 1, 1]))
    return yaw, pitch, roll


def from_vector(vector_rad: ArrayLike) -> Rotations:
    """Rotation by ``|v|`` radians about ``v`` (Rodrigues' formula), (..., 3) -> (..., 3, 3)."""
    v = np.asarray(vector_rad, dtype=np.float64)
    angle = np.linalg.norm(v, axis=-1)[..., None, None]
    k = skew(v)
    # sinc forms stay exact at zero
    return np.asarray(np.eye(3) + np.sinc(angle / np.pi) * k + 0.5 * np.sinc(angle / (2 * np.pi)) ** 2 * (k @ k))


def to_vector(rotation: ArrayLike) -> Array:
    """Rotation vector of one or many matrices, (..., 3, 3) -> (..., 3)."""
    m = np.asarray(rotation, dtype=np.float64)
    w = np.stack([m[..., 2, 1] - m[..., 1, 2], m[..., 0, 2] - m[..., 2, 0], m[..., 1, 0] - m[..., 0, 1]], -1)
    sine = np.linalg.norm(w, axis=-1)
    angle = np.arctan2(sine, np.trace(m, axis1=-2, axis2=-1) - 1)
    small = sine < 1e-12
    scale = np.where(small, 0.5, angle / np.where(small, 1.0, sine))
    result = w * scale[..., None]
    if np.any(small & (angle > 1)):  # half turns: the axis is a column of (m + I)
        flat_m, flat_r = m.reshape(-1, 3, 3), result.reshape(-1, 3)
        for i in np.flatnonzero(np.ravel(small & (angle > 1))):
            columns = flat_m[i] + np.eye(3)
            axis = columns[:, np.argmax(np.diag(columns))]
            flat_r[i] = np.pi * axis / np.linalg.norm(axis)
        result = flat_r.reshape(result.shape)
    return result


def skew(v: ArrayLike) -> Array:
    """Cross-product matrix: ``skew(a) @ b = a x b``, (..., 3) -> (..., 3, 3)."""
    v = np.asarray(v)
    x, y, z = v[..., 0], v[..., 1], v[..., 2]
    o = np.zeros_like(x)
    return _stack([[o, -z, y], [z, o, -x], [-y, x, o]])


def angle_between(a: Rotations, b: Rotations) -> Array:
    """Angle in radians that turns rotation ``a`` (3, 3) into ``b`` (3, 3), exact for small angles too."""
    vector = to_vector(np.swapaxes(np.asarray(a), -1, -2) @ np.asarray(b))
    result: Array = np.linalg.norm(vector, axis=-1)
    return result


def aligning(points_from: Directions, points_to: Directions) -> Rotations:
    """Best rotation with ``to = R @ from`` for unit directions (N, 3), by Kabsch's SVD."""
    return nearest(points_to.T @ points_from)


def nearest(matrix: Array) -> Rotations:
    """Rotation nearest to a matrix (3, 3); to a sum of rotations this is their mean (orthogonal Procrustes problem)."""
    u, _, vt = np.linalg.svd(matrix)
    result: Array = u @ np.diag([1.0, 1.0, np.sign(np.linalg.det(u @ vt))]) @ vt
    return result


def _parts(angle_rad: ArrayLike) -> tuple[Array, Array, Array, Array]:
    a = np.asarray(angle_rad, dtype=np.float64)
    return np.cos(a), np.sin(a), np.zeros_like(a), np.ones_like(a)


def _stack(rows: list[list[Array]]) -> Array:
    shape = np.broadcast_shapes(*(np.shape(x) for row in rows for x in row))
    result = np.empty((*shape, 3, 3))
    for i, row in enumerate(rows):
        for j, value in enumerate(row):
            result[..., i, j] = value
    return result
