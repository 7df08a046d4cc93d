"""Fisheyes: which mapping, and what lies outside the image circle."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from tests.helpers.sets import Angles, render, rms

from idle_lantern.core.base.picture import Picture
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.geometry.lenses import FISHEYES, Lens
from idle_lantern.core.join.canvas import make_canvas
from idle_lantern.core.join.composing import compose_picture
from idle_lantern.core.join.features import WorkingFrame
from idle_lantern.core.join.image_circle import image_circle_px
from idle_lantern.core.join.report import report_of
from idle_lantern.core.join.solving import solve

ROUND: list[Angles] = [(60.0 * i, 0, 0) for i in range(6)]


@pytest.mark.parametrize("model", FISHEYES[1:])
def test_mapping_is_found_from_the_matches(model: str, tmp_path: Path):
    """Six round without metadata; the equidistant one is tried elsewhere."""
    lens = Lens(model, 250, 400, 540)
    files = render(tmp_path, lens, ROUND, metadata=False)
    solution = solve(gather(files.paths))
    found = solution.poses.lenses[0]
    assert len(solution.poses.frames) == 6
    assert found.model == model
    assert found.focal_px == pytest.approx(250, rel=3e-3)
    report = report_of(
        solution, compose_picture(solution, make_canvas(solution.poses, solution.seen, width_px=600)), crop=False
    )
    assert rms(files.error_px(report)) < 0.1


def test_dark_surround_of_a_circular_fisheye_never_shows(tmp_path: Path):
    lens = Lens("equisolid", 200, 700, 700, circle_px=300)
    files = render(tmp_path, lens, [(72.0 * i, 0, 0) for i in range(5)], metadata=False)
    solution = solve(gather(files.paths))
    assert len(solution.poses.frames) == 5
    assert solution.poses.lenses[0].circle_px == pytest.approx(300, rel=0.03)
    assert solution.poses.lenses[0].circle_px < 300
    picture = compose_picture(solution, make_canvas(solution.poses, solution.seen)).picture
    assert picture.alpha is not None
    shown = picture.pixels[picture.alpha > 0]
    assert (shown.max(1) < 10).mean() < 0.002


def test_a_filled_frame_has_no_circle_even_at_night():
    rng = np.random.default_rng(2)
    dark = [WorkingFrame(Picture(rng.integers(0, 9, (80, 120, 3), dtype=np.uint8)), (1.0, 1.0)) for _ in range(3)]
    bright = [WorkingFrame(Picture(rng.integers(60, 200, (80, 120, 3), dtype=np.uint8)), (1.0, 1.0)) for _ in range(3)]
    assert image_circle_px(dark) is None
    assert image_circle_px(bright) is None
    y, x = np.mgrid[:80, :120]
    lit = np.hypot(x - 59.5, y - 39.5) < 36
    ringed = [WorkingFrame(Picture(np.where(lit[..., None], 90, 2).astype(np.uint8).repeat(3, -1)), (2.0, 2.0))] * 3
    found = image_circle_px(ringed)
    assert found is not None
    assert math.isclose(found, 72, rel_tol=0.03)
