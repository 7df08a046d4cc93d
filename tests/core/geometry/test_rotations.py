"""Rotations against SciPy's, and against the words of the contract."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from scipy.spatial.transform import Rotation
from tests.strategies import angles_rad, pitches_rad

from idle_lantern.core.geometry import rotations

#: float64 products of three matrices: some ten roundings.
EXACT = 1e-12


def test_yaw_turns_right_pitch_up_roll_clockwise():
    """The three sentences of the convention, each on the axis that shows it."""
    forward, right = np.array([0, 0, 1.0]), np.array([1.0, 0, 0])
    quarter = np.pi / 2
    np.testing.assert_allclose(rotations.from_yaw_pitch_roll(quarter, 0, 0) @ forward, right, atol=EXACT)
    np.testing.assert_allclose(rotations.from_yaw_pitch_roll(0, quarter, 0) @ forward, [0, -1, 0], atol=EXACT)
    # clockwise as the photographer sees it: the camera's right side goes down (+y)
    np.testing.assert_allclose(rotations.from_yaw_pitch_roll(0, 0, quarter) @ right, [0, 1, 0], atol=EXACT)


@given(angles_rad, pitches_rad, angles_rad)
def test_agrees_with_scipy_euler_angles(yaw: float, pitch: float, roll: float):
    """Intrinsic turns about y, then x, then z."""
    expected = Rotation.from_euler("YXZ", [yaw, pitch, roll]).as_matrix()
    np.testing.assert_allclose(rotations.from_yaw_pitch_roll(yaw, pitch, roll), expected, atol=EXACT)


@given(angles_rad, pitches_rad, angles_rad)
def test_angles_come_back(yaw: float, pitch: float, roll: float):
    """Away from straight up and down the angles are unique."""
    found = rotations.to_yaw_pitch_roll(rotations.from_yaw_pitch_roll(yaw, pitch, roll))
    np.testing.assert_allclose(found, [yaw, pitch, roll], atol=1e-9)


def test_straight_up_gives_all_turning_as_yaw():
    """At the pole yaw and roll are one; the matrix must still come back."""
    steep = rotations.from_yaw_pitch_roll(0.7, np.pi / 2, 0.4)
    yaw, pitch, roll = rotations.to_yaw_pitch_roll(steep)
    assert roll == 0
    # arcsin near 1 keeps about half of the digits
    np.testing.assert_allclose(rotations.from_yaw_pitch_roll(yaw, pitch, roll), steep, atol=1e-7)


@given(angles_rad, angles_rad, angles_rad)
def test_vectors_agree_with_scipy(x: float, y: float, z: float):
    """Rodrigues' formula and its inverse."""
    vector = np.array([x, y, z])
    matrix = rotations.from_vector(vector)
    np.testing.assert_allclose(matrix, Rotation.from_rotvec(vector).as_matrix(), atol=EXACT)
    back = rotations.from_vector(rotations.to_vector(matrix))
    np.testing.assert_allclose(back, matrix, atol=1e-7)


def test_half_turns_have_a_vector():
    """At 180 degrees the antisymmetric part vanishes and the axis comes from the symmetric one."""
    for axis in np.eye(3):
        matrix = rotations.from_vector(np.pi * axis)
        np.testing.assert_allclose(rotations.from_vector(rotations.to_vector(matrix)), matrix, atol=1e-7)


def test_best_rotation_agrees_with_scipy():
    """Kabsch's solution on noisy directions."""
    rng = np.random.default_rng(4)
    rays = rng.normal(size=(40, 3))
    rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    true = Rotation.from_rotvec([0.3, -0.8, 0.2]).as_matrix()
    moved = rays @ true.T + rng.normal(0, 1e-3, (40, 3))
    expected, _ = Rotation.align_vectors(moved, rays)
    np.testing.assert_allclose(rotations.aligning(rays, moved), expected.as_matrix(), atol=1e-9)


def test_small_angles_are_told_exactly():
    """A microradian is not lost in rounding, as it would be through arccos of the trace."""
    a = rotations.from_vector([0.1, 0.2, 0.3])
    b = a @ rotations.from_vector([1e-6, 0, 0])
    assert abs(float(rotations.angle_between(a, b)) - 1e-6) < 1e-12
