"""A frame of the ground taken by hand from another standpoint shows what the tripod hides; where it lies is known to the simulator."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from tests.helpers.reports import typed
from tests.helpers.sets import FrameFiles, render

from idle_lantern.cli.main import main
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.join.report_reading import solution_of
from idle_lantern.core.registration.match.features import working_frame
from idle_lantern.core.registration.solve.ground_plane import ground_frames, ground_masks, weakly_tied
from idle_lantern.core.registration.solve.poses import bend_at
from idle_lantern.core.registration.solve.solve import Solution, solve, working_of
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead

LENS = Lens("rectilinear", 420, 420, 600)
HAND = 6
#: What stands under the camera, as far from straight down as this: nothing in the place has that colour.
TRIPOD, TRIPOD_RAD = (210, 40, 190), np.radians(16)
#: How high the camera stood over the quay, and how far from there it was held in the hand (right, down, ahead), metres.
HEIGHT_M, BESIDE_M = 1.6, np.array([0.35, -0.1, 0.25])


@pytest.fixture(scope="module")
def ground_set(tmp_path_factory: pytest.TempPathFactory) -> FrameFiles:
    """A ring that looks down on the tripod, and a frame straight down, nearly, from beside and above it, without the tripod."""
    folder, other = (tmp_path_factory.mktemp(n) for n in ("clean", "tripod"))
    ring = render(folder, LENS, [(60.0 * i, -42.0, 0.0) for i in range(HAND)])
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 600 / 420)
    u, v = np.meshgrid(np.arange(420.0), np.arange(600.0))
    paths = []
    for path, camera in zip(ring.paths, ring.cameras):
        picture = read(path)
        pixels = picture.pixels.copy()
        pixels[(LENS.unproject(np.stack([u, v], -1)) @ camera.T)[..., 1] > np.cos(TRIPOD_RAD)] = TRIPOD
        paths.append(other / path.name)
        write(replace(picture, pixels=pixels), paths[-1], WriteOptions(jpeg_quality=95, metadata=meta))
    pose = SimulatedHead().pointed(35, -84, 8)
    camera = SimulatedCamera(LENS, 24.0, 24.0, pupil_m=tuple(pose.T @ BESIDE_M))
    paths.append(other / "hand.jpg")
    write(
        camera.expose(ring.scene, pose, CameraSettings(), seed=99),
        paths[-1],
        WriteOptions(jpeg_quality=95, metadata=meta),
    )
    return replace(ring, paths=tuple(paths), cameras=(*ring.cameras, pose))


@pytest.fixture(scope="module")
def solution(ground_set: FrameFiles) -> Solution:
    return solve(gather(ground_set.paths), JoinOptions())


def test_the_frame_lies_where_the_ground_says(ground_set: FrameFiles, solution: Solution):
    """Re-derived here: a place of the ground stands along another ray for a camera that stands elsewhere."""
    assert solution.placed_by == {**dict.fromkeys(range(HAND), "features"), HAND: "ground"}
    assert solution.reasons == {}
    assert solution.groups == [list(range(HAND + 1))]
    poses = solution.poses
    assert poses.frames[HAND] == HAND
    truth = ground_set.cameras
    world = rotations.nearest(np.sum([truth[i] @ poses.world_from_camera[i].T for i in range(HAND)], axis=0))
    x, z = np.meshgrid(np.linspace(-0.7, 1.2, 30), np.linspace(-0.7, 1.0, 30))
    ground = np.stack([x, np.full_like(x, HEIGHT_M), z], -1).reshape(-1, 3)
    really, valid = LENS.project((ground - BESIDE_M) @ truth[HAND])
    solved, _valid = poses.lenses[HAND].project(ground @ world @ poses.world_from_camera[HAND])
    bend = poses.bend(HAND)
    assert bend is not None
    found = solved + bend_at(bend, solved[None], poses.lenses[HAND])[0]
    inside = valid & (really > 0).all(1) & (really < [419, 599]).all(1)
    assert inside.sum() > 100
    miss = np.hypot(*(found - really)[inside].T)
    assert np.sqrt((miss**2).mean()) < 0.5
    assert miss.max() < 1.5


def test_a_patch_of_ground_that_agrees_with_a_turn_is_a_weak_tie(ground_set: FrameFiles, solution: Solution):
    """Without the plane the frame was tied by 20 of 236 points, and its ground lay beside that of the others."""
    poses = solution.poses
    assert weakly_tied(poses, solution.links) == {}
    firm = solution.links[0]
    agreeing = np.zeros(len(firm.points_a), bool)
    agreeing[:12] = True
    assert set(weakly_tied(poses, [replace(firm, inlier=agreeing)])) == {firm.a, firm.b}
    # a frame of the ring itself was taken from the tripod, and does not look straight down
    rest = poses.only(range(1, HAND))
    assert ground_frames(rest, working_of(solution), {0: LENS}) == {}


def test_a_frame_that_was_only_turned_is_none_from_elsewhere(ground_set: FrameFiles, tmp_path: Path):
    """From the tripod's place straight down: it fits the ground as well, and a turn does as much."""
    (nadir,) = render(tmp_path, LENS, [(20.0, -87.0, 0.0)], scene=ground_set.scene).paths
    frames = gather([*ground_set.paths[:HAND], nadir])
    solved = solve(gather(ground_set.paths[:HAND]), JoinOptions())
    store = DecodedFrames(frames.infos)
    working = [working_frame(f, store, 0.7) for f in range(HAND + 1)]
    assert ground_frames(solved.poses, working, {HAND: LENS}) == {}


def test_the_picture_shows_the_ground_where_the_tripod_stood(ground_set: FrameFiles, tmp_path: Path, capsys):
    out, report = tmp_path / "o.png", tmp_path / "r.json"
    frames = [str(p) for p in ground_set.paths]
    told = ["--projection", "stereographic", "--width", "900", "--report", str(report)]
    assert main(["join", *frames, "--out", str(out), *told]) == 0
    assert "Taken from another standpoint: hand.jpg" in capsys.readouterr().err
    told = json.loads(report.read_text())
    row = told["frames"][HAND]
    assert (row["used"], row["placed_by"]) == (True, "ground")
    # an outing that is opened again knows as much as was solved
    again = solution_of(typed(told), gather(ground_set.paths), 0.2)
    assert set(ground_masks(again.poses, again.placed_by)) == {HAND}
    assert again.poses.lenses[HAND].focal_px < again.poses.lenses[0].focal_px
    pixels = read(out).pixels.astype(int)
    pink = (pixels[..., 0] - pixels[..., 1] > 70) & (pixels[..., 2] - pixels[..., 1] > 60)
    # the frame reaches over all of the place but a corner; the ground is grey stone in one light
    assert pink.sum() < 0.1 * np.pi * (900 / 4 * np.tan(TRIPOD_RAD / 2) / np.tan(np.radians(50) / 2)) ** 2
    middle = pixels[380:520, 380:520].reshape(-1, 3)
    assert np.abs(middle - middle.mean(1, keepdims=True)).mean() < 14
