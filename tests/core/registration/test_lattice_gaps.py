"""Frames out of focus: put into the gaps of the lattice that the others show, in any order of shooting."""

from __future__ import annotations

import math

import cv2
import numpy as np
import pytest

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.lattice_gaps import confirmed, filled
from idle_lantern.core.registration.solve.poses import Poses

LENS = Lens("rectilinear", 1000, 400, 600)
STEP = (math.radians(14.0), math.radians(21.0))


def _sphere(seed: int) -> np.ndarray:
    """Soft shapes over a part of the sphere, by yaw and pitch, 20 pixels to a degree."""
    rng = np.random.default_rng(seed)
    shapes = cv2.resize(rng.integers(30, 220, (16, 28), dtype=np.uint8), (2400, 1800), interpolation=cv2.INTER_CUBIC)
    return cv2.GaussianBlur(shapes, (0, 0), 12)


def _frame(sphere: np.ndarray, rotation: np.ndarray) -> WorkingFrame:
    """What the lens sees of it, at a quarter of the size."""
    v, u = np.mgrid[:150, :100] * 4.0
    rays = LENS.unproject(np.stack([u, v], -1)) @ rotation.T
    yaw = np.degrees(np.arctan2(rays[..., 0], rays[..., 2]))
    pitch = np.degrees(np.arcsin(-rays[..., 1] / np.linalg.norm(rays, axis=-1)))
    at = np.stack([1200 + 20 * yaw, 900 - 20 * pitch], -1).astype(np.float32)
    grey = cv2.remap(sphere, at, None, cv2.INTER_LINEAR)
    noisy = np.clip(grey + np.random.default_rng(1).normal(0, 2, grey.shape), 0, 255).astype(np.uint8)
    return WorkingFrame(Picture(np.repeat(noisy[..., None], 3, -1)), (4.0, 4.0))


def _lattice(order: list[tuple[int, int]]) -> list[np.ndarray]:
    """Cameras of cells (column, row), each pointed a little beside."""
    rng = np.random.default_rng(4)
    return [
        rotations.from_yaw_pitch_roll(
            STEP[0] * (c - 1.5) + rng.normal(0, 0.004), STEP[1] * (r - 1) + rng.normal(0, 0.004), 0.0
        )
        for c, r in order
    ]


ORDER = [(c, r) for r in range(3) for c in range(4)]


@pytest.mark.parametrize(("missing", "seed"), [([5], 3), ([0, 6], 4), ([0, 1, 2, 3], 5), ([11, 4, 6], 3)])
def test_untied_frames_go_where_they_belong(missing: list[int], seed: int):
    """Single gaps, several at once, a whole row at the rim; the numbers of the frames tell nothing."""
    shuffled = [ORDER[i] for i in np.random.default_rng(seed).permutation(len(ORDER))]
    cameras, sphere = _lattice(shuffled), _sphere(seed)
    working = [_frame(sphere, r) for r in cameras]
    tied = [i for i in range(12) if i not in missing]
    turn = rotations.from_yaw_pitch_roll(0.4, 0.2, 0.1)  # solved poses lie anywhere
    poses = Poses(tuple(tied), (LENS,) * len(tied), turn @ np.stack([cameras[i] for i in tied]))
    found, links = filled(poses, [], missing, working)
    lattice_complete = len({shuffled[i] for i in tied}) + len(missing) == 12
    assert lattice_complete
    at = dict(zip(found.frames, found.world_from_camera))
    for f in missing:
        if f in at:
            off = float(rotations.angle_between(at[f], turn @ cameras[f]))
            assert off < 0.03 * STEP[0], "and nowhere else"
    assert set(missing) <= set(at)
    assert all(len(k.points_a) == 0 for k in links)
    assert {f for k in links for f in (k.a, k.b)} >= set(missing)


def test_a_foreign_frame_fills_no_gap():
    cameras, sphere = _lattice(ORDER), _sphere(6)
    working = [_frame(sphere, r) for r in cameras]
    working[5] = _frame(_sphere(7), cameras[5])
    tied = [i for i in range(12) if i != 5]
    poses = Poses(tuple(tied), (LENS,) * 11, np.stack([cameras[i] for i in tied]))
    found, links = filled(poses, [], [5], working)
    assert found.frames == poses.frames
    assert links == []


def test_a_flat_frame_fills_no_gap():
    """A clear sky agrees with any other: that is told by the grid, not by what is seen."""
    cameras = _lattice(ORDER)
    working = [_frame(np.full((1800, 2400), 120, np.uint8), r) for r in cameras]
    poses = Poses(tuple(range(11)), (LENS,) * 11, np.stack(cameras[:11]))
    assert filled(poses, [], [11], working)[0].frames == poses.frames


def test_what_stands_anywhere_shows_no_lattice():
    rng = np.random.default_rng(2)
    cameras = [rotations.from_yaw_pitch_roll(*rng.uniform(-0.4, 0.4, 2), 0.0) for _ in range(9)]
    working = [_frame(_sphere(3), r) for r in cameras]
    poses = Poses(tuple(range(8)), (LENS,) * 8, np.stack(cameras[:8]))
    assert filled(poses, [], [8], working)[0].frames == poses.frames


def test_a_frame_that_nothing_confirms_is_left_out_again():
    cameras = _lattice(ORDER)
    poses = Poses(tuple(range(12)), (LENS,) * 12, np.stack(cameras))
    rest, links = confirmed(poses, [], {5}, 10)
    assert 5 not in rest.frames
    assert (len(rest.frames), links) == (11, [])
