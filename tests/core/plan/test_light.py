"""Exposure against ISO 2720 / APEX relations and the trade's rules."""

from __future__ import annotations

import math

import pytest

from idle_lantern.core.plan.brief import Exposure, Scene, Support
from idle_lantern.core.plan.light import (
    engraved_time,
    exposure_value,
    filter_factor,
    metered_ev,
    polariser_spread_stops,
    reading_at,
    setting,
    time_for,
)
from idle_lantern.core.plan.rig import Rig


@pytest.mark.parametrize(
    ("aperture", "time_s", "ev"),
    [
        # APEX: EV 0 is 1 s at f/1; the table of handbooks repeats it (ANSI PH2.5 / ISO 2720)
        (1.0, 1.0, 0),
        (1.4142, 1.0, 1),
        (2.0, 1 / 2, 3),
        (5.6569, 1 / 128, 12),
        (8.0, 1 / 64, 12),
        (16.0, 1 / 128, 15),
        (11.3137, 1 / 256, 15),
    ],
)
def test_exposure_values(aperture: float, time_s: float, ev: float):
    assert exposure_value(aperture, time_s) == pytest.approx(ev, abs=1e-3)
    assert time_for(ev, aperture, 100) == pytest.approx(time_s, rel=1e-3)


def test_sunny_sixteen():
    """f/16 at 1 / ISO in sunlight, EV 15 (common practice, no source)."""
    assert time_for(15, 16, 100) == pytest.approx(1 / 128)
    assert time_for(15, 16, 400) == pytest.approx(1 / 512)


def test_filters():
    """Three stops are a factor of 8, density 0.9; a density D takes D / log10 2 stops."""
    assert filter_factor(3) == 8
    assert filter_factor(0.9 / math.log10(2)) == pytest.approx(10**0.9)
    assert time_for(14, 8, 100, 3) == pytest.approx(8 * time_for(14, 8, 100))


READINGS = ((-90.0, 12.0), (0.0, 13.0), (90.0, 15.5))


@pytest.mark.parametrize(
    ("school", "ev"), [("brightest", 15.5), ("subject", 13.0), ("average", 13.5), ("middle", 13.75)]
)
def test_metering_schools(school: str, ev: float):
    assert metered_ev(Exposure(READINGS, school), 10.0)[0] == pytest.approx(ev)


def test_readings_run_straight_between_neighbours_round_the_circle():
    exposure = Exposure(READINGS)
    assert reading_at(exposure, 45) == pytest.approx(14.25)
    assert reading_at(exposure, -90) == pytest.approx(12.0)
    assert reading_at(exposure, 180) == pytest.approx(13.75)  # half way from 90 over the back to -90


def _setting(**changes: object):
    parts = {"rig": Rig(), "support": Support(), "scene": Scene(subject="still"), "exposure": Exposure(READINGS)}
    parts |= changes
    return setting(parts["rig"], parts["support"], parts["scene"], parts["exposure"], 8.0, 0.0)


def test_brightest_school_clips_nothing_and_the_others_say_by_how_much():
    assert _setting(exposure=Exposure(READINGS, "brightest")).white_over_stops == 0
    assert _setting(exposure=Exposure(READINGS, "subject")).white_over_stops == pytest.approx(2.5)


def test_a_range_beyond_the_sensor_asks_for_brackets_that_span_it():
    wide = ((-90.0, 6.0), (90.0, 16.0))
    one = _setting(exposure=Exposure(wide, "middle", bracket_step_ev=2.0))
    whole = math.log2(1 / 0.18) + 3 + 10
    assert one.brackets_needed == 1 + math.ceil((whole - Rig().range_stops) / 2)
    many = _setting(exposure=Exposure(wide, "middle", bracket_count=one.brackets_needed))
    times = many.times_s
    assert len(times) == one.brackets_needed
    assert math.log2(times[-1] / times[0]) == pytest.approx(2 * (len(times) - 1), abs=0.4)


@pytest.mark.parametrize(
    ("parts", "most_s"),
    [
        # common practice, no source, all of them
        ({"support": Support("hand")}, 1 / 60),
        ({"support": Support("hand"), "rig": Rig(focal_mm=200)}, 1 / 300),
        ({"scene": Scene(subject="walking")}, 1 / 250),
        ({"scene": Scene(subject="running")}, 1 / 500),
        ({"scene": Scene(subject="leaves", wind_ms=4)}, 1 / 60),
        ({"scene": Scene(subject="still", wind_ms=12), "rig": Rig(focal_mm=100)}, 1 / 150),
    ],
)
def test_time_limits(parts: dict[str, object], most_s: float):
    dark = Exposure(((0.0, 6.0),))
    found = _setting(exposure=dark, **parts)
    assert found.limit is not None
    assert found.limit.time_s == pytest.approx(most_s, rel=1e-6)


def test_a_still_scene_on_a_tripod_has_no_limit():
    assert _setting(exposure=Exposure(((0.0, 2.0),))).limit is None


def test_polariser_is_most_uneven_where_the_sweep_passes_ninety_degrees_from_the_sun():
    """Rayleigh: polarisation is full 90 degrees from the sun and none towards it."""
    narrow = polariser_spread_stops(0, 10, 80, 100)
    wide = polariser_spread_stops(0, 10, 0, 100)
    assert narrow < 0.5
    assert 1.2 < wide < 2.1  # towards the sun nothing, at 90 degrees three quarters of the light of one plane
    assert polariser_spread_stops(0, 90, -180, 180) < 0.05  # sun overhead: the same all round


@pytest.mark.parametrize(("exact", "engraved"), [(1 / 128, 1 / 125), (1 / 66, 1 / 60), (0.77, 0.8), (45.0, 45.0)])
def test_times_as_engraved(exact: float, engraved: float):
    assert engraved_time(exact) == pytest.approx(engraved)
