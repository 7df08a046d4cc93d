"""Depth of field, diffraction and blur against handbook formulas, tables and plain ray geometry."""

from __future__ import annotations

import math

import pytest

from idle_lantern.core.base import units
from idle_lantern.core.plan.brief import Brief, Exposure, Scene, Target
from idle_lantern.core.plan.depth import (
    airy_mm,
    aperture_for,
    between,
    blur_disc_mm,
    coc_print_mm,
    coc_sensor_mm,
    hyperfocal_m,
    limits_m,
    sharpness,
    thirds_up,
)
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField


@pytest.mark.parametrize(
    ("focal_mm", "aperture", "coc_mm", "expected_m"),
    [
        (50, 8, 0.03, 10.467),  # the worked example usual in handbooks and encyclopaedias: 10.42 m + f
        (24, 11, 0.03, 1.769),  # f^2 / (N c) + f by hand
        (85, 1.8, 0.03, 133.9),
        (200, 8, 0.02, 250.2),
    ],
)
def test_hyperfocal(focal_mm: float, aperture: float, coc_mm: float, expected_m: float):
    assert hyperfocal_m(focal_mm, aperture, coc_mm) == pytest.approx(expected_m, rel=5e-4)


def test_focused_at_the_hyperfocal_half_of_it_to_infinity_is_sharp():
    """The textbook property of the hyperfocal distance (Ray, Applied Photographic Optics; from memory)."""
    h = hyperfocal_m(35, 8, 0.02)
    near, far = limits_m(35, 8, 0.02, h)
    assert near == pytest.approx(h / 2, rel=2e-3)
    assert math.isinf(far)


def _blur_by_rays(focal_mm: float, aperture: float, focus_m: float, distance_m: float) -> float:
    """Blur disc from first principles: image distances by 1/f = 1/s + 1/v, then similar triangles behind the pupil."""

    def image(distance: float) -> float:
        return focal_mm if math.isinf(distance) else 1 / (1 / focal_mm - 1 / (distance * 1000))

    sensor, crossing = image(focus_m), image(distance_m)
    return focal_mm / aperture * abs(crossing - sensor) / crossing


@pytest.mark.parametrize("focus_m", [0.8, 2.5, 12.0, math.inf])
@pytest.mark.parametrize("distance_m", [0.5, 3.0, 40.0, math.inf])
def test_blur_disc_agrees_with_rays(focus_m: float, distance_m: float):
    for focal_mm, aperture in ((20, 8), (85, 1.8), (200, 4)):
        assert blur_disc_mm(focal_mm, aperture, focus_m, distance_m) == pytest.approx(
            _blur_by_rays(focal_mm, aperture, focus_m, distance_m), abs=1e-9
        )


@pytest.mark.parametrize("focus_m", [1.5, 4.0, 9.0])
def test_at_the_limits_the_blur_is_the_circle_of_confusion(focus_m: float):
    near, far = limits_m(50, 4, 0.025, focus_m)
    assert _blur_by_rays(50, 4, focus_m, near) == pytest.approx(0.025, rel=1e-6)
    if math.isfinite(far):
        assert _blur_by_rays(50, 4, focus_m, far) == pytest.approx(0.025, rel=1e-6)


def test_the_focus_between_two_things_blurs_both_alike():
    focus = between(2.0, 9.0)
    assert blur_disc_mm(50, 4, focus, 2.0) == pytest.approx(blur_disc_mm(50, 4, focus, 9.0))
    needed = aperture_for(50, 0.02, 2.0, 9.0)
    assert blur_disc_mm(50, needed, focus, 9.0) == pytest.approx(0.02)


def test_airy_disc():
    """2.44 lambda N: 10.7 micrometres at f/8 in green light (Hecht, Optics, from memory)."""
    assert airy_mm(8) == pytest.approx(0.01074, abs=1e-5)


def test_circle_of_confusion_of_the_sensor():
    """Diagonal by 1500: 0.029 mm on 36 x 24 mm (the usual table value, 0.029 to 0.03; common practice, no source)."""
    assert coc_sensor_mm(Rig(36, 24, 6000, 4000)) == pytest.approx(0.0288, abs=1e-4)


def test_circle_of_confusion_of_a_print():
    """One minute of arc (ISO 8596 normal acuity) from 1 m is 0.29 mm; on a 2 m print of 20 000 px that is 2.9 px."""
    rig = Rig(36, 24, 6000, 4000)
    assert coc_print_mm(rig, Target(2000, 240, 1.0), 20000) == pytest.approx(2.909 * 0.006, rel=1e-3)
    assert coc_print_mm(rig, Target(20000, 240, 0.2), 2000) == pytest.approx(rig.pixel_mm)


def test_schools_of_aperture():
    rig, scene = Rig(36, 24, 6000, 4000, 24, widest_aperture=1.4, narrowest_aperture=16), Scene(near_m=1.2)
    found = {
        school: sharpness(
            rig, scene, Exposure(aperture_school=school, aperture=4), Target(), 20000, TargetField()
        ).aperture
        for school in ("own", "sharpest", "depth", "open", "star")
    }
    assert found["own"] == 4
    assert 8 <= found["sharpest"] <= 11  # f/8-f/11 sharpest (common practice, no source)
    assert found["open"] == 1.4
    assert found["star"] == 16  # f/18 wanted, the lens ends at 16
    s = sharpness(rig, scene, Exposure(aperture_school="depth"), Target(), 20000, TargetField())
    assert s.near_limit_m <= 1.2
    assert math.isinf(s.far_limit_m)


def test_focus_lies_in_a_plane_square_to_each_frame():
    """By hand, 85 mm f/1.8 at 2.5 m on 36 x 24 mm with pixels of 6 um: the corner stands atan(21.63 / 85) = 14.3 degrees off
    the axis, 2.5 cos 14.3 = 2.42 m before the lens; the wall's corner at 22 degrees aside and 15 up is 2.79 m away."""
    rig, scene = Rig(36, 24, 6000, 4000, 85, widest_aperture=1.8), Scene(near_m=1.5, subject_m=2.5)
    s = sharpness(rig, scene, Exposure(aperture_school="open"), Target(), 9000, TargetField(-22, 22, -15, 15))
    per_share = 85 / 1.8 * 0.085 / (2.5 - 0.085) / 0.006
    near = 2.5 * math.cos(math.atan(21.633 / 85))
    far = 2.5 / (math.cos(math.radians(22)) * math.cos(math.radians(15)))
    assert s.corner_blur_px == pytest.approx(per_share * (2.5 - near) / near, rel=1e-3)
    assert s.corner_blur_px == pytest.approx(8.8, abs=0.1)
    assert s.wall_blur_px == pytest.approx(per_share * (far - 2.5) / far, rel=1e-3)
    assert s.wall_blur_px == pytest.approx(29, abs=0.5)


@pytest.mark.parametrize(
    ("focal_mm", "exposure", "subject_m"),
    [(50, Exposure(focus_m=0.01), 0), (85, Exposure(aperture_school="open"), 0.05)],
)
def test_a_focus_nearer_than_life_size_is_told_and_gives_no_figures_that_cross(
    focal_mm: float, exposure: Exposure, subject_m: float
):
    """1 / f = 1 / s + 1 / s': at twice the focal length a thing is drawn as large as it is; nearer than f it has no picture."""
    scene = Scene(near_m=0.05, subject_m=subject_m)
    plan = make_plan(Brief(rig=Rig(focal_mm=focal_mm), scene=scene, exposure=exposure))
    assert plan.sharpness.near_limit_m <= plan.sharpness.far_limit_m
    told = next(j for j in judge(plan) if j.key == "focus-near")
    assert units.distance(2 * focal_mm / 1000) in told.sentence


@pytest.mark.parametrize(("value", "up"), [(2.9, 3.2), (8.0, 8.0), (5.7, 6.3), (1.0, 1.0), (17.5, 18.0)])
def test_third_stops_round_up(value: float, up: float):
    """Engraved third stops (common practice, no source)."""
    assert thirds_up(value) == up


def test_engraved_apertures_are_the_third_stops_by_their_formula():
    """N = 2^(k / 6) (ISO 517); names are rounded by less than a twelfth of a stop, each stands for one step and grows."""
    found = [thirds_up(2 ** (k / 6)) for k in range(-6, 37)]
    assert all(2 * abs(math.log2(n / 2 ** (k / 6))) < 0.15 for k, n in zip(range(-6, 37), found))
    assert found == sorted(set(found))
