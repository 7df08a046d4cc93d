"""Files with two circles side by side: split, and joined to a sphere that is that of the scene."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.helpers.commands import run_command

from idle_lantern.core.frames.two_circles import circles_of
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera
from idle_lantern.simulator.diorama import ambrel_holm

RADIUS = 330.0
HALF_DEG = 99.0
LENS = Lens("equidistant", RADIUS / np.radians(HALF_DEG), 700, 700, circle_px=RADIUS)
#: What the second lens misses of an exact half turn, in degrees about right, down and forward.
MISSED = (0.4, -0.7, 1.1)


@pytest.fixture(scope="module")
def file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    camera, scene = SimulatedCamera(LENS, 8.0, 24.0), ambrel_holm(walkers=0)
    first = rotations.from_yaw_pitch_roll(*np.radians((20.0, 0.0, 0.0)))
    second = first @ rotations.from_vector(np.radians(MISSED)) @ rotations.about_y(np.pi)
    halves = [camera.expose(scene, r, CameraSettings(), seed=i).pixels for i, r in enumerate((first, second))]
    path = tmp_path_factory.mktemp("two") / "both.jpg"
    Image.fromarray(np.concatenate(halves, 1)).save(path, quality=95)
    return path


def test_the_circles_are_found_to_a_pixel(file: Path, row_set):
    left, right = circles_of(file)
    for circle, u in ((left, 349.5), (right, 1049.5)):
        assert (circle.u, circle.v) == (pytest.approx(u, abs=1.5), pytest.approx(349.5, abs=1.5))
        assert circle.radius == pytest.approx(RADIUS, abs=3)
    assert circles_of(row_set.paths[0]) is None


def test_a_wide_picture_is_no_pair_of_circles(tmp_path: Path):
    Image.fromarray(np.full((300, 600, 3), 120, np.uint8)).save(tmp_path / "a.png")
    assert circles_of(tmp_path / "a.png") is None


def test_both_halves_become_one_sphere(file: Path, tmp_path: Path):
    done = run_command("join", file, "--out", tmp_path / "s.jpg", "--report", tmp_path / "r.json")
    assert done.returncode == 0, done.stderr
    report = json.loads((tmp_path / "r.json").read_text())
    first, second = (np.array(f["pose"]["rotation"]) for f in report["frames"])
    turn = first.T @ second
    truth = rotations.from_vector(np.radians(MISSED)) @ rotations.about_y(np.pi)
    apart = np.degrees(np.linalg.norm(rotations.to_vector(turn.T @ truth)))
    # a third of a degree is a pixel here, and a circle's middle is found to half of one
    assert apart < 0.2
    assert report["rms_px"] < 0.2
    assert report["frames"][0]["lens"]["focal_px"] == pytest.approx(LENS.focal_px, rel=0.001)
    assert report["canvas"]["projection"] == "equirectangular"
    assert report["canvas"]["width"] == 2 * report["canvas"]["height"]
    assert report["canvas"]["full_circle"]
