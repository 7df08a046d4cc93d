"""An evening of several scenes: walks and places by hand, order against brute force, the calendar against RFC 5545."""

from __future__ import annotations

import datetime
import itertools
import math
import re
from dataclasses import replace
from pathlib import Path

import pytest

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.plan.brief import Brief, Site, Stop
from idle_lantern.core.plan.calendar import write_calendar
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.remedies import REMEDIES
from idle_lantern.core.plan.sun import day
from idle_lantern.core.plan.tour import metres_from, parse_stop, position_of, proposed, to_drop, tour

SITE = Site(latitude_deg=55.0, longitude_deg=-8.0, date="2026-05-14", start="19:30", utc_offset_h=1.0)


def test_walks_follow_from_places_and_told_ones_stand():
    """By hand: 300 m east and 400 m north are 500 m; a third longer by the path, at a metre a second: 10.8 min."""
    stops = (Stop("mole", 10, 0, "any", (300.0, 400.0)), Stop("pier", 5, 7, "any", (0.0, 0.0)), Stop("inn", 5, 4))
    found = tour(SITE, "here", 600.0, stops)
    assert [v.name for v in found.visits] == ["here", "mole", "pier", "inn"]
    assert [round(v.walk_minutes, 2) for v in found.visits] == [0.0, round(500 * 1.3 / 60, 2), 7.0, 4.0]
    assert found.visits[0].end == SITE.begin + datetime.timedelta(minutes=10)
    assert found.visits[1].begin == found.visits[0].end + datetime.timedelta(minutes=500 * 1.3 / 60)


def test_places_by_latitude_are_those_of_the_great_circle():
    """Haversine on the same mean radius (R. W. Sinnott, Sky and Telescope 68, 1984)."""
    east, north = metres_from(SITE, 55.01, -7.98)
    a, b, turn = math.radians(55.0), math.radians(55.01), math.radians(0.02)
    h = math.sin((b - a) / 2) ** 2 + math.cos(a) * math.cos(b) * math.sin(turn / 2) ** 2
    assert math.hypot(east, north) == pytest.approx(2 * 6371008.8 * math.asin(math.sqrt(h)), rel=1e-3)
    assert position_of(SITE, (east, north)) == (pytest.approx(55.01), pytest.approx(-7.98))
    assert metres_from(replace(SITE, longitude_deg=179.99), 55.0, -179.99)[0] > 0, "over the date line"


def test_who_comes_early_waits_for_the_light_and_who_comes_late_misses_it():
    blue = day(SITE).first("blue light begins")
    assert blue is not None
    early = tour(SITE, "here", 60.0, [Stop("lamp", 5, 3, "blue")]).visits[1]
    assert early.gets
    assert abs((early.begin - blue).total_seconds()) < 90, "by the day's own crossing of -4 degrees"
    assert early.waits > 30
    late = tour(replace(SITE, start="22:55"), "here", 60.0, [Stop("lamp", 5, 30, "blue")])
    assert late.missed == ("lamp",)


def test_the_proposed_order_is_the_best_of_all_orders():
    stops = (
        Stop("lamps", 10, 0, "blue", (500.0, 0.0)), Stop("shore", 10, 0, "golden", (-400.0, 300.0)),
        Stop("wood", 10, 0, "any", (450.0, 100.0)), Stop("stars", 5, 0, "night", (0.0, 900.0)),
    )  # fmt: skip
    site = replace(SITE, stops=stops)

    def cost(order: tuple[Stop, ...]) -> tuple[int, float]:
        visits = tour(site, "here", 300.0, order).visits
        return sum(not v.gets for v in visits), sum(v.walk_minutes + v.waits for v in visits)

    best = proposed(site, "here", 300.0)
    assert cost(best) == min(cost(order) for order in itertools.permutations(stops))
    assert tour(site, "here", 300.0, best).missed == ()
    # more scenes than can be tried: built up one by one, never worse than as told
    many = replace(
        site, stops=(*stops, *(Stop(f"room {k}", 2, 0, "any", (40.0 * k, -30.0 * (k % 3))) for k in range(6)))
    )
    built = proposed(many, "here", 300.0)
    assert sorted(s.name for s in built) == sorted(s.name for s in many.stops)
    walked = [tour(many, "here", 300.0, order) for order in (built, many.stops)]
    assert (len(walked[0].missed), walked[0].walk_minutes) <= (len(walked[1].missed), walked[1].walk_minutes)


def test_what_does_not_fit_is_told_with_what_to_leave():
    two = (Stop("west", 10, 5, "blue"), Stop("east", 10, 5, "blue"))
    site = replace(SITE, stops=two)
    assert len(to_drop(site, "here", 300.0)) == 1, "blue light lasts for one of them"
    (told,) = [j for j in judge(make_plan(Brief(site=site))) if j.key == "evening-light"]
    assert "blue light" in told.sentence
    assert told.remedy.startswith("Leave out")
    # wrong order: a button brings the better one
    swapped = replace(SITE, stops=(Stop("lamps", 10, 5, "blue"), Stop("shore", 10, 5, "golden")), start="21:05")
    plan = make_plan(Brief(site=swapped))
    (told,) = [j for j in judge(plan) if j.key == "evening-light"]
    assert told.remedy_id == "evening-order"
    mended = make_plan(REMEDIES["evening-order"].apply(plan))
    assert [s.name for s in mended.brief.site.stops] == ["shore", "lamps"]
    assert mended.evening.missed == ()


@pytest.mark.parametrize(
    ("text", "stop"),
    [
        ("harbour, 10, 15", Stop("harbour", 10, 15)),
        ("mole, 20, golden, 300 E 120 N", Stop("mole", 20, 0, "golden", (300.0, 120.0))),
        ("cellar, 5, 2.5 m W 4 m S", Stop("cellar", 5, 0, "any", (-2.5, -4.0))),
        ("pier, 15, 55.01 -8.0", Stop("pier", 15, 0, "any", (0.0, 1111.95))),
    ],
)
def test_a_scene_is_read_as_people_write_it(text: str, stop: Stop):
    found = parse_stop(text, SITE)
    assert (found.name, found.minutes, found.walk_minutes, found.light) == (
        stop.name,
        stop.minutes,
        stop.walk_minutes,
        stop.light,
    )
    assert found.place_m == (None if stop.place_m is None else pytest.approx(stop.place_m, abs=0.1))


@pytest.mark.parametrize(
    "text", ["", "harbour", "harbour, ten", "harbour, 10, purple", "harbour, 10, 99 99", ", 10", "pier, -4"]
)
def test_a_scene_that_cannot_be_read_is_one_sentence(text: str):
    with pytest.raises(InputError) as told:
        parse_stop(text, SITE)
    assert len(told.value.sentence) < 250


def test_the_calendar_is_one_that_rfc_5545_describes(tmp_path: Path):
    """Section 3.1: lines end in CRLF and hold 75 octets at most; 3.6.1: UID, DTSTAMP and DTSTART; 3.8.1.6: GEO."""
    stops = (Stop("møle; with, signs " * 6, 10, 12, "blue", (300.0, 400.0)), Stop("inn", 0))
    plan = make_plan(Brief(site=replace(SITE, stops=stops)))
    write_calendar(plan, tmp_path / "e.ics", "Evening")
    data = (tmp_path / "e.ics").read_bytes()
    lines = data.split(b"\r\n")
    assert b"\n" not in b"".join(lines)
    assert all(len(line) <= 75 for line in lines)
    text = data.replace(b"\r\n ", b"").decode()
    assert text.startswith("BEGIN:VCALENDAR\r\n")
    events = text.split("BEGIN:VEVENT")[1:]
    assert len(events) == 3
    for event, visit in zip(events, plan.evening.visits):
        start = (visit.begin - datetime.timedelta(hours=1)).strftime("%Y%m%dT%H%M%SZ")
        assert f"DTSTART:{start}" in event
        assert re.search(r"^UID:\S+@idle-lantern\r$", event, re.MULTILINE)
        assert "DTSTAMP:" in event
    assert "møle\\; with\\, signs" in events[1]
    place = re.search(r"GEO:(-?[\d.]+);(-?[\d.]+)", events[1])
    assert place is not None
    assert float(place[1]) == pytest.approx(55.0036, abs=1e-4)
    assert float(place[2]) == pytest.approx(-7.9953, abs=1e-4)
    assert "GEO" not in events[2]
    assert len({re.search(r"UID:(\S+)", e)[1] for e in events}) == 3  # type: ignore[index]
