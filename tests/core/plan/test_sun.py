"""Sun and moon against the NREL Solar Position Algorithm and an independent package."""

from __future__ import annotations

import datetime
import math

import ephem
import pytest
from astral import Observer
from astral import sun as astral_sun

from idle_lantern.core.plan.brief import Brief, Site
from idle_lantern.core.plan.card import card_text
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.sun import (
    day,
    daylight_ev,
    illuminance_lux,
    lit_from,
    minutes_of_even_light,
    moon_at,
    refraction_deg,
    sun_at,
)

#: NREL/TP-560-34302 (Reda and Andreas, 2008), appendix A.5: 17 October 2003, 12:30:30 local (UTC - 7),
#: 39.742476 N, 105.1786 W, 1830.14 m, 820 mbar, 11 degrees Celsius.
SPA = Site("", 39.742476, -105.1786, "2003-10-17", "12:30:30", -7.0)
SPA_ZENITH_DEG, SPA_AZIMUTH_DEG = 50.11162, 194.34024


def test_the_worked_example_of_the_solar_position_algorithm():
    """Azimuth to 0.001 degree; height to 0.01, since the report's air is thinner than our standard one."""
    found = sun_at(SPA, SPA.begin)
    assert found.bearing_deg == pytest.approx(SPA_AZIMUTH_DEG, abs=0.002)
    assert 90 - found.altitude_deg == pytest.approx(SPA_ZENITH_DEG, abs=0.01)


@pytest.mark.parametrize(
    "site", [SPA, Site("", 55.0, -8.0, "2026-05-14", "19:30", 1.0), Site("", -33.9, 18.4, "2026-02-03", "12:00", 2.0)]
)
def test_the_sun_stands_highest_when_it_crosses_the_meridian(site: Site):
    """ephem's own transit; towards the solstice the sun climbs on by a few seconds of it."""
    observer = ephem.Observer()
    observer.lat, observer.lon = math.radians(site.latitude_deg), math.radians(site.longitude_deg)
    midnight = datetime.datetime.fromisoformat(f"{site.date}T00:00") - datetime.timedelta(hours=site.utc_offset_h)
    observer.date = ephem.Date(midnight)
    transit = observer.next_transit(ephem.Sun()).datetime() + datetime.timedelta(hours=site.utc_offset_h)
    found = day(site).first("sun highest")
    assert found is not None
    assert abs((found - transit).total_seconds()) < 40


PLACES = [
    (0.0, 10.0, "2026-03-20", 0.0),
    (51.5, -0.1, "2026-06-21", 1.0),
    (-33.9, 18.4, "2026-12-21", 2.0),
    (64.1, -21.9, "2026-05-14", 0.0),
    (35.0, 139.0, "2027-01-05", 9.0),
]


@pytest.mark.parametrize(("latitude", "longitude", "date", "offset"), PLACES)
def test_positions_agree_with_an_independent_package(latitude: float, longitude: float, date: str, offset: float):
    """astral computes by its own series (Meeus); both within 0.05 degrees in daylight."""
    for hour in (7, 10, 13, 16):
        site = Site("", latitude, longitude, date, f"{hour:02d}:00", offset)
        utc = (site.begin - datetime.timedelta(hours=offset)).replace(tzinfo=datetime.UTC)
        theirs = Observer(latitude, longitude)
        found = sun_at(site, site.begin)
        height = astral_sun.elevation(theirs, utc)
        if height < 5:
            continue  # refraction near the horizon is told differently by everyone
        assert found.altitude_deg == pytest.approx(height, abs=0.05)
        turn = (found.bearing_deg - astral_sun.azimuth(theirs, utc) + 180) % 360 - 180
        assert turn * math.cos(math.radians(height)) == pytest.approx(0, abs=0.05)


@pytest.mark.parametrize(("latitude", "longitude", "date", "offset"), PLACES)
def test_sunrise_and_sunset_agree_with_an_independent_package(latitude, longitude, date, offset):
    site = Site("", latitude, longitude, date, "12:00", offset)
    zone = datetime.timezone(datetime.timedelta(hours=offset))
    theirs = astral_sun.sun(Observer(latitude, longitude), datetime.date.fromisoformat(date), tzinfo=zone)
    for name in ("sunrise", "sunset"):
        found = day(site).first(name)
        assert found is not None
        assert abs((found - theirs[name].replace(tzinfo=None)).total_seconds()) < 90


def test_beyond_the_polar_circle_the_sun_may_stay_up():
    north = day(Site("", 75.0, 20.0, "2026-06-21", "12:00", 2.0))
    assert north.first("sunset") is None
    assert min(p.altitude_deg for p in north.sun) > 0


def test_events_come_in_the_order_of_the_evening():
    found = day(Site("", 55.0, -8.0, "2026-05-14", "19:30", 1.0))
    names = ("golden light begins", "sunset", "blue light begins", "blue light ends, evening")
    times = [found.first(n) for n in names]
    assert None not in times
    assert times == sorted(times)


def test_refraction_at_the_horizon():
    """34 minutes of arc at the horizon for the almanac; 29 for a body seen to stand half a degree up
    (Meeus, Astronomical Algorithms, chapter 16; from memory)."""
    assert refraction_deg(0.0) * 60 == pytest.approx(29, abs=1.0)
    assert refraction_deg(45.0) * 60 == pytest.approx(1.0, abs=0.05)
    assert refraction_deg(-5.0) == 0.0


def test_moon_phase_of_a_known_full_moon():
    """A full moon fell on 24 November 2026 at 14:53 UTC (almanac, from memory)."""
    assert day(Site("", 55.0, -8.0, "2026-11-24", "20:00", 0.0)).moon_lit == pytest.approx(1, abs=0.01)
    assert float(ephem.next_full_moon("2026/11/20") - ephem.Date("2026/11/24 14:53")) == pytest.approx(0, abs=0.02)


def test_a_full_moon_stands_opposite_the_sun():
    site = Site("", 50.0, 0.0, "2026-11-24", "15:00", 0.0)
    sun, moon = sun_at(site, site.begin), moon_at(site, site.begin)
    apart = abs((sun.bearing_deg - moon.bearing_deg + 180) % 360 - 180)
    assert apart > 170


@pytest.mark.parametrize(
    ("altitude", "lux", "tolerance"),
    [
        # from memory: full sun at the zenith some 120 000 lux, sunset some 400 to 800, end of civil twilight 3.4
        (90, 127000, 0.1),
        (0, 600, 0.35),
        (-6, 3.4, 0.1),
        (-12, 0.008, 0.2),
    ],
)
def test_illuminance_by_the_suns_height(altitude: float, lux: float, tolerance: float):
    assert illuminance_lux(altitude) == pytest.approx(lux, rel=tolerance)


def test_illuminance_has_no_jumps():
    """Its pieces meet at 20, 5, -0.8, -5, -12 and -18 degrees."""
    for joint in (20, 5, -0.8, -5, -12):
        assert math.log10(illuminance_lux(joint + 1e-6)) == pytest.approx(
            math.log10(illuminance_lux(joint - 1e-6)), abs=0.02
        )


def test_daylight_ev():
    """High sun reads about EV 15, sunset about EV 8 on a level card (common practice, no source)."""
    assert daylight_ev(60) == pytest.approx(15.2, abs=0.4)
    assert daylight_ev(0) == pytest.approx(8.0, abs=0.6)


@pytest.mark.parametrize(
    ("date", "words"),
    [("2026-06-21", "up all day and night"), ("2026-12-21", "below the horizon all day"), ("2026-03-20", "")],
)
def test_polar_day_and_night_are_told(date: str, words: str):
    """78 degrees north: the sun never sets from April to August and never rises from October to February (almanacs)."""
    site = Site("", 78.2, 15.6, date, "12:00", 1.0)
    assert day(site).always == words
    assert not words or f"{'Sun:':<22}{words}" in card_text(make_plan(Brief(site=site)))


def test_light_holds_at_noon_and_runs_away_at_sunset():
    noon = Site("", 50.0, 0.0, "2026-06-21", "12:00", 0.0)
    evening = Site("", 50.0, 0.0, "2026-06-21", "20:10", 0.0)
    assert minutes_of_even_light(noon, noon.begin) > 60
    assert minutes_of_even_light(evening, evening.begin) < 8


@pytest.mark.parametrize("altitude", [25.0, 35.0, 50.0])
def test_daylight_changes_by_day_as_measured_skies_do(altitude: float):
    """Haurwitz (1945) for a clear sky: irradiance goes with sin h * exp(-0.057 / sin h); constants from memory.

    How fast that changes with the height, not how bright it is, decides for how long light stays even.
    """

    def irradiance(h_deg: float) -> float:
        sine = math.sin(math.radians(h_deg))
        return 1098 * sine * math.exp(-0.057 / sine)

    truth = math.log2(irradiance(altitude + 1) / irradiance(altitude - 1)) / 2
    ours = (daylight_ev(altitude + 1) - daylight_ev(altitude - 1)) / 2
    assert ours == pytest.approx(truth, rel=0.15)


@pytest.mark.parametrize(
    ("sun_yaw", "middle", "word"), [(10, 0, "against"), (90, 0, "right"), (-90, 0, "left"), (170, -20, "behind")]
)
def test_where_the_light_comes_from(sun_yaw: float, middle: float, word: str):
    assert word in lit_from(sun_yaw, middle)
