"""Legs to raise against a plane through the feet; check lists and cautions by kind, gear and light."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from idle_lantern.core.plan.brief import Brief, Exposure, Scene, Site, Support
from idle_lantern.core.plan.checklist import before_first_frame, before_leaving, cautions
from idle_lantern.core.plan.kinds import KINDS
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.plan.tripod_legs import crop_cost, leg_lifts


@pytest.mark.parametrize(("lean", "toward", "first"), [(1.0, 0.0, 0.0), (2.5, 77.0, 30.0), (0.4, -130.0, -15.0)])
def test_raised_legs_make_the_plane_of_the_feet_level(lean: float, toward: float, first: float):
    """The feet before: a leaning plane. Each lifted as told, NumPy's least squares finds the plane: its slope is none."""
    slope, yaws = math.tan(math.radians(lean)), [first + 120 * k for k in range(3)]
    x, z = (500 * np.array([f(math.radians(y)) for y in yaws]) for f in (math.sin, math.cos))
    t = math.radians(toward)
    height = -slope * (x * math.sin(t) + z * math.cos(t))
    lifts = leg_lifts(lean, toward, 1000.0, first)
    assert 1 <= len(lifts) <= 2, "the highest foot stays"
    assert all(min(abs((y - lift.yaw_deg + 180) % 360 - 180) for y in yaws) < 1e-9 for lift in lifts)
    for lift in lifts:
        at = min(range(3), key=lambda k: abs((yaws[k] - lift.yaw_deg + 180) % 360 - 180))
        height[at] += lift.mm
    plane, *_ = np.linalg.lstsq(np.stack([x, z, np.ones(3)], 1), height, rcond=None)
    assert np.abs(plane[:2]).max() < math.tan(math.radians(0.06))
    assert [lift.mm for lift in lifts] == sorted((lift.mm for lift in lifts), reverse=True)


def test_a_level_base_needs_nothing_and_a_lean_costs_height():
    assert leg_lifts(0.01, 40.0, 900.0, 0.0) == ()
    plan = make_plan(Brief(target_field=TargetField(-90, 90, -20, 20, 1 / 3)))
    assert crop_cost(plan, 0.0) == 0.0
    assert 0.0 < crop_cost(plan, 1.0) < crop_cost(plan, 4.0) < 0.6


@pytest.mark.parametrize("kind", KINDS, ids=lambda k: k.id)
def test_every_kind_has_its_lists(kind):
    plan = make_plan(kind.start(Brief()))
    leaving, first = before_leaving(plan.brief), before_first_frame(plan.brief)
    assert len(leaving) >= 3
    assert len(first) >= 4
    assert len(set(leaving + first)) == len(leaving) + len(first)
    assert cautions(plan)[-1] == "Local rules and trained people decide."
    assert all(len(words) <= 200 for words in leaving + first)


def test_lists_follow_the_gear_and_cautions_the_place():
    """Common practice, no source: a head is levelled at its base, a hand is not; a low sun in the field is warned of."""
    brief = Brief()
    assert any("no-parallax" in w for w in before_first_frame(brief))
    by_hand = replace(brief, support=Support(kind="hand"))
    assert not any("Base level" in w for w in before_first_frame(by_hand))
    assert any("Bracket of 5" in w for w in before_first_frame(replace(brief, exposure=Exposure(bracket_count=5))))
    site = Site(
        latitude_deg=57.0, longitude_deg=-26.0, date="2026-05-14", start="20:00", utc_offset_h=0.0, facing_deg=285.0
    )
    told = cautions(make_plan(replace(brief, site=site)))
    assert any("optical finder" in c for c in told)
    away = cautions(
        make_plan(replace(brief, site=replace(site, facing_deg=105.0), target_field=TargetField(-30, 30, -10, 10)))
    )
    assert not any("optical finder" in c for c in away)
    indoors = cautions(make_plan(replace(brief, scene=Scene(sky="indoors"))))
    assert any("Cables" in c for c in indoors)
    assert not any("tides" in c for c in indoors)
    windy = cautions(make_plan(replace(brief, scene=Scene(wind_ms=14))))
    assert any("14 m/s" in c for c in windy)
    flying = cautions(make_plan(replace(brief, support=Support(kind="air"))))
    assert any("aviation rules" in c for c in flying)
