"""Parallax: the pupil found from tie points of a swung camera, and local warps that take it up."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
from tests.helpers.reports import report_of, typed
from tests.helpers.sets import render, rms

from idle_lantern.core.compositing.canvas.canvas import make_canvas
from idle_lantern.core.compositing.render.compose import compose_picture
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.join.report_reading import solution_of
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.adjust import adjust
from idle_lantern.core.registration.solve.local_warp import bent
from idle_lantern.core.registration.solve.parallax import Parallax, solve_parallax
from idle_lantern.core.registration.solve.poses import Poses, bend_at
from idle_lantern.core.registration.solve.solve import solve, working_of
from idle_lantern.simulator.truth import registration_error_px

LENS = Lens("rectilinear", 1000, 900, 1300)
COUNT = 5


def _swung(
    pupil_m: tuple[float, float, float], noise_px: float, seed: int = 0, lens: Lens = LENS
) -> tuple[Poses, list[Link]]:
    """A row turned about an axis beside the pupil, and its matches on ground from 2.9 m on and on things up to 200 m off."""
    rng = np.random.default_rng(seed)
    turned = np.stack([rotations.from_yaw_pitch_roll(math.radians(25 * i), 0.02 * (i % 2), 0) for i in range(COUNT)])
    poses = Poses(tuple(range(COUNT)), (lens,) * COUNT, turned)
    links = []
    for a in range(COUNT - 1):
        b = a + 1
        points = rng.uniform(0, [lens.width - 1, lens.height - 1], (3000, 2))
        # ground 1.6 m below the camera in the lower part, far things above
        down = (lens.unproject(points) @ turned[a].T)[:, 1]
        distance = np.where(points[:, 1] > 750, 1.6 / np.maximum(down, 0.02), rng.uniform(30, 200, 3000))
        offset = np.asarray(pupil_m)
        world = turned[a] @ offset + distance[:, None] * (lens.unproject(points) @ turned[a].T)
        local = (world - turned[b] @ offset) @ turned[b]
        seen = lens.sees(local)
        there = lens.project(local[seen])[0] + rng.normal(0, noise_px, (int(seen.sum()), 2))
        chosen = slice(0, 200)
        links.append(
            Link(a, b, points[seen][chosen], there[chosen], turned[b].T @ turned[a], np.ones(len(there[chosen]), bool))
        )
    return poses, links


@pytest.mark.parametrize(
    ("pupil_m", "k1"),
    [((0.0, 0.0, 0.02), 0.0), ((0.0, 0.0, -0.04), -0.05), ((0.03, 0.0, 0.03), 0.0), ((-0.02, 0.0, 0.01), 0.0)],
)
def test_the_pupil_is_found_where_it_stood(pupil_m: tuple[float, float, float], k1: float):
    poses, links = _swung(pupil_m, 0.05, lens=replace(LENS, k1=k1))
    plain = adjust(poses, links, [0] * COUNT, scale_px=0.5, focal_from_exif=True)
    found = solve_parallax(plain, links, [0] * COUNT, scale_px=0.5, focal_from_exif=True)
    assert found is not None
    freed, parallax, _things = found
    length = float(np.linalg.norm(pupil_m))
    angle = math.acos(min(1.0, float(np.dot(parallax.direction, pupil_m)) / length))
    assert angle < max(0.12, 4 * parallax.direction_sigma_rad)
    # the nearest twentieth of the ground lies at some 3 m
    assert parallax.offset_mm(3.0) == pytest.approx(1000 * length, rel=0.2)
    wanted = registration_error_px(poses.lenses[0], poses.world_from_camera, plain.lenses, plain.world_from_camera)
    error = registration_error_px(poses.lenses[0], poses.world_from_camera, freed.lenses, freed.world_from_camera)
    assert rms(error) < 0.5 * rms(wanted)
    assert rms(error) < 0.3


@pytest.mark.parametrize("k1", [0.0, -0.05])
def test_a_camera_turned_about_its_pupil_shows_none(k1: float):
    """Nor does the distortion of its lens look like any."""
    poses, links = _swung((0.0, 0.0, 0.0), 0.2, lens=replace(LENS, k1=k1))
    assert solve_parallax(poses, links, [0] * COUNT, scale_px=0.5, focal_from_exif=True) is None


@pytest.mark.parametrize(
    ("direction", "where", "remedy"),
    [
        ((0.0, 0.0, 1.0), "stood before the", "camera back"),
        ((0.0, 0.0, -1.0), "stood behind the", "camera forward"),
        ((0.7, 0.0, -0.7), "behind and right of", "forward and left"),
        ((-1.0, 0.0, 0.0), "left of", "right"),
    ],
)
def test_words_say_where_and_what_to_do(direction: tuple[float, float, float], where: str, remedy: str):
    sentence = Parallax(direction, 0.01, 0.01, 0.0005, 5.0).sentence(2.0)
    assert where in sentence
    assert remedy in sentence
    assert "20 mm as they stand 2 m off" in sentence


def test_warps_bring_matches_together_and_stay_flat_where_frames_agree():
    poses, links = _swung((0.0, 0.0, 0.06), 0.02)
    warped = bent(poses, links)
    assert warped.bends
    left, before = [], []
    for link in links:
        a, b = link.a, link.b
        at_a = link.points_a - _shift(warped, a, link.points_a)
        carried, _ = LENS.project(LENS.unproject(at_a) @ link.b_from_a.T)
        left.append(carried - (link.points_b - _shift(warped, b, link.points_b)))
        before.append(LENS.project(LENS.unproject(link.points_a) @ link.b_from_a.T)[0] - link.points_b)
    assert rms(np.concatenate(left)) < 0.35 * rms(np.concatenate(before))
    far = _shift(warped, 2, np.array([[450.0, 200.0], [300.0, 300.0]]))
    near = _shift(warped, 2, np.array([[850.0, 1200.0]]))
    assert np.abs(far).max() < 0.25 * np.abs(near).max()


def _shift(poses: Poses, i: int, points: np.ndarray) -> np.ndarray:
    bend = poses.bend(i)
    assert bend is not None
    return bend_at(bend, points[None], LENS)[0]


def test_frames_that_agree_are_not_bent():
    poses, links = _swung((0.0, 0.0, 0.0), 0.1)
    assert bent(poses, links) is poses


def test_near_fence_with_the_axis_off_the_pupil(tmp_path: Path):
    """Rope rail and paving from 2 m on, the axis 30 mm behind the pupil: found, absorbed, kept in the report."""
    lens = Lens("rectilinear", 700, 620, 900)
    files = render(tmp_path, lens, [(-42.0 + 28 * i, 0, 0) for i in range(4)], pupil_m=(0.0, 0.0, 0.03))
    frames = gather(files.paths)
    solution = solve(frames)
    assert solution.parallax is not None
    assert solution.parallax.direction[2] > 0.8
    # the terrace's nearest matched paving lies some three metres off
    assert 20 < solution.parallax.offset_mm(3.0) < 40
    canvas = make_canvas(solution.poses, solution.seen)
    joined = compose_picture(solution, canvas)
    report = report_of(solution, joined)
    assert rms(files.error_px(report)) < 0.4
    assert "back" in report["parallax"]["in_words"]
    again = solution_of(typed(report), frames, 0.2)
    assert again.parallax is not None
    # degrees in the file round the last digit
    assert again.parallax.direction == pytest.approx(solution.parallax.direction)
    kept = [
        (p.direction_sigma_rad, p.near_share, p.near_sigma, p.largest_px) for p in (again.parallax, solution.parallax)
    ]
    assert kept[0] == pytest.approx(kept[1])
    picture = compose_picture(again, canvas).picture
    assert np.abs(picture.pixels.astype(int) - joined.picture.pixels).mean() < 0.5
    # the warp matters: without it overlaps of the near ground differ more
    flat = replace(solution, poses=replace(solution.poses, bends=()))
    assert _disagreement(solution, canvas) < 0.75 * _disagreement(flat, canvas)


def _disagreement(solution, canvas) -> float:
    """Mean difference of neighbouring frames on the near ground of the canvas."""
    from idle_lantern.core.compositing.canvas.overview import make_overview

    overview = make_overview(solution.poses, working_of(solution), canvas, pixels=900_000)
    shape = (overview.canvas.height, overview.canvas.width)
    total, count = 0.0, 0
    for one, other in zip(overview.patches, overview.patches[1:]):
        pixels, there = np.zeros((*shape, 3), np.uint8), np.zeros(shape, bool)
        pixels[one.index], there[one.index] = one.pixels, one.inside
        shared = there[other.index] & other.inside
        shared[: int(0.7 * shape[0]) - other.top] = False
        difference = cv2.absdiff(pixels[other.index], other.pixels)[shared]
        total, count = total + float(difference.sum()), count + difference.size
    return total / count
