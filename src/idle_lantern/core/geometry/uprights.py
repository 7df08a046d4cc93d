"""Lines that are upright or level in the world -> the turn that makes them so."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations

#: How much "as it is" counts against lines that were drawn: it decides only what they leave open.
_AS_IT_IS = 1e-4


def upright_turn(uprights: Sequence[tuple[Array, Array]], levels: Sequence[tuple[Array, Array]]) -> Array:
    """The least turn (3, 3) of the world after which lines stand upright or lie level.

    A line is two directions (3,); it and the eye span a plane. The vertical lies in the plane of an upright line, and stands
    square to that of the horizon: the direction that suits all of them best (least squares over the normals, an eigenvector)
    becomes the vertical.
    """
    up_now = np.array([0.0, -1.0, 0.0])
    cost = _AS_IT_IS * (np.eye(3) - np.outer(up_now, up_now))
    for one, other in uprights:
        n = _normal(one, other)
        cost = cost + np.outer(n, n)
    for one, other in levels:
        n = _normal(one, other)
        cost = cost + np.eye(3) - np.outer(n, n)
    vertical = np.linalg.eigh(cost)[1][:, 0]
    if vertical @ up_now < 0:
        vertical = -vertical
    return least_turn(vertical, up_now)


def then_turned(turn_deg: tuple[float, float, float], more: Array) -> tuple[float, float, float]:
    """Yaw, pitch, roll in degrees of a turn and another one (3, 3) after it."""
    before = rotations.from_yaw_pitch_roll(*np.radians(turn_deg))
    yaw, pitch, roll = (math.degrees(a) for a in rotations.to_yaw_pitch_roll(more @ before))
    return yaw, pitch, roll


def _normal(one: Array, other: Array) -> Array:
    n = np.cross(one, other)
    return np.asarray(n / max(float(np.linalg.norm(n)), 1e-12))


def least_turn(start: Array, end: Array) -> Array:
    """The smallest rotation (3, 3) that brings one unit vector (3,) onto another (Rodrigues' formula)."""
    axis = np.cross(start, end)
    sine, cosine = float(np.linalg.norm(axis)), float(start @ end)
    if sine < 1e-12:
        return np.eye(3)
    x, y, z = axis / sine
    k = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return np.asarray(np.eye(3) + sine * k + (1 - cosine) * (k @ k))
