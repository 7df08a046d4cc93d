"""Parallax by the axis off the pupil, against projections by OpenCV of a near and a far point."""

from __future__ import annotations

import math

import cv2
import numpy as np
import pytest

from idle_lantern.core.geometry import rotations
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
    expected = _shift_by_projection(rig, 30.0, step, near_m, 1e6)
    assert shift_px(rig.lens(), 30.0, step, near_m, math.inf) == pytest.approx(
        expected, rel=0.045
    )  # 30 mm of 0.8 m are 4 %


def test_tolerance_is_where_the_shift_is_what_is_allowed():
    lens = Rig(36, 24, 6000, 4000, 35).lens()
    tolerance = tolerance_mm(lens, 0.5, 1.5, 30.0, 2.0)
    assert shift_px(lens, tolerance, 0.5, 1.5, 30.0) == pytest.approx(2.0)


def test_near_things_make_it_critical_and_far_ones_forgive():
    """Common practice, no source: distant landscapes forgive turning about the tripod screw."""
    rig = Rig(24, 16, 6000, 4000, 20)
    assert need(rig, 25, 1.0, math.inf, 0, 2).tolerance_mm < 3
    landscape = need(rig, 25, 500.0, math.inf, 0, 2)
    assert landscape.tolerance_mm > 300
    assert not landscape.matters
    assert tolerance_mm(rig.lens(), 0.4, 50.0, 50.0) == math.inf


def test_the_step_matters_as_much_as_the_distance():
    lens = Rig(24, 16, 6000, 4000, 50).lens()
    assert shift_px(lens, 20, math.radians(20), 3, math.inf) > 1.9 * shift_px(lens, 20, math.radians(10), 3, math.inf)
