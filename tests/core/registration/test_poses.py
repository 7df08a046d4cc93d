"""Solved geometry as values: what frames show of each other and of the sphere, local warps, links taken anew."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.adjustment import intrinsics_of, with_intrinsics
from idle_lantern.core.registration.solve.covered_field import field_of
from idle_lantern.core.registration.solve.poses import Poses, bend_at, farthest_px, reassigned

#: Forty degrees wide, thirty high.
LENS = Lens(
    "rectilinear",
    400 / 2 / math.tan(math.radians(20)),
    400,
    round(400 * math.tan(math.radians(15)) / math.tan(math.radians(20))),
)


def _poses(*looks_deg: tuple[float, float], lens: Lens = LENS) -> Poses:
    turned = np.stack([rotations.from_yaw_pitch_roll(*np.radians(look)) for look in looks_deg])
    return Poses(tuple(range(len(turned))), (lens,) * len(turned), turned)


def test_directions_and_pixels_are_those_of_the_turned_lens():
    poses = _poses((0, 0), (25, 10))
    places = LENS.places_px(5, 4)
    world = poses.directions(1, places)
    turn = Rotation.from_matrix(poses.world_from_camera[1])
    np.testing.assert_allclose(world.reshape(-1, 3), turn.apply(LENS.unproject(places).reshape(-1, 3)), atol=1e-12)
    back, valid = poses.pixels(1, world)
    assert valid.all()
    np.testing.assert_allclose(back, places, atol=1e-8)
    world[0, 0] = np.nan
    assert not poses.pixels(1, world)[1][0, 0]
    there, _valid = poses.transfer(0, 1, places)
    np.testing.assert_allclose(there, poses.pixels(1, poses.directions(0, places))[0], atol=1e-8)
    np.testing.assert_allclose(poses.turn(0, 1), poses.turn(1, 0).T)


def test_the_share_that_one_frame_shows_of_another():
    """Turned by half the field about the upright axis, on the middle row tan(0) of tan(20 degrees) is shared: half the frame."""
    poses = _poses((0, 0), (20, 0), (180, 0))
    assert poses.share_shown(0, 0) == 1.0
    assert poses.share_shown(0, 1, 101) == pytest.approx(0.5, abs=0.02)
    assert poses.share_shown(0, 2) == 0.0
    link = replace(poses, frames=(7, 3, 5)).link_without_points(0, 1)
    assert (link.a, link.b, len(link.points_a)) == (3, 7, 0)
    np.testing.assert_allclose(link.b_from_a, poses.turn(1, 0))


@pytest.mark.parametrize(
    ("yaws", "middle_deg", "width_deg"),
    [((-20, 20), 0.0, 80.0), ((0, 35, 70), 35.0, 110.0), ((170, -160), -175.0, 70.0), (tuple(range(0, 360, 30)), 0.0, 360.0)],
)  # fmt: skip
def test_the_field_is_the_arc_outside_the_widest_gap(yaws: tuple[float, ...], middle_deg: float, width_deg: float):
    """Level frames of forty degrees by hand: upper edges reach 15 degrees in the middle."""
    seen = field_of(_poses(*((yaw, 0.0) for yaw in yaws)))
    assert math.degrees(seen.width_rad) == pytest.approx(width_deg, abs=0.15)
    assert abs((math.degrees(seen.middle_rad) - middle_deg + 180) % 360 - 180) < 0.1
    assert (math.degrees(seen.low_rad), math.degrees(seen.high_rad)) == pytest.approx((-15.0, 15.0), abs=0.1)
    assert seen.full_circle == (width_deg == 360)
    up = field_of(_poses((0.0, 85.0)))
    assert (up.full_circle, up.high_rad) == (True, math.pi / 2)
    tall, wide, pitch = math.tan(math.radians(15)), math.tan(math.radians(20)), math.radians(85)
    corner = (math.sin(pitch) - tall * math.cos(pitch)) / math.sqrt(1 + tall**2 + wide**2)
    assert up.low_rad == pytest.approx(math.asin(corner), abs=0.002), "its lower corners reach farthest down"


def test_a_local_warp_is_read_between_its_nodes_and_shrinks_with_the_frame():
    bend = np.zeros((3, 5, 2), np.float32)
    bend[..., 0] = np.arange(5) * 2.0
    bend[..., 1] = -np.arange(3)[:, None]
    corners = np.array([[[0.0, 0.0], [LENS.width - 1.0, 0.0], [LENS.width - 1.0, LENS.height - 1.0]]])
    assert bend_at(bend, corners, LENS).tolist() == [[[0.0, 0.0], [8.0, 0.0], [8.0, -2.0]]]
    middle = np.array([[[(LENS.width - 1) / 2, (LENS.height - 1) / 2]]])
    np.testing.assert_allclose(bend_at(bend, middle, LENS), [[[4.0, -1.0]]], atol=1e-5)
    assert farthest_px(bend) == 8.0
    poses = replace(_poses((0, 0), (20, 0)), bends=(bend, None))
    small = poses.of_size([(LENS.width // 2, LENS.height // 2)] * 2)
    np.testing.assert_allclose(small.bend(0), bend / 2)
    assert small.bend(1) is None
    assert small.lenses[0].focal_px == pytest.approx(LENS.focal_px / 2)
    assert _poses((0, 0)).bend(0) is None


def test_a_link_taken_anew_keeps_what_the_poses_meet():
    """Three points missed by 0, 3 and 4 px: within 3.5 px two are left, with a root mean square of sqrt(9 / 2)."""
    poses = _poses((0, 0), (10, 0))
    points_a = np.array([[250.0, 60.0], [260.0, 150.0], [300.0, 200.0]])
    points_b = poses.transfer(0, 1, points_a)[0] + np.array([[0, 0], [3.0, 0], [0, 4.0]])
    link = Link(0, 1, points_a, points_b, np.eye(3), np.ones(3, bool))
    found = reassigned(link, poses, 3.5)
    assert found.inlier.tolist() == [True, True, False]
    assert found.rms_px == pytest.approx(math.sqrt(4.5))
    np.testing.assert_allclose(found.b_from_a, poses.turn(0, 1))
    assert math.isinf(reassigned(link, poses, 0.0).rms_px)
    # of a line drawn by hand only what lies across it counts: the second misses along itself
    across = np.array([np.eye(2), np.diag([0.0, 1.0]), np.eye(2)])
    drawn = reassigned(replace(link, by_hand=True, sqrt_information=across), poses, 0.1)
    assert drawn.inlier.all()
    assert drawn.rms_px == pytest.approx(math.sqrt(16 / 3))


def test_intrinsics_go_there_and_back():
    lens = Lens("rectilinear", 500, 400, 300, 0.1, -0.02, 0.003, cx=7, cy=-4)
    assert intrinsics_of(lens) == pytest.approx([math.log(500), 0.1, -0.02, 0.003, 0.014, -0.008])
    back = with_intrinsics(replace(lens, focal_px=900, k1=0, cx=0), np.array(intrinsics_of(lens)))
    assert intrinsics_of(back) == pytest.approx(intrinsics_of(lens))
