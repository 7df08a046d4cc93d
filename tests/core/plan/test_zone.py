"""Hours from UTC of a place: against civil times that are law, daylight saving included."""

from __future__ import annotations

import json

import pytest

from idle_lantern.core.plan.brief import Brief, Site
from idle_lantern.core.plan.exchange import SPEC_SCHEMA, read_spec
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.remedies import REMEDIES
from idle_lantern.core.plan.zone import at_sea, place_offset_h

#: Summer time runs from the last Sunday of March to that of October (Directive 2000/84/EC): 29 March and 25 October 2026.
#: India keeps UTC+5:30 all year, Chile's Easter Island UTC-5 in its summer (common knowledge, no source).
CASES = [
    (52.5, 13.4, "2026-03-28", "12:00", 1.0),
    (52.5, 13.4, "2026-03-30", "12:00", 2.0),
    (52.5, 13.4, "2026-10-26", "12:00", 1.0),
    (53.3, -6.3, "2026-07-01", "12:00", 1.0),
    (28.6, 77.2, "2026-07-01", "12:00", 5.5),
    (-27.1, -109.4, "2026-12-21", "12:00", -5.0),
]


@pytest.mark.parametrize(("latitude", "longitude", "date", "start", "hours"), CASES)
def test_the_clocks_of_a_place(latitude: float, longitude: float, date: str, start: str, hours: float):
    assert place_offset_h(Site("", latitude, longitude, date, start, 0.0)) == hours


def test_out_at_sea_the_meridian_counts():
    """Nautical time: a whole hour for each 15 degrees of longitude."""
    site = Site("", 40.0, -30.0)
    assert at_sea(site)
    assert place_offset_h(site) == -2.0


def test_a_specification_without_hours_takes_those_of_its_place():
    place = {"latitude_deg": 28.6, "longitude_deg": 77.2, "date": "2026-05-01", "start": "18:00"}

    def offset(**more: float) -> float:
        return read_spec(json.dumps({"schema": SPEC_SCHEMA, "site": {**place, **more}})).site.utc_offset_h

    assert offset() == 5.5
    assert offset(utc_offset_h=2.0) == 2.0
    assert read_spec(json.dumps({"schema": SPEC_SCHEMA})).site.utc_offset_h == Site().utc_offset_h


def test_other_hours_than_the_places_are_told_and_mended():
    brief = Brief(site=Site("", 28.6, 77.2, "2026-05-01", "18:00", 1.0))
    told = next(j for j in judge(make_plan(brief)) if j.key == "zone-other")
    assert "28.6\N{DEGREE SIGN} N, 77.2\N{DEGREE SIGN} E show UTC+5.5 h" in told.sentence
    after = make_plan(REMEDIES[told.remedy_id].apply(make_plan(brief)))
    assert after.brief.site.utc_offset_h == 5.5
    assert not any(j.key == "zone-other" for j in judge(after))
