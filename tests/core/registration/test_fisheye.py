"""Fisheyes: which mapping, and what lies outside the image circle."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from tests.helpers.reports import report_of
from tests.helpers.sets import Angles, render, rms

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import make_canvas
from idle_lantern.core.compositing.render.compose import compose_picture
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.geometry.lenses import FISHEYES, Lens
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.match.image_circle import image_circle_px
from idle_lantern.core.registration.solve.refine_solution import told_as
from idle_lantern.core.registration.solve.solve import solve

ROUND: list[Angles] = [(60.0 * i, 0, 0) for i in range(6)]


@pytest.mark.parametrize(("model", "focal_px"), [("stereographic", 194.0)])
def test_mapping_is_found_from_the_matches(model: str, focal_px: float, tmp_path: Path):
    """Six round without metadata; the equidistant and the equisolid one are tried elsewhere.

    This one, 164 degrees from corner to corner, looks most like a rectilinear lens with much distortion.
    """
    lens = Lens(model, focal_px, 400, 540)
    files = render(tmp_path, lens, ROUND, metadata=False)
    solution = solve(gather(files.paths))
    found = solution.poses.lenses[0]
    assert len(solution.poses.frames) == 6
    assert found.model == model
    assert found.focal_px == pytest.approx(focal_px, rel=3e-3)
    report = report_of(solution, compose_picture(solution, make_canvas(solution.poses, solution.seen, width_px=600)))
    assert rms(files.error_px(report)) < 0.1


def test_a_wide_lens_with_strong_distortion_is_no_fisheye(tmp_path: Path):
    """96 degrees across with twelve per cent at the sides: told as what it is, without metadata."""
    lens = Lens("rectilinear", 270, 600, 450, k1=-0.08)
    files = render(tmp_path, lens, [(-50.0 + 50 * i, p, 0) for p in (14, -14) for i in range(3)], metadata=False)
    found = solve(gather(files.paths)).poses.lenses[0]
    assert found.model == "rectilinear"
    assert found.focal_px == pytest.approx(270, rel=3e-3)
    assert found.k1 == pytest.approx(-0.08, abs=0.01)


@pytest.mark.parametrize("model", FISHEYES)
def test_models_tell_each_other(model: str):
    """A lens told by another model lies within one and a half per cent of the focal length, and by its own exactly."""
    lens = Lens("equidistant", 300, 400, 540, k1=-0.02)
    told = told_as(model, lens)
    theta = np.linspace(0, 1.0, 20)
    off = np.abs(told.radius_px(theta) - lens.radius_px(theta)).max()
    assert off < (1e-6 if model == lens.model else 0.015 * 300)


def test_dark_surround_of_a_circular_fisheye_never_shows(tmp_path: Path):
    lens = Lens("equisolid", 120, 420, 420, circle_px=180)
    files = render(tmp_path, lens, [(72.0 * i, 0, 0) for i in range(5)], metadata=False)
    solution = solve(gather(files.paths))
    assert len(solution.poses.frames) == 5
    assert solution.poses.lenses[0].circle_px == pytest.approx(180, rel=0.03)
    assert solution.poses.lenses[0].circle_px < 180
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
