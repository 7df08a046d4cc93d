"""Exposure against ISO 2720 / APEX relations and the trade's rules."""

from __future__ import annotations

import math

import pytest

from idle_lantern.core.plan.brief import Brief, Exposure, Scene, Support
from idle_lantern.core.plan.judge import judge
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
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.remedies import REMEDIES
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


def _held(values: list[float], ev: float, usable: float, offsets: list[float]) -> bool:
    """Own derivation: in stops above the metered middle, every reading's white lies at most at full in some exposure, and
    its shadows above the floor in some."""
    white, shadow = math.log2(1 / 0.18), 3.0
    floor = white - usable  # full lies ``white`` above the middle, the floor ``usable`` below full
    return all(
        any(v - ev + o + white <= white + 1e-6 for o in offsets)
        and any(v - ev + o - shadow >= floor - 1e-6 for o in offsets)
        for v in values
    )


@pytest.mark.parametrize(
    ("readings", "metering", "step", "usable"),
    [
        ((5.0, 17.0), "brightest", 1.0, 14.0),
        ((8.0, 14.0, 18.0), "average", 2.0, 13.0),
        ((6.0, 16.0), "middle", 2.0, 13.0),
        ((6.0, 7.0, 14.0), "average", 2.0, 12.0),
        ((2.0, 20.0), "middle", 3.0, 10.0),
        ((13.5, 14.0, 14.5), "average", 2.0, 13.0),
        ((13.5, 14.0, 14.5), "brightest", 2.0, 13.0),
    ],
)
def test_the_smallest_bracket_holds_everything_and_no_smaller_one_does(
    readings: tuple[float, ...], metering: str, step: float, usable: float
):
    values = tuple((40.0 * i, ev) for i, ev in enumerate(readings))
    found = _setting(rig=Rig(range_stops=usable), exposure=Exposure(values, metering, bracket_step_ev=step))
    count, shift = found.bracket_needed
    assert round(shift * 3) == pytest.approx(shift * 3), "cameras shift by thirds"

    def offsets(n: int, by: float) -> list[float]:
        return [(i - (n - 1) / 2) * step + by for i in range(n)]

    assert _held(list(readings), found.ev, usable, offsets(count, shift))
    for fewer in range(1, count):
        for thirds in range(-60, 61):
            assert not _held(list(readings), found.ev, usable, offsets(fewer, thirds / 3))
    if count == 1:  # a single exposure that holds all is what metering by the brightest part gives
        applied = _setting(rig=Rig(range_stops=usable), exposure=Exposure(values, "brightest"))
        assert applied.white_left_stops <= 0 <= applied.shadow_left_stops
        return
    # once applied nothing is said to be lost, and the exposures are those
    applied = _setting(
        rig=Rig(range_stops=usable),
        exposure=Exposure(values, metering, bracket_step_ev=step, bracket_count=count, bracket_shift_ev=shift),
    )
    assert applied.white_left_stops <= 1e-6
    assert applied.shadow_left_stops >= -1e-6
    assert applied.bracket_ev == pytest.approx(offsets(count, shift))


def test_what_a_bracket_round_the_metered_value_leaves_is_told():
    """Readings 5 and 17 EV for the brightest, 14 stops, steps of 1 EV: five exposures leave 1.5 stops, eight leave none."""
    values = ((0.0, 5.0), (90.0, 17.0))
    rig = Rig(range_stops=14.0)
    five, eight = (
        _setting(rig=rig, exposure=Exposure(values, "brightest", bracket_step_ev=1.0, bracket_count=n)) for n in (5, 8)
    )
    assert five.shadow_left_stops == pytest.approx(-1.47, abs=0.01)
    assert eight.shadow_left_stops > 0
    assert five.bracket_needed[0] == 5
    assert five.bracket_needed[1] > 1.4
    # a bracket that is taken only where it is bright helps the dark part nothing
    part = Exposure(values, "brightest", bracket_step_ev=1.0, bracket_count=8, bracket_only_above_ev=12.0)
    assert _setting(rig=rig, exposure=part).shadow_left_stops == pytest.approx(-3.47, abs=0.01)
    white = _setting(
        rig=Rig(range_stops=13.0), exposure=Exposure(((0, 8), (60, 14), (120, 18)), "average", bracket_count=3)
    )
    assert white.white_left_stops == pytest.approx(2.67, abs=0.01)


def test_the_remedy_leaves_nothing_of_what_it_is_offered_for():
    for readings, metering in (
        (((0.0, 5.0), (90.0, 17.0)), "brightest"),
        (((0.0, 8.0), (60.0, 14.0), (120.0, 18.0)), "average"),
    ):
        brief = Brief(exposure=Exposure(readings, metering, bracket_step_ev=1.0))
        plan = make_plan(brief)
        keys = {j.key: j.remedy_id for j in judge(plan)}
        assert "bracket" in {keys.get("range"), keys.get("clipping")}
        after = {j.key for j in judge(make_plan(REMEDIES["bracket"].apply(plan)))}
        assert not after & {"range", "clipping"}


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


def test_engraved_times_are_the_third_stops_by_their_formula():
    """t = 2^(k / 3) s; names are rounded by less than an eighth of a stop, each stands for one step and grows."""
    found = [engraved_time(2 ** (k / 3)) for k in range(-38, 15)]
    assert all(abs(math.log2(t / 2 ** (k / 3))) < 0.13 for k, t in zip(range(-38, 15), found))
    assert found == sorted(set(found))
