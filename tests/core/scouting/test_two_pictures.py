"""Two pictures of a place: how far things are by a step between them, and what moved meanwhile."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
from tests.helpers.sets import render
from tests.helpers.telephone import LENS as TELEPHONE

from idle_lantern.cli.main import main
from idle_lantern.core.base.errors import InputError, JoinError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.scouting.changed import changes
from idle_lantern.core.scouting.distance import Distances, _triangulated, distances, of_photographs
from idle_lantern.core.scouting.ground import UnknownAngle
from idle_lantern.core.scouting.reprojection import moved, read_reprojected
from idle_lantern.core.scouting.scout import laid_beside, scouted
from idle_lantern.simulator.camera import SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.surfaces import SurfaceView

LENS = Lens("rectilinear", 820, 1000, 750)
STEP = (0.7, 0.0, 0.05)


@pytest.fixture(scope="module")
def pair() -> tuple[Picture, Picture, SurfaceView]:
    """Two photographs a step of 0.70 m apart, held a little otherwise, and the true distances of the first."""
    scene, camera = ambrel_holm(walkers=0), SimulatedCamera(LENS, 24.0, 24.0 * LENS.width / LENS.focal_px)
    first = camera.view(scene, SimulatedHead(play_deg=0).pointed(25, -4, 0))
    second = replace(camera, pupil_m=STEP).view(scene, SimulatedHead(play_deg=0).pointed(26.5, -3, 0.6))
    return camera.develop(first, seed=1), camera.develop(second, seed=2), first


def test_triangulation_is_that_of_a_worked_example():
    """By hand: a thing 3 m ahead and 4 m to the right is 5 m away; seen from 1 m to the right it lies at (3, 3) and 4.243 m."""
    a, b = np.array([[4.0, 0.0, 3.0]]), np.array([[3.0, 0.0, 3.0]])
    metres, sigma = _triangulated(a, b, np.eye(3), np.array([-1.0, 0.0, 0.0]), 1e-4)
    assert metres[0] == pytest.approx(5.0)
    # the angle between the rays is 53.13 - 45 degrees
    assert sigma[0] == pytest.approx(5.0 * math.sqrt(2) * 1e-4 / math.sin(math.radians(8.1301)), rel=1e-3)
    far, _ = _triangulated(a, a, np.eye(3), np.array([-1.0, 0.0, 0.0]), 1e-4)
    assert math.isinf(far[0])


def test_distances_are_the_true_ones_within_their_errors(pair: tuple[Picture, Picture, SurfaceView]):
    """2 to 20 m: the truth is the simulator's depth along each ray."""
    found = distances(pair[0].pixels, pair[1].pixels, LENS, LENS, math.hypot(*STEP))
    azimuth, altitude = np.radians(found.azimuth_deg), np.radians(found.altitude_deg)
    rays = np.stack([np.sin(azimuth) * np.cos(altitude), -np.sin(altitude), np.cos(azimuth) * np.cos(altitude)], -1)
    u, v = np.rint(LENS.project(rays)[0]).astype(int).T
    true = pair[2].distance_m[v, u]
    known = np.isfinite(found.metres) & (found.sigma_m < 0.25 * found.metres) & (true > 2) & (true < 20)
    assert known.sum() > 100
    off = found.metres[known] / true[known] - 1
    assert np.median(np.abs(off)) < 0.01
    assert np.percentile(np.abs(off), 90) < 0.1
    normalised = np.median(np.abs(found.metres[known] - true[known]) / found.sigma_m[known])
    assert 0.2 < normalised < 1.5, "the errors that are told are about those that are made"
    nearest = found.nearest()
    assert nearest is not None
    assert nearest[0] == pytest.approx(float(np.quantile(pair[2].distance_m, 0.01)), rel=0.05)
    assert found.about(170.0, 0.0) is None


@pytest.mark.parametrize(
    ("yaw_deg", "step"),
    [(-60.0, (0.8, 0.05, -0.1))],
)
def test_the_nearest_thing_need_hold_no_point_that_matches(yaw_deg: float, step: tuple[float, float, float]):
    """Told was the nearest point that matched, up to a half too far: between the points each place's shift tells. Steps to
    either side and up; the truth is the distance that a hundredth of the simulator's picture comes nearer than."""
    scene, camera = ambrel_holm(walkers=0), SimulatedCamera(LENS, 24.0, 24.0 * LENS.width / LENS.focal_px)
    first = camera.view(scene, SimulatedHead(play_deg=0).pointed(yaw_deg, -6, 0))
    second = replace(camera, pupil_m=step).view(scene, SimulatedHead(play_deg=0).pointed(yaw_deg + 1.2, -5, 0.5))
    pictures = [camera.develop(view, seed=i).pixels for i, view in enumerate((first, second))]
    found = distances(*pictures, LENS, LENS, math.hypot(*step))
    assert found.dense is not None
    assert found.dense.known > 0.3
    u, v = np.rint(LENS.project(found.dense.rays)[0]).astype(int).T
    near = found.dense.metres < 20
    off = found.dense.metres[near] / first.distance_m[v.clip(0, 749), u.clip(0, 999)][near] - 1
    assert abs(np.median(off)) < 0.02
    told = found.nearest()
    assert told is not None
    true = float(np.quantile(first.distance_m, 0.01))
    assert abs(told[0] - true) < 3 * told[1] < 0.15 * true


def test_a_bare_wall_is_no_other_place():
    wall = np.full((750, 1000, 3), 190, np.uint8) + np.random.default_rng(1).integers(0, 3, (750, 1000, 3), np.uint8)
    with pytest.raises(JoinError, match="distance is not known here"):
        distances(wall, wall, LENS, LENS, 0.7)


def test_a_few_wrong_matches_are_no_near_thing():
    """Repeated windows gave three points at 1.3 m before a wall at 9 m."""
    metres = np.array([1.3, 1.31, 1.29, *[9.0] * 12])
    told = Distances(np.zeros(15), np.zeros(15), metres, 0.01 * metres, np.eye(3), np.zeros(3)).nearest()
    assert told is not None
    assert told[0] == pytest.approx(9.0)


def test_what_tells_no_distance_is_told_so(pair: tuple[Picture, Picture, SurfaceView], tmp_path: Path):
    rng = np.random.default_rng(2)
    noise = rng.integers(0, 255, (750, 1000, 3), dtype=np.uint8)
    with pytest.raises(JoinError, match=r"same place|matched"):
        distances(pair[0].pixels, noise, LENS, LENS, 0.7)
    for i, picture in enumerate(pair[:2]):
        write(picture, tmp_path / f"{i}.png", WriteOptions())
    with pytest.raises(UnknownAngle):
        of_photographs(tmp_path / "0.png", tmp_path / "1.png", 0.7)
    with pytest.raises(InputError, match="step"):
        of_photographs(tmp_path / "0.png", tmp_path / "1.png", 0.0)
    wide = 2 * math.degrees(math.atan(500 / 820))
    found = of_photographs(tmp_path / "0.png", tmp_path / "1.png", math.hypot(*STEP), wide)
    assert np.linalg.norm(found.step) == pytest.approx(math.hypot(*STEP))
    assert found.step[0] > 0.6, "to the right, as it was"


def test_the_command_tells_the_nearest_thing(pair: tuple[Picture, Picture, SurfaceView], tmp_path: Path):
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 1000 / 820)
    for i, picture in enumerate(pair[:2]):
        write(picture, tmp_path / f"{i}.jpg", WriteOptions(jpeg_quality=95, metadata=meta))
    out = tmp_path / "r.json"
    two = [str(tmp_path / f"{i}.jpg") for i in range(2)]
    assert main(["scout", *two, "--step", "0.702", "--json", str(out)]) == 0
    told = json.loads(out.read_text())
    assert told["nearest"]["metres"] == pytest.approx(float(pair[2].distance_m.min()), rel=0.15)
    assert told["ground"]["width"] == 1000, "the ground is that of the first"
    assert main(["scout", two[0], "--step", "0.7"]) == 2


def test_figures_that_went_away_are_found_and_nothing_else(tmp_path: Path):
    """Where figures stand is known from the simulator's depths with and without them."""
    made, truth = [], []
    for name, walkers in (("a", 8), ("b", 0)):
        (tmp_path / name).mkdir()
        looks = [(-8 + 26 * i, 0.0, 0.0) for i in range(2)]
        files = render(tmp_path / name, TELEPHONE, looks, scene=ambrel_holm(walkers=walkers))
        kept, data = scouted(files.paths)
        (tmp_path / f"{name}.png").write_bytes(data)
        made.append((kept, data, read_reprojected(kept, tmp_path / f"{name}.png"), files))
    camera = SimulatedCamera(TELEPHONE, 24.0, 24.0 * TELEPHONE.width / TELEPHONE.focal_px)
    poses = made[0][3].cameras
    middle = np.mean([math.degrees(math.atan2(c[0, 2], c[2, 2])) for c in (poses[0], poses[-1])])
    for pose in poses:
        with_them, without = (camera.view(ambrel_holm(walkers=n), pose).distance_m for n in (8, 0))
        count, _labels, stats, at = cv2.connectedComponentsWithStats((with_them != without).astype(np.uint8))
        for k in range(1, count):
            if stats[k, cv2.CC_STAT_AREA] > 60:
                ray = pose @ TELEPHONE.unproject(at[k])
                truth.append(math.degrees(math.atan2(ray[0], ray[2])) - middle)
    _, _, ground, _ = made[0]
    kept, data, other, _ = made[1]
    other = moved(other, laid_beside(kept, data, ground, 0.0, others=True))
    assert changes(ground, ground) == ()
    found = changes(ground, other)
    assert len(found) >= 2
    for change in found:
        assert min(abs(change.azimuth_deg - t) for t in truth) < 3.0, change
        assert change.altitude_deg < -4
        assert change.width_deg < 6
