"""A plan takes no frame that shows nothing new of what is wanted, and tells what it takes beyond the rule in the head."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from tests.core.plan.test_grid_wishes import FULL, _even, _seen

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.plan.brief import Brief, Support
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.kinds import kind_of
from idle_lantern.core.plan.planner import Plan, make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField


def _started(kind: str, rig: dict[str, object], support: dict[str, object] | None = None, **field: object) -> Plan:
    brief = kind_of(kind).start(Brief(rig=Rig(**FULL)))
    return make_plan(
        replace(
            brief,
            rig=replace(brief.rig, **rig),
            support=replace(brief.support, **(support or {})),
            target_field=replace(brief.target_field, **field),
        )
    )


def _shown(plan: Plan) -> np.ndarray:
    """Which of even directions over the wanted field are in a frame."""
    return _seen(plan.rig, plan.frames, _even(plan.target_field, 20_000))


def _open_deg(plan: Plan) -> float:
    """The lowest altitude that is left out above the middle of the wanted field."""
    world = _even(plan.target_field, 20_000)[~_shown(plan)]
    altitude = np.degrees(np.arcsin(-world[:, 1]))
    return float(altitude.min(initial=90.0))


def test_a_reserve_beyond_the_tilt_of_the_head_adds_no_frames():
    """From the air, tilted to 30 degrees at most: with the upper edge at 44 the wished field lies in as many frames as with 40."""
    lower, upper = (_started("air", {"focal_mm": 35.0, "upright": False}, high_deg=edge) for edge in (40.0, 44.0))
    assert len(upper.frames) <= len(lower.frames) + 1 <= 20
    assert _shown(upper).all()


def test_what_the_head_cannot_reach_is_told_and_takes_no_more_frames():
    """50 mm upright tilted by 30 degrees sees up to 30 + atan(18 / 50) = 49.8 degrees in its middle; 60 is wanted."""
    tilt = {"tilt_high_deg": 30.0}
    within, beyond = (
        _started("rows", {"focal_mm": 50.0, "upright": True}, tilt, left_deg=-60.0, right_deg=60.0, low_deg=-20.0, high_deg=edge)
        for edge in (40.0, 60.0)
    )  # fmt: skip
    assert _shown(within).all()
    assert len(beyond.frames) <= len(within.frames) + 1 <= 23
    told = [j for j in judge(beyond) if j.key == "hole"]
    assert len(told) == 1
    assert "tilts only" in told[0].sentence
    # between neighbours the upper edge sinks a little
    assert _open_deg(beyond) > 45


def test_no_direction_is_planned_twice_on_stops_of_the_tilt():
    plan = _started("rows", {"focal_mm": 20.0 * 1.5}, {"tilt_step_deg": 45.0})
    looks = {(round(f.yaw_deg, 2) if abs(f.pitch_deg) < 89.9 else 0.0, f.pitch_deg) for f in plan.frames}
    assert len(looks) == len(plan.frames) <= 33


@pytest.mark.parametrize(("half", "most", "left_out"), [(50, 6, 0.045), (10, 9, 0.09)])
def test_stops_that_leave_gaps_get_the_rows_that_show_most(half: float, most: int, left_out: float):
    """24 mm upright is 53 degrees wide, the stops are 60 apart: one row of three leaves out 30 % of +-50, two rows 4 %."""
    assert 2 * math.degrees(math.atan(12 / 24)) < 60
    plan = make_plan(
        Brief(
            rig=Rig(**FULL, focal_mm=24), target_field=TargetField(-80, 80, -half, half), support=Support(step_deg=60)
        )
    )
    assert len(plan.frames) <= most
    assert 1 - _shown(plan).mean() <= left_out
    assert abs(plan.coverage.hole_share - (1 - _shown(plan).mean())) < 0.01


@pytest.mark.parametrize("side", [0.5, 0.7, 1.0])
def test_the_narrowest_fields_are_planned_and_judged(side: float):
    """Half a degree may be wished; what is reckoned on the way must not be refused instead."""
    for field in (
        TargetField(0, side, -5, 5),
        TargetField(-20, 20, 0, side),
        TargetField(0, side, 0, side, reserve=0.2),
    ):
        plan = make_plan(Brief(target_field=field, support=Support("hand")))
        assert _shown(plan).all()
        assert judge(plan)


def test_a_fisheye_is_no_shift_lens():
    with pytest.raises(InputError, match="does not shift"):
        Rig(lens_model="equisolid", motion="lens-shift")


def test_corners_of_the_reserve_take_no_frames():
    """They are cut off: 50 mm sideways shows 39.6 degrees, so three frames a third over each other reach 92 of the 89 wanted."""
    shift = _started("sensor-shift", {"focal_mm": 50.0, "upright": False})
    wide = 2 * math.degrees(math.atan(18 / 50))
    assert wide + 2 * wide * 2 / 3 > shift.target_field.with_reserve().sweep_deg
    assert len(shift.frames) == 6
    assert _shown(shift).all()
    assert len(_started("air", {"focal_mm": 35.0, "upright": True}).frames) <= 15


def test_frames_beyond_the_rule_in_the_head_are_told_with_their_reason():
    """On stops of 5 degrees a step of 8.9 becomes one of 5; free of them nothing is to be told."""
    rig = Rig(17.3, 13, 5184, 3888, 41.7)
    field = TargetField(-180, 180, -22, 47, 0.5)
    rule = 5 * math.ceil(360 / (0.5 * 2 * math.degrees(math.atan(6.5 / 41.7))))
    on_stops = make_plan(Brief(rig=rig, target_field=field, support=Support(step_deg=5)))
    told = next(j for j in judge(on_stops) if j.key == "beyond-rule")
    assert f"takes {rule} frames; this plan takes {len(on_stops.frames)}" in told.sentence
    assert f"{len(on_stops.frames) - rule} because the head's stops" in told.sentence
    free = make_plan(Brief(rig=rig, target_field=field))
    assert len(free.frames) <= rule
    assert "beyond-rule" not in {j.key for j in judge(free)}


def test_random_plans_take_no_more_than_the_rule_without_a_reason():
    """Free heads and heads with stops: more than the rule only where that is told, no frame beside the wished field."""
    rng = np.random.default_rng(38)
    for _ in range(8):
        rig = Rig(**FULL, focal_mm=float(rng.uniform(16, 90)), upright=bool(rng.integers(2)))
        half, low = rng.uniform(15, 100), -float(rng.uniform(5, 40))
        field = TargetField(-half, half, low, float(rng.uniform(5, 60)), float(rng.choice((0.2, 1 / 3, 0.5))))
        support = Support(
            step_deg=float(rng.choice((0, 0, 10, 45))),
            tilt_step_deg=float(rng.choice((0, 0, 0, 30))),
            tilt_high_deg=float(rng.choice((90, 90, 30))),
        )
        plan = make_plan(Brief(rig=rig, target_field=field, support=support))
        wide, tall = (
            2 * math.degrees(math.atan(side / 2 / rig.focal_mm)) for side in ((24, 36) if rig.upright else (36, 24))
        )
        rows = 1 + math.ceil(max(0.0, field.high_deg - low - tall) / (tall * (1 - field.overlap)))
        rule = rows * (1 + math.ceil(max(0.0, 2 * half - wide) / (wide * (1 - field.overlap))))
        keys = {j.key for j in judge(plan)}
        assert len(plan.frames) <= rule or "beyond-rule" in keys, (rig, field, support)
        world = _even(field, 8000)
        shown = np.array([_seen(rig, [f], world) for f in plan.frames])
        assert shown.any(1).all(), (rig, field, support)
        assert shown.any(0).all() or "hole" in keys, (rig, field, support)
