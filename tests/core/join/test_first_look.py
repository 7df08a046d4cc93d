"""The quick first look, what it ties, and tie points that no descriptor matched."""

from __future__ import annotations

import math
import subprocess
import sys
from dataclasses import replace

import cv2
import numpy as np
import pytest
from skimage import data as photographs_of_skimage

from idle_lantern.core.base.memory import peak_rss_mib
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import make_canvas
from idle_lantern.core.compositing.seams import graph_cut
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.detect import seen_closer
from idle_lantern.core.registration.match.features import (
    ORB,
    SIFT,
    WorkingFrame,
    find_features,
    quick_features,
)
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.match.pairs import match
from idle_lantern.core.registration.solve.adjust import adjust, best_lens
from idle_lantern.core.registration.solve.covered_field import field_of
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.tie_points import register_tie_points, smoothed

LENS = Lens("rectilinear", 1000, 1200, 900)


@pytest.fixture(scope="module")
def coffee() -> np.ndarray:
    """A photograph of the registry package scikit-image, 400 x 600."""
    return np.ascontiguousarray(photographs_of_skimage.coffee())


def _look(pixels: np.ndarray) -> WorkingFrame:
    return WorkingFrame(Picture(pixels), (1.0, 1.0))


def test_likeness_of_quick_features_is_opencvs_hamming_distance(coffee: np.ndarray):
    """1 - 2 x distance / 256, with the distances of ``cv2.BFMatcher``."""
    found = quick_features(_look(coffee), 60)
    bits = np.packbits(found.descriptors > 0, axis=1)
    matches = cv2.BFMatcher(cv2.NORM_HAMMING).match(bits[:30], bits[30:])
    likeness = found.descriptors[:30] @ found.descriptors[30:].T
    for m in matches:
        assert likeness[m.queryIdx, m.trainIdx] == pytest.approx(1 - 2 * m.distance / 256, abs=1e-5)
        assert likeness[m.queryIdx].max() == pytest.approx(likeness[m.queryIdx, m.trainIdx], abs=1e-5)


@pytest.mark.parametrize(("look", "kind"), [(quick_features, ORB), (find_features, SIFT)])
def test_features_of_a_turned_and_darker_photograph_are_matched(coffee: np.ndarray, look, kind):
    """Against the known map: nine tenths of the matches are right to three pixels."""
    turn = cv2.getRotationMatrix2D((300, 200), 25, 0.9)
    other = (cv2.warpAffine(coffee, turn, (600, 400)) * 0.6).astype(np.uint8)
    one, two = look(_look(coffee), 900), look(_look(other), 900)
    assert one.kind is kind
    a, b = match(one, two)
    carried = one.points_px[a] @ turn[:, :2].T + turn[:, 2]
    right = np.linalg.norm(carried - two.points_px[b], axis=1) < 3
    assert len(a) > 100
    assert right.mean() > 0.9


def test_quick_features_are_spread_over_the_frame(coffee: np.ndarray):
    """A frame of which one quarter is busy and the rest faint still gives points everywhere."""
    faint = (coffee.astype(int) // 3 + 80).astype(np.uint8)
    faint[:200, :300] = coffee[:200, :300]
    points = quick_features(_look(faint), 400).points_px
    assert ((points[:, 0] < 300) & (points[:, 1] < 200)).mean() < 0.6
    assert (points[:, 0] > 450).sum() > 15


# --- tie points without a match ----------------------------------------------------------------


def _turned_pair(noise: float = 0.0) -> tuple[Poses, np.ndarray, np.ndarray]:
    """Two frames of one random texture, the second turned by a known angle, made by exact warping."""
    rng = np.random.default_rng(3)
    texture = cv2.GaussianBlur(rng.integers(0, 255, (900, 1200)).astype(np.float32), (0, 0), 1.0)
    one = cv2.normalize(texture, None, 20, 235, cv2.NORM_MINMAX)
    poses = Poses(
        (0, 1), (LENS, LENS), np.stack([np.eye(3), rotations.from_yaw_pitch_roll(math.radians(12), 0.02, 0.03)])
    )
    v, u = np.mgrid[0:900, 0:1200].astype(float)
    at_a, _ = LENS.project(LENS.unproject(np.stack([u, v], -1)) @ poses.world_from_camera[1].T)
    two = cv2.remap(one, at_a.astype(np.float32), None, cv2.INTER_CUBIC)
    two = two + rng.normal(0, noise, two.shape)
    return poses, np.clip(one, 0, 255).astype(np.uint8), np.clip(two, 0, 255).astype(np.uint8)


def test_places_without_a_match_become_exact_tie_points():
    """From poses that are a pixel off, unmatched places are found to a few hundredths of a pixel."""
    poses, one, two = _turned_pair()
    rng = np.random.default_rng(4)
    more = rng.uniform([300, 50], [1150, 850], (120, 2))
    off = poses.world_from_camera.copy()
    off[1] = off[1] @ rotations.from_vector(np.array([0.001, -0.0008, 0.0]))
    link = Link(0, 1, np.zeros((0, 2)), np.zeros((0, 2)), inlier=np.zeros(0, bool))
    found = register_tie_points(
        link, smoothed(one), smoothed(two), replace(poses, world_from_camera=off), rng, more_a=more
    )
    assert found.inliers > 60
    b_from_a = poses.world_from_camera[1].T @ poses.world_from_camera[0]
    true, _ = LENS.project(LENS.unproject(found.points_a) @ b_from_a.T)
    assert np.median(np.linalg.norm(true - found.points_b, axis=1)) < 0.05


def test_places_that_the_other_frame_does_not_show_are_no_tie_points():
    poses, one, _ = _turned_pair()
    elsewhere = cv2.GaussianBlur(np.random.default_rng(9).integers(0, 255, one.shape).astype(np.uint8), (0, 0), 1.0)
    more = np.random.default_rng(4).uniform([300, 50], [1150, 850], (120, 2))
    link = Link(0, 1, np.zeros((0, 2)), np.zeros((0, 2)), inlier=np.zeros(0, bool))
    found = register_tie_points(link, smoothed(one), smoothed(elsewhere), poses, np.random.default_rng(0), more_a=more)
    assert found.inliers == 0


# --- no more lens than the tie points ask for ---------------------------------------------------


@pytest.mark.parametrize(("k1", "kept"), [(0.0, False), (-0.004, True), (-0.05, True)])
def test_distortion_stays_only_where_the_tie_points_ask_for_it(k1: float, kept: bool):
    """A tenth of a pixel of noise; k1 of -0.004 moves the corners by 1.7 px."""
    rng = np.random.default_rng(5)
    lens = replace(LENS, k1=k1)
    turned = np.stack([rotations.from_yaw_pitch_roll(math.radians(25 * i), 0, 0) for i in range(4)])
    links = []
    for i in range(3):
        b_from_a = turned[i + 1].T @ turned[i]
        points = rng.uniform([0, 0], [1199, 899], (3000, 2))
        local = lens.unproject(points) @ b_from_a.T
        points, local = points[lens.sees(local)][:150], local[lens.sees(local)][:150]
        there = lens.project(local)[0] + rng.normal(0, 0.1, (len(points), 2))
        links.append(Link(i, i + 1, points, there, b_from_a, np.ones(len(points), bool)))
    start = Poses((0, 1, 2, 3), (LENS,) * 4, turned)
    fitted = adjust(start, links, [0] * 4, scale_px=0.5)
    assert fitted.lenses[0].k1 != 0
    found = best_lens(fitted, links, [0] * 4, scale_px=0.5)
    assert (found.lenses[0].k1 != 0) is kept
    assert found.lenses[0].focal_px == pytest.approx(1000, rel=1e-3)


# --- wide belts ----------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", range(4))
def test_a_wide_belt_cut_in_two_sizes_is_nearly_as_cheap_as_cut_at_once(seed: int):
    """Within three per cent of the exact minimum, which the same library finds without halving."""
    rng = np.random.default_rng(seed)
    difference = cv2.GaussianBlur(rng.uniform(0, 400, (160, 220)).astype(np.float32), (0, 0), 3.0)
    difference = np.maximum(0, difference - 195) * 8
    belt = np.ones(difference.shape, bool)
    old_side, new_side = np.zeros_like(belt), np.zeros_like(belt)
    old_side[:, 0], new_side[:, -1] = True, True
    lead = np.tile(np.linspace(-0.3, 0.3, 220, dtype=np.float32), (160, 1))
    assert belt.sum() > graph_cut._WIDE
    exact = graph_cut._least_cut(belt, old_side, new_side, difference, lead)
    found = graph_cut._through(belt, old_side, new_side, difference, lead)

    def price(take: np.ndarray) -> float:
        d = difference + graph_cut._STEP
        across, down = take[:, 1:] != take[:, :-1], take[1:] != take[:-1]
        cut = ((d[:, 1:] + d[:, :-1]) * across).sum() + ((d[1:] + d[:-1]) * down).sum()
        return float(cut + graph_cut._MIDDLE * np.where(take, np.maximum(-lead, 0), np.maximum(lead, 0)).sum())

    assert not found[:, 0].any()
    assert found[:, -1].all()
    assert price(found) < 1.03 * price(exact)


def test_peak_memory_is_this_process_alone():
    """A small process started by a large one tells its own peak."""
    ballast = np.ones(60_000_000)  # 480 MB
    code = "from idle_lantern.core.base.memory import peak_rss_mib; print(peak_rss_mib())"
    told = float(subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout)
    assert ballast[-1] == 1
    assert 5 < told < 300
    held = np.ones(40_000_000)
    assert peak_rss_mib() > 480_000_000 / 2**20
    assert held[0] == 1


def _tie(a: int, b: int, inliers: int) -> Link:
    points = np.zeros((inliers, 2))
    return Link(a, b, points, points, np.eye(3), np.ones(inliers, bool))


def test_a_closer_look_stays_about_what_is_weakly_tied():
    """A row of forty whose ninth frame hangs by a thread: it and two frames each way, no more."""
    row = [_tie(i, i + 1, 12 if i in (8, 9) else 60) for i in range(39)]
    beside = [_tie(8, 10, 60)]
    assert seen_closer(40, row + beside) == [7, 8, 9, 10, 11]
    firm = [_tie(i, i + 1, 60) for i in range(39)]
    assert seen_closer(40, firm) == []
    assert seen_closer(40, firm[:20] + firm[21:]) == list(range(40)), "what stands apart may belong anywhere"
    assert seen_closer(40, [_tie(i, i + 1, 12) for i in range(39)]) == list(range(40))


@pytest.mark.parametrize(("half_deg", "warned"), [(30, False), (75, True), (120, True)])
def test_a_flat_picture_of_too_wide_a_field_is_warned_of(half_deg: float, warned: bool):
    """Flat over 200 degrees was made without a word; by 1 / cos^2 the rim of 150 degrees is 15 times as wide."""
    yaws = np.radians(np.arange(-half_deg, half_deg + 1, 15))
    lens = Lens("rectilinear", 600.0, 400, 300)
    poses = Poses(tuple(range(len(yaws))), (lens,) * len(yaws), np.stack([rotations.about_y(y) for y in yaws]))
    canvas = make_canvas(poses, field_of(poses), "rectilinear", width_px=500)
    assert ("draws the rim" in canvas.reason) == warned
    assert ("cut off" in canvas.reason) == (half_deg > 70)
