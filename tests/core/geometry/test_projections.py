"""Canvas projections against Snyder's worked examples and their own inverses."""

from __future__ import annotations

import math

import numpy as np
import pytest
from tests.reference import snyder

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.projections import PROJECTIONS, Projection, panini_parameters, suited
from idle_lantern.core.geometry.sphere import azimuth_altitude, direction, even_samples

#: The examples are printed to seven digits.
PRINTED = 6e-8


def _place(example: dict[str, float]) -> np.ndarray:
    return direction(math.radians(example["lon_deg"]), math.radians(example["lat_deg"]))


def test_mercator_of_snyder():
    u, v = Projection("mercator").forward(_place(snyder.MERCATOR))
    assert u == pytest.approx(snyder.MERCATOR["x"], abs=PRINTED)
    assert -v == pytest.approx(snyder.MERCATOR["y"], abs=PRINTED)


@pytest.mark.parametrize(
    ("name", "example"), [("rectilinear", snyder.GNOMONIC), ("stereographic", snyder.STEREOGRAPHIC)]
)
def test_oblique_azimuthals_of_snyder(name: str, example: dict[str, float]):
    """The gnomonic map is our flat projection; the oblique centre is a rotation of the canvas."""
    canvas_from_world = rotations.about_x(-math.radians(example["centre_lat_deg"]))
    u, v = Projection(name).forward(canvas_from_world @ _place(example))
    assert u == pytest.approx(example["x"], abs=PRINTED)
    assert -v == pytest.approx(example["y"], abs=PRINTED)


@pytest.mark.parametrize("name", PROJECTIONS)
def test_places_come_back(name: str):
    """Forward, then inverse, within the projection's reach."""
    rng = np.random.default_rng(3)
    limits = Projection(name).limits
    azimuth = rng.uniform(-1, 1, 300) * min(limits.longitude_rad * 0.97, 1.2 if name == "rectilinear" else 9)
    altitude = rng.uniform(-1, 1, 300) * min(limits.latitude_rad * 0.97, 1.2)
    d = direction(azimuth, altitude)
    np.testing.assert_allclose(Projection(name).inverse(Projection(name).forward(d)), d, atol=1e-9)


@pytest.mark.parametrize("name", PROJECTIONS)
def test_scale_is_one_at_the_centre(name: str):
    """A thousandth of a radian to the right and down is a thousandth on the plane."""
    small = 1e-3
    d = direction(np.array([small, 0.0]), np.array([0.0, -small]))
    np.testing.assert_allclose(Projection(name).forward(d), [[small, 0], [0, small]], atol=1e-8)


def test_formulas_of_the_contract():
    """Equirectangular and cylinder, written out."""
    d = np.array([0.3, -0.4, 0.5])
    across = math.hypot(0.3, 0.5)
    expected = [math.atan2(0.3, 0.5), math.asin(-0.4 / np.linalg.norm(d))]
    np.testing.assert_allclose(Projection("equirectangular").forward(d), expected, atol=1e-12)
    np.testing.assert_allclose(Projection("cylindrical").forward(d), [expected[0], -0.4 / across], atol=1e-12)


def test_panini_keeps_uprights_and_radial_lines():
    """Verticals map to verticals; with d = 0 it is the flat projection."""
    altitude = np.radians([-30.0, 0, 40])
    u = Projection("panini").forward(direction(0.8, altitude))[:, 0]
    np.testing.assert_allclose(u, u[0], atol=1e-12)
    d = direction(np.radians([10.0, -50]), np.radians([20.0, 5]))
    flat = Projection("rectilinear").forward(d)
    np.testing.assert_allclose(Projection("panini", {"distance": 0.0}).forward(d), flat, atol=1e-12)


def test_even_samples_fill_the_field_and_its_rim():
    """The mean of sin(altitude) over equal areas is that of the limits (Archimedes); all four edges are sampled from end to end."""
    left, right, low, high = np.radians([-50.0, 20.0, -10.0, 60.0])
    count = 400
    azimuth, altitude = azimuth_altitude(even_samples((left, right), (low, high), count))
    assert len(azimuth) > count
    assert np.mean(np.sin(altitude[:count])) == pytest.approx((math.sin(low) + math.sin(high)) / 2, abs=2e-3)
    assert np.mean(azimuth[:count]) == pytest.approx((left + right) / 2, abs=0.01)
    rim_az, rim_alt = azimuth[count:], altitude[count:]
    for at, edge, along, ends in (
        (rim_az, left, rim_alt, (low, high)), (rim_az, right, rim_alt, (low, high)),
        (rim_alt, low, rim_az, (left, right)), (rim_alt, high, rim_az, (left, right)),
    ):  # fmt: skip
        on_it = np.sort(along[np.isclose(at, edge, atol=1e-9)])
        assert on_it[[0, -1]] == pytest.approx(ends, abs=1e-9)
        assert np.diff(on_it).max() < 0.04
    inside = (azimuth > left - 1e-9) & (azimuth < right + 1e-9) & (altitude > low - 1e-9) & (altitude < high + 1e-9)
    assert inside.all()


def test_flat_canvas_has_no_place_for_what_lies_behind():
    assert Projection("rectilinear").forward(np.array([0.0, 0.0, 2.0])).tolist() == [0.0, 0.0]
    assert np.isnan(Projection("rectilinear").forward(np.array([0.1, 0.1, -1.0]))).all()


def test_beyond_the_poles_there_is_nothing():
    assert np.isnan(Projection("equirectangular").inverse(np.array([0.0, 1.7]))).any()


def test_unknown_name_is_refused():
    with pytest.raises(InputError, match="is no projection"):
        Projection("sinusoidal")


def test_azimuth_and_altitude_come_back():
    azimuth, altitude = azimuth_altitude(direction(np.radians([-170.0, 20]), np.radians([80.0, -35])))
    np.testing.assert_allclose(np.degrees(azimuth), [-170, 20], atol=1e-9)
    np.testing.assert_allclose(np.degrees(altitude), [80, -35], atol=1e-9)


@pytest.mark.parametrize(
    ("width_deg", "low_deg", "high_deg", "expected"),
    [
        (60, -20, 20, "rectilinear"),
        (20, -40, 40, "rectilinear"),
        (76, -20, 20, "cylindrical"),
        (360, -39, 39, "cylindrical"),
        (360, -20, 41, "equirectangular"),
        (20, -60, 60, "equirectangular"),
    ],
)
def test_suited_projection(width_deg: float, low_deg: float, high_deg: float, expected: str):
    """Cylinder for one row, flat for narrow ones, sphere for several rows (common practice, no source)."""
    assert suited(*np.radians([width_deg, low_deg, high_deg])) == expected


@pytest.mark.parametrize("distance", [0.5, 1.0, 2.0])
def test_panini_makes_lines_across_straight_as_far_as_asked(distance: float):
    """A wall square to the view at any height: its upper edge in the flat picture of the same place is straight, and so it is here."""
    x = np.linspace(-2.5, 2.5, 41)
    eaves = np.stack([x, np.full_like(x, -0.8), np.ones_like(x)], -1)
    whole = Projection("panini", panini_parameters(distance, 1.0))
    plain = Projection("panini", panini_parameters(distance))
    half = Projection("panini", panini_parameters(distance, 0.5))
    heights = [p.forward(eaves)[:, 1] for p in (plain, half, whole)]
    np.testing.assert_allclose(heights[2], -0.8, atol=1e-12)
    np.testing.assert_allclose(heights[1], (heights[0] - 0.8) / 2, atol=1e-12)
    assert np.ptp(heights[0]) > 0.1
    # what stands upright stays so, and each place is found again
    np.testing.assert_allclose(whole.forward(eaves)[:, 0], plain.forward(eaves)[:, 0])
    d = eaves / np.linalg.norm(eaves, axis=1, keepdims=True)
    for p in (half, whole):
        np.testing.assert_allclose(p.inverse(p.forward(d)), d, atol=1e-9)
    assert "straighten" not in plain.parameters
