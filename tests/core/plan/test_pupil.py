"""Parallax by the axis off the pupil, against projections by OpenCV of a near and a far point."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from idle_lantern.core.geometry import rotations
from idle_lantern.core.plan.brief import Brief, Scene
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.kinds import KINDS
from idle_lantern.core.plan.neighbours import widest_turn_rad
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.pupil import need, shift_px, tolerance_mm
from idle_lantern.core.plan.rig import Rig


def _shift_by_projection(rig: Rig, off_mm: float, step_rad: float, near_m: float, far_m: float) -> float:
    """A near and a far point in one line from the axis, in the middle of the overlap, projected into two frames
    whose pupil swings round the axis; how much farther the near one jumps than the far one."""
    lens = rig.lens()
    matrix = np.array(
        [[lens.focal_px, 0, (lens.width - 1) / 2], [0, lens.focal_px, (lens.height - 1) / 2], [0, 0, 1.0]]
    )
    line = np.array([math.sin(step_rad / 2), 0.0, math.cos(step_rad / 2)])
    moved = []
    for distance in (near_m, far_m):
        places = []
        for turn in (0.0, step_rad):
            camera = rotations.about_y(turn)
            pupil = camera @ np.array([0.0, 0.0, off_mm / 1000])
            vector, _ = cv2.Rodrigues(camera.T)
            pixels, _ = cv2.projectPoints((line * distance - pupil)[None], vector, np.zeros(3), matrix, None)
            places.append(pixels[0, 0, 0])
        moved.append(places[0] - places[1])
    return abs(moved[0] - moved[1])


@pytest.mark.parametrize("near_m", [0.8, 2.0, 10.0])
@pytest.mark.parametrize("step_deg", [10, 25, 40])
def test_the_shift_agrees_with_projection(near_m: float, step_deg: float):
    rig = Rig(24, 16, 6000, 4000, 20)
    step = math.radians(step_deg)
    for off_mm in (30.0, -30.0, 300.0):  # a third of a metre at 0.8 m is no small share
        expected = _shift_by_projection(rig, off_mm, step, near_m, 1e9)
        assert shift_px(rig.lens(), off_mm, step, near_m, math.inf) == pytest.approx(expected, rel=1e-5)
        expected = _shift_by_projection(rig, off_mm, step, near_m, 12.0)
        assert shift_px(rig.lens(), off_mm, step, near_m, 12.0) == pytest.approx(expected, rel=1e-5)


def test_tolerance_is_where_the_shift_is_what_is_allowed():
    lens = Rig(36, 24, 6000, 4000, 35).lens()
    tolerance = tolerance_mm(lens, 0.5, 1.5, 30.0, 2.0)
    assert shift_px(lens, tolerance, 0.5, 1.5, 30.0) == pytest.approx(2.0)


def test_near_things_make_it_critical_and_far_ones_forgive():
    """Common practice, no source: distant landscapes forgive turning about the tripod screw."""
    rig = Rig(24, 16, 6000, 4000, 20)
    frames = [GridFrame(i + 1, 1, i + 1, 25.0 * i, 0.0) for i in range(3)]
    assert need(rig, frames, Scene(near_m=1.0), 0, 2).tolerance_mm < 3
    landscape = need(rig, frames, Scene(near_m=500.0), 0, 2)
    assert landscape.tolerance_mm > 300
    assert not landscape.matters
    assert tolerance_mm(rig.lens(), 0.4, 50.0, 50.0) == math.inf


def test_the_step_matters_as_much_as_the_distance():
    lens = Rig(24, 16, 6000, 4000, 50).lens()
    assert shift_px(lens, 20, math.radians(20), 3, math.inf) > 1.9 * shift_px(lens, 20, math.radians(10), 3, math.inf)


def _grid(yaws: list[float], pitches: list[float]) -> list[GridFrame]:
    places = [(y, p) for p in pitches for y in yaws]
    return [GridFrame(i + 1, pitches.index(p) + 1, yaws.index(y) + 1, y, p) for i, (y, p) in enumerate(places)]


@pytest.mark.parametrize(
    ("frames", "turn_deg"),
    [
        (_grid([0.0], [-16.0, 0.0, 16.0]), 16.0),  # one column: the tilt is the turn
        (_grid([0.0, 10.0], [-16.0, 0.0, 16.0]), 16.0),  # the taller step decides
        (_grid([0.0, 22.0, 44.0], [0.0, 12.0]), 22.0),  # and not the diagonal of 25 degrees
        # a row at 60 degrees turns by half of its yaw: cos a = sin^2 p + cos^2 p cos(yaw)
        (
            _grid([0.0, 30.0, 60.0], [60.0]),
            math.degrees(math.acos(0.75 + 0.25 * math.cos(math.radians(30)))),
        ),
        (_grid([0.0, 0.5, 20.0, 20.5], [0.0]), 20.0),  # repeats beside each other
        # three round and one straight up: the ring's seam is no nearer to the fourth, though that is only 90 degrees away
        ([*_grid([0.0, 120.0, 240.0], [0.0]), GridFrame(4, 2, 1, 0.0, 90.0)], 120.0),
        (_grid([0.0], [0.0]), 0.0),
        (_grid([0.0, 120.0], [0.0]), 0.0),  # too far apart to meet
    ],
)
def test_the_widest_turn_is_that_between_frames_that_meet(frames: list[GridFrame], turn_deg: float):
    fisheye = turn_deg > 90
    lens = Rig(36, 24, 6000, 4000, 8 if fisheye else 50, "equisolid" if fisheye else "rectilinear").lens()
    assert math.degrees(widest_turn_rad(lens, frames)) == pytest.approx(turn_deg, abs=0.6)


@settings(max_examples=12, deadline=None)
@given(
    st.floats(8.0, 28.0),
    st.floats(8.0, 20.0),
    st.integers(1, 5),
    st.integers(1, 4),
    st.floats(-49.0, 49.0),  # from 50 on no row is left, and yaws for that height would be set at the horizon
    st.randoms(),
)
def test_the_widest_turn_agrees_with_dense_seams(
    across: float, up: float, columns: int, rows: int, pitch: float, chance: Any
):
    """Own derivation: the frame nearest to each of many directions owns it; owners that change hands along more than a
    point meet in a seam."""
    yaws = [i * across / math.cos(math.radians(pitch)) for i in range(columns)]
    pitches = [p for p in (pitch + j * up for j in range(rows)) if abs(p) < 50]
    frames = _grid([y for y in yaws if y < 300], pitches or [0.0])
    chance.shuffle(frames)
    lens = Rig(36, 24, 6000, 4000, 35).lens()
    axes = np.array(
        [
            [math.cos(p) * math.sin(y), -math.sin(p), math.cos(p) * math.cos(y)]
            for y, p in ((math.radians(f.yaw_deg), math.radians(f.pitch_deg)) for f in frames)
        ]
    )
    grid = np.radians(np.stack(np.meshgrid(np.arange(-30, 330, 0.7), np.arange(-89, 89, 0.7)), -1))
    looks = np.stack(
        [
            np.cos(grid[..., 1]) * np.sin(grid[..., 0]),
            -np.sin(grid[..., 1]),
            np.cos(grid[..., 1]) * np.cos(grid[..., 0]),
        ],
        -1,
    )
    towards = looks @ axes.T
    owner = np.where(towards.max(-1) > math.cos(math.radians(34)), towards.argmax(-1), -1)
    met: dict[tuple[int, int], float] = {}
    narrowing = np.cos(grid[..., 1])
    for one, other, long in (
        (owner[:, :-1], owner[:, 1:], np.full_like(narrowing, 0.7)[:, 1:]),
        (owner[:-1], owner[1:], 0.7 * narrowing[1:]),
    ):
        change = (one != other) & (one >= 0) & (other >= 0)
        for a, b, length_deg in zip(one[change].tolist(), other[change].tolist(), long[change].tolist()):
            met[min(a, b), max(a, b)] = met.get((min(a, b), max(a, b)), 0.0) + length_deg
    long_seams = [pair for pair, length_deg in met.items() if length_deg >= 0.5 * min(across, up)]
    expected = max((math.acos(min(1.0, axes[a] @ axes[b])) for a, b in long_seams), default=0.0)
    assert widest_turn_rad(lens, frames) == pytest.approx(expected, rel=0.12, abs=0.01)


def test_a_column_is_as_strict_as_its_tilt_asks():
    """Vertical panorama, 50 mm on 36 x 24 mm sideways, 5 m: too lax by two thirds where only turns of a row counted."""
    start = next(k for k in KINDS if k.id == "vertical").start(Brief())
    rig = replace(
        start.rig, sensor_width_mm=36, sensor_height_mm=24, width_px=6000, height_px=4000, focal_mm=50, upright=False
    )
    plan = make_plan(replace(start, rig=rig, target_field=replace(start.target_field, left_deg=-9, right_deg=9)))
    pitches = sorted({f.pitch_deg for f in plan.frames})
    tilt = max(b - a for a, b in zip(pitches, pitches[1:]))
    assert plan.pupil.step_deg == pytest.approx(tilt, rel=0.1)
    lens = plan.rig.lens()
    assert plan.pupil.tolerance_mm == pytest.approx(tolerance_mm(lens, math.radians(tilt), 5.0, math.inf), rel=0.12)
