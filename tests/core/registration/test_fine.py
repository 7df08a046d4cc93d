"""Fine registration: how well each place is known, what blur and noise leave, which intrinsics of a lens are asked for."""

from __future__ import annotations

import math
from dataclasses import replace

import cv2
import numpy as np
import pytest
from tests.helpers.sets import rms
from tests.reference import photographs

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.links import BEST_PX, Link
from idle_lantern.core.registration.solve.adjust import adjust, best_lens
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.tie_points import register_tie_points, smoothed
from idle_lantern.simulator.truth import registration_error_px

#: A lens so long that a small turn shifts the picture as a whole.
LONG = Lens("rectilinear", 60_000, 380, 400)
SHIFT = (3.37, -1.81)


def _shifted(grey: np.ndarray) -> np.ndarray:
    """What a camera turned by ``SHIFT`` pixels sees, exact for a band-limited picture (shift theorem of Fourier)."""
    fy, fx = np.fft.fftfreq(grey.shape[0])[:, None], np.fft.fftfreq(grey.shape[1])[None]
    turned = np.fft.fft2(grey) * np.exp(2j * math.pi * (fx * SHIFT[0] + fy * SHIFT[1]))
    return np.asarray(np.fft.ifft2(turned).real)


def _registered(noise: float, blur_px: float, seed: int, *, soft: bool = False) -> tuple[Link, np.ndarray]:
    """Two views of a photograph that ships with scikit-image, registered from one and a half pixels off; and the misses."""
    rng = np.random.default_rng(seed)
    photo = cv2.cvtColor(photographs.band()[:400, 620:1000], cv2.COLOR_RGB2GRAY).astype(float)
    photo = cv2.GaussianBlur(photo, (0, 0), max(0.8, blur_px))
    views = [photo, _shifted(photo)]
    greys = [smoothed(np.clip(v + rng.normal(0, noise, v.shape), 0, 255).round().astype(np.uint8)) for v in views]
    points = rng.uniform([40, 40], [340, 360], (400, 2))
    truth = points - SHIFT
    poses = Poses((0, 1), (LONG, LONG), np.stack([np.eye(3)] * 2))
    link = Link(0, 1, points, truth + rng.uniform(-1, 1, (400, 2)), np.eye(3), np.ones(400, bool))
    found = register_tie_points(link, greys[0], greys[1], poses, rng, miss_px=0.5, soft=soft)
    return found, found.points_b[found.inlier] - (found.points_a[found.inlier] - SHIFT)


@pytest.mark.parametrize(("noise", "blur_px"), [(2.0, 0.0), (6.0, 0.0), (2.0, 2.0)])
def test_the_error_told_of_a_place_is_the_error_it_has(noise: float, blur_px: float):
    """Weighted misses scatter by ``BEST_PX`` each way, within a third."""
    found, miss = _registered(noise, blur_px, seed=3)
    assert len(miss) > 60
    weighted = np.einsum("pij,pj->pi", found.sqrt_information[found.inlier], miss) / BEST_PX
    assert 0.67 < float(np.median(np.abs(weighted))) / 0.6745 < 1.33
    # and what is told to be known better is known better
    sigma, size = found.sigma_px[found.inlier], np.linalg.norm(miss, axis=1)
    better = sigma < np.median(sigma)
    assert np.median(size[better]) < 0.8 * np.median(size[~better])


def test_edges_are_known_across_better_than_along():
    """An edge with a little unevenness along it: the square-root information keeps both directions, each for what it is worth."""
    rng = np.random.default_rng(0)
    picture = np.tile(np.where(np.arange(300) < 150, 60.0, 180.0), (300, 1))
    picture += 40 * cv2.GaussianBlur(rng.standard_normal((300, 300)), (0, 0), 1.5)
    picture = cv2.GaussianBlur(picture, (0, 0), 1.2)
    views = [np.clip(picture + rng.normal(0, 1, picture.shape), 0, 255).round().astype(np.uint8) for _ in range(2)]
    lens = Lens("rectilinear", 60_000, 300, 300)
    points = np.stack([np.full(40, 150.0), np.linspace(40, 260, 40)], -1)
    link = Link(0, 1, points, points, np.eye(3), np.ones(40, bool))
    poses = Poses((0, 1), (lens, lens), np.stack([np.eye(3)] * 2))
    found = register_tie_points(link, smoothed(views[0]), smoothed(views[1]), poses, rng, miss_px=0.5, soft=False)
    assert found.inliers > 20
    kept = found.sqrt_information[found.inlier]
    across, along = np.linalg.norm(kept[:, :, 0], axis=1), np.linalg.norm(kept[:, :, 1], axis=1)
    assert np.median(across) > 2 * np.median(along)
    miss = np.abs(found.points_b - found.points_a)[found.inlier]
    assert np.median(miss[:, 0]) < 0.6 * np.median(miss[:, 1])


def _ring(lens: Lens, noise_px: float) -> tuple[list[np.ndarray], list[Link]]:
    """Eight frames round the horizon, and matches with ``noise_px`` of error."""
    rng = np.random.default_rng(5)
    turned = [rotations.from_yaw_pitch_roll(math.radians(45 * i), 0.02 * (i % 3), 0.01 * i) for i in range(8)]
    links = []
    for i in range(8):
        a, b = sorted((i, (i + 1) % 8))
        points = rng.uniform([0, 0], [lens.width - 1, lens.height - 1], (4000, 2))
        local = lens.unproject(points) @ turned[a].T @ turned[b]
        seen = lens.sees(local)
        points, there = points[seen][:150], lens.project(local[seen])[0][:150]
        there = there + rng.normal(0, noise_px, there.shape)
        links.append(Link(a, b, points, there, turned[b].T @ turned[a], np.ones(len(points), bool)))
    return turned, links


@pytest.mark.parametrize(
    "lens",
    [
        Lens("rectilinear", 800, 1000, 1200),
        Lens("rectilinear", 800, 1000, 1200, cx=7.0, cy=-9.0),
        Lens("rectilinear", 800, 1000, 1200, k1=-0.05, k2=0.01, cx=-4.0, cy=6.0),
        Lens("equidistant", 700, 1000, 1200, k1=0.02, cx=5.0, cy=3.0),
    ],
    ids=["plain", "off-centre", "bent-off-centre", "fisheye-off-centre"],
)
def test_the_intrinsics_of_a_lens_are_found_and_no_others(lens: Lens):
    """The principal point moves only where the tie points ask for it."""
    turned, links = _ring(lens, 0.05)
    start = replace(lens, focal_px=lens.focal_px * 1.002, k1=0.0, k2=0.0, cx=0.0, cy=0.0)
    poses = Poses(tuple(range(8)), (start,) * 8, np.stack(turned))
    fitted = adjust(poses, links, [0] * 8, scale_px=3.0, focal_from_exif=True)
    found = best_lens(fitted, links, [0] * 8, scale_px=0.3, focal_from_exif=True)
    one = found.lenses[0]
    if lens.cx == 0:
        assert (one.cx, one.cy) == (0.0, 0.0)
    else:
        assert (one.cx, one.cy) == (pytest.approx(lens.cx, abs=0.3), pytest.approx(lens.cy, abs=0.3))
    assert one.focal_px == pytest.approx(lens.focal_px, rel=3e-4)
    error = registration_error_px(lens, turned, list(found.lenses), list(found.world_from_camera))
    assert rms(error) < 0.05


def test_frames_turned_on_their_side_keep_the_middle():
    """A camera turned on its side turns its principal point too: frames of both kinds hold it in the middle."""
    lens = Lens("rectilinear", 800, 1000, 1200, cx=7.0)
    turned, links = _ring(lens, 0.05)
    lenses = [replace(lens, cx=0.0)] * 7 + [Lens("rectilinear", 800, 1200, 1000)]
    poses = Poses(tuple(range(8)), tuple(lenses), np.stack(turned))
    found = best_lens(adjust(poses, links, [0] * 8, scale_px=3.0), links, [0] * 8, scale_px=0.3)
    assert {(k.cx, k.cy) for k in found.lenses} == {(0.0, 0.0)}


def test_badly_known_points_hardly_pull():
    """Half of the points stand three pixels off, known to three pixels: the others decide."""
    lens = Lens("rectilinear", 800, 1000, 1200)
    turned, links = _ring(lens, 0.05)
    poses = Poses(tuple(range(8)), (lens,) * 8, np.stack(turned))

    def spoilt(link: Link, *, told: bool) -> Link:
        there, sqrt_information = link.points_b.copy(), np.tile(np.eye(2), (150, 1, 1))
        there[::2] += (3.0, 1.0)
        if told:
            sqrt_information[::2] *= BEST_PX / 3.0
        return replace(link, points_b=there, sqrt_information=sqrt_information)

    def error(told: bool) -> float:
        found = adjust(poses, [spoilt(k, told=told) for k in links], [0] * 8, scale_px=3.0, focal_from_exif=True)
        return rms(registration_error_px(lens, turned, list(found.lenses), list(found.world_from_camera)))

    assert error(told=True) < 0.03
    assert error(told=False) > 0.3
