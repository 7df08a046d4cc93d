"""Lens models against OpenCV's camera and fisheye models, and against their own formulas."""

from __future__ import annotations

import math

import cv2
import numpy as np
import pytest
from hypothesis import given
from scipy.spatial.transform import Rotation
from tests.strategies import lenses

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.geometry.lenses import MODELS, Lens, focal_px_from_mm, transfer

#: Newton's iteration ends far below a thousandth of a pixel.
ROUND_TRIP_PX = 1e-6


def _rays(count: int, widest_rad: float) -> np.ndarray:
    rng = np.random.default_rng(5)
    theta, turn = rng.uniform(0, widest_rad, count), rng.uniform(0, 2 * np.pi, count)
    return np.stack([np.sin(theta) * np.cos(turn), np.sin(theta) * np.sin(turn), np.cos(theta)], -1)


def test_rectilinear_agrees_with_opencv():
    """cv2.projectPoints has the same polynomial in tan(theta)."""
    lens = Lens("rectilinear", 1500, 3000, 2000, 0.08, -0.03, 0.01, cx=12, cy=-7)
    rays = _rays(200, 0.7)
    u0, v0 = lens.principal_px
    camera = np.array([[1500, 0, u0], [0, 1500, v0], [0, 0, 1.0]])
    expected, _ = cv2.projectPoints(rays, np.zeros(3), np.zeros(3), camera, np.array([0.08, -0.03, 0, 0, 0.01]))
    found, valid = lens.project(rays)
    assert valid.all()
    np.testing.assert_allclose(found, expected[:, 0], atol=1e-8)


@pytest.mark.parametrize("size", [(600, 400), (601, 401), (601, 400)])
def test_a_halved_lens_puts_what_it_sees_between_the_same_pixels(size: tuple[int, int]):
    lens = Lens("rectilinear", 500, *size, 0.08, -0.03, cx=12, cy=-7)
    rays = _rays(200, 0.5)
    np.testing.assert_allclose(lens.halved().project(rays)[0], (lens.project(rays)[0] - 0.5) / 2, atol=1e-9)
    assert (lens.halved().width, lens.halved().height) == (-(-size[0] // 2), -(-size[1] // 2))


def test_equidistant_agrees_with_opencv_fisheye():
    """cv2.fisheye has the same polynomial in theta."""
    lens = Lens("equidistant", 900, 3000, 2000, 0.02, -0.004, 0.001)
    rays = _rays(200, 1.2)
    u0, v0 = lens.principal_px
    camera = np.array([[900, 0, u0], [0, 900, v0], [0, 0, 1.0]])
    distortion = np.array([0.02, -0.004, 0.001, 0.0])
    expected, _ = cv2.fisheye.projectPoints(rays[:, None], np.zeros(3), np.zeros(3), camera, distortion)
    np.testing.assert_allclose(lens.project(rays)[0], expected[:, 0], atol=1e-8)


@pytest.mark.parametrize(
    ("model", "radius"),
    [
        ("rectilinear", math.tan(0.6)),
        ("equidistant", 0.6),
        ("equisolid", 2 * math.sin(0.3)),
        ("stereographic", 2 * math.tan(0.3)),
        ("orthographic", math.sin(0.6)),
    ],
)
def test_undistorted_mappings(model: str, radius: float):
    """The textbook mappings, r / f at 0.6 rad."""
    assert float(Lens(model, 1000, 2000, 2000).radius_px(0.6)) == pytest.approx(1000 * radius, abs=1e-9)


@given(lenses())
def test_pixels_come_back(lens: Lens):
    """Every pixel that the lens shows is found again from its direction."""
    u, v = np.meshgrid(np.linspace(0, lens.width - 1, 9), np.linspace(0, lens.height - 1, 9))
    pixels = np.stack([u, v], -1)
    rays = lens.unproject(pixels)
    shown = np.isfinite(rays[..., 0])
    assert shown[4, 4]
    back, valid = lens.project(rays[shown])
    inner = np.hypot(*(pixels[shown] - np.array(lens.principal_px)).T) < 0.98 * lens.radius_px(lens.limit_rad)
    assert valid[inner].all()
    np.testing.assert_allclose(back[inner], pixels[shown][inner], atol=ROUND_TRIP_PX * max(lens.width, lens.height))


@pytest.mark.parametrize("model", MODELS)
def test_slope_agrees_with_differences(model: str):
    """The analytic derivative against central differences."""
    lens = Lens(model, 800, 2000, 1500, -0.04, 0.01)
    rays = _rays(30, 0.6)
    step = 1e-6
    numeric = np.stack(
        [(lens.project(rays + step * e)[0] - lens.project(rays - step * e)[0]) / (2 * step) for e in np.eye(3)], -1
    )
    np.testing.assert_allclose(lens.project_slope(rays), numeric, atol=1e-3, rtol=1e-5)


@pytest.mark.parametrize("model", MODELS)
def test_changes_with_the_lens_agree_with_differences(model: str):
    """Central differences by each of the six numbers, off the axis and off the centre."""
    numbers = np.array([math.log(700.0), -0.04, 0.02, -0.01, 0.012, -0.02])

    def lens(n: np.ndarray) -> Lens:
        f = math.exp(n[0])
        return Lens(model, f, 1000, 800, n[1], n[2], n[3], n[4] * f, n[5] * f)

    rng = np.random.default_rng(3)
    directions = rng.normal(size=(40, 3)) * [0.4, 0.4, 0.05] + [0, 0, 1]
    pixels = lens(numbers).project(directions)[0]
    rays = lens(numbers).unproject(pixels)
    step = 1e-6
    for i in range(6):
        more, less = (lens(numbers + sign * step * np.eye(6)[i]) for sign in (1, -1))
        by_projection = (more.project(directions)[0] - less.project(directions)[0]) / (2 * step)
        by_rays = (more.unproject(pixels) - less.unproject(pixels)) / (2 * step)
        np.testing.assert_allclose(
            lens(numbers).project_by_lens(directions)[..., i], by_projection, rtol=1e-5, atol=1e-4
        )
        np.testing.assert_allclose(lens(numbers).unproject_by_lens(pixels, rays)[..., i], by_rays, rtol=1e-5, atol=1e-7)


def test_far_rays_do_not_fold_back_into_the_frame():
    """Strong barrel distortion turns round at some angle; beyond it nothing may be shown."""
    lens = Lens("rectilinear", 1000, 2000, 1500, k1=-0.2)
    beyond = np.array([[math.sin(1.4), 0, math.cos(1.4)]])
    assert not lens.sees(beyond).any()
    assert lens.limit_rad < math.atan(math.sqrt(1 / (3 * 0.2))) + 0.01


def test_nothing_behind_a_rectilinear_lens():
    """Directions behind the camera never land on the frame."""
    lens = Lens("rectilinear", 1000, 2000, 1500)
    assert not lens.sees(np.array([[0.01, 0.01, -1.0]])).any()
    distorted = Lens("rectilinear", 1000, 2000, 1500, k1=0.01)
    assert not distorted.sees(np.array([[0.01, 0.01, -1.0]])).any()


def test_what_a_lens_sees_is_what_its_pixels_say():
    """The quick reckoning of an undistorted flat lens against its pixels one by one, off its middle and with a margin."""
    lens = Lens("rectilinear", 300, 400, 260, cx=31, cy=-17)
    rays = np.concatenate([_rays(4000, 1.2), lens.unproject(lens.places_px(81)).reshape(-1, 3) * 7, -_rays(50, 0.3)])
    pixels, valid = lens.project(rays)
    for margin in (-2.0, 0.0, 5.5):
        inside = (pixels > margin - 0.5).all(1) & (pixels < np.array([399.5, 259.5]) - margin).all(1)
        assert np.array_equal(lens.sees(rays, margin), valid & inside)
    circular = Lens("equidistant", 150, 300, 280, circle_px=100)
    u0, v0 = circular.principal_px
    assert circular.sees(circular.unproject(np.array([[u0 + 99, v0], [u0, v0 - 101]]))).tolist() == [True, False]


def test_places_are_spread_over_the_whole_frame():
    lens = Lens("rectilinear", 300, 40, 20)
    cells = lens.places_px(4, 2)
    assert cells.shape == (2, 4, 2)
    assert cells[:, :, 0].tolist() == [[4.5, 14.5, 24.5, 34.5]] * 2
    assert cells[:, 0, 1].tolist() == [4.5, 14.5]
    edges = lens.places_px(3, with_rim=True)
    assert edges[0, 0].tolist() == [-0.5, -0.5]
    assert edges[1, 1].tolist() == [19.5, 9.5]
    assert edges[2, 2].tolist() == [39.5, 19.5]


@given(lenses(), lenses())
def test_a_place_is_carried_to_the_other_frame_as_its_direction_says(a: Lens, b: Lens):
    turn = Rotation.from_rotvec([0.1, -0.3, 0.2]).as_matrix()
    places = a.places_px(7, 5, with_rim=True)
    found, valid = transfer(a, b, turn, places)
    rays = a.unproject(places)
    known = np.isfinite(rays[..., 0])
    expected, shown = b.project(rays[known] @ turn.T)
    assert not valid[~known].any()
    assert np.array_equal(valid[known], shown)
    np.testing.assert_allclose(found[known], expected)


def test_field_of_view_of_handbook_lenses():
    """50 mm on 36 x 24 mm: 39.6 by 27.0 degrees, 24 mm: 73.7 by 53.1 (common practice, no source)."""
    for focal, across, up in ((50, 39.6, 27.0), (24, 73.7, 53.1)):
        lens = Lens("rectilinear", focal_px_from_mm(focal, 36, 6000), 6000, 4000)
        found = np.degrees(lens.field_rad())
        np.testing.assert_allclose(found, [across, up], atol=0.06)
    shifted = Lens(
        "rectilinear", 100, 200, 100, cx=50, cy=-25
    )  # edges at arctan of 1.5, 0.5, 0.25 and 0.75 focal lengths
    expected = math.atan(1.5) + math.atan(0.5), math.atan(0.25) + math.atan(0.75)
    np.testing.assert_allclose(shifted.field_rad(), expected, atol=1e-9)


@pytest.mark.parametrize("focal", [0.0, -3.0, float("nan"), float("inf")])
def test_impossible_focal_lengths_are_refused(focal: float):
    """One clear sentence."""
    with pytest.raises(InputError, match="focal length must be above zero"):
        Lens("rectilinear", focal, 100, 100)
