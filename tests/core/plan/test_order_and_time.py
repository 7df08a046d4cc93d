"""Orders of shooting, the way the head turns, how long it takes, the evening."""

from __future__ import annotations

import pytest

from idle_lantern.core.plan.brief import ORDERS, Brief, Exposure, Mark, Run, Scene, Site, Stop
from idle_lantern.core.plan.grid import plan_grid
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.order import REASONS, in_order, turning_deg
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

GRID = plan_grid(Rig(focal_mm=35, upright=False), TargetField(-50, 50, -25, 25, 0.3))
SPHERE = plan_grid(Rig(focal_mm=14), TargetField(-180, 180, -90, 90, 0.3))


def _place(f: GridFrame) -> tuple[float, float]:
    return f.yaw_deg, f.pitch_deg


@pytest.mark.parametrize("order", ORDERS)
@pytest.mark.parametrize("frames", [GRID, SPHERE])
def test_every_order_takes_every_frame_once_with_zenith_and_nadir_last(order: str, frames: tuple[GridFrame, ...]):
    ordered = in_order(frames, order, 10, 0, 60)
    assert sorted(map(_place, ordered)) == sorted(map(_place, frames))
    assert [f.number for f in ordered] == list(range(1, len(frames) + 1))
    caps = sum(f.role in ("zenith", "nadir") for f in frames)
    assert all(f.role in ("zenith", "nadir") for f in ordered[len(ordered) - caps :])


def test_orders_and_reasons_are_the_same_set():
    assert set(ORDERS) == set(REASONS)


def test_snake_turns_least_and_rows_run_left_to_right():
    rows, snake = in_order(GRID, "rows", 0, 0, 0), in_order(GRID, "snake", 0, 0, 0)
    assert turning_deg(snake) < turning_deg(rows)
    assert [f.yaw_deg for f in rows[:3]] == sorted(f.yaw_deg for f in rows[:3])


def test_columns_go_down_one_after_the_other():
    grid = plan_grid(Rig(focal_mm=100, upright=False), TargetField(-20, 20, -12, 12, 0.3))
    columns = in_order(grid, "columns", 0, 0, 0)
    rows = len({f.row for f in grid})
    assert len(grid) % rows == 0
    for k in range(0, len(columns) - rows, rows):
        pitches = [f.pitch_deg for f in columns[k : k + rows]]
        assert pitches == sorted(pitches, reverse=True)


def test_subject_first_goes_outward():
    ordered = in_order(GRID, "subject", 20, 5, 0)
    away = [max(abs(f.yaw_deg - 20), abs(f.pitch_deg - 5)) for f in ordered]
    assert away[0] == min(away)
    assert sum(away[: len(away) // 2]) < sum(away[len(away) // 2 :])


def test_mirrored_goes_right_and_left_in_turn():
    row = plan_grid(Rig(), TargetField(-80, 80, -15, 15, 0.3))
    yaws = [f.yaw_deg for f in in_order(row, "mirrored", 0, 0, 0)]
    assert yaws[1] * yaws[2] < 0


def test_sunny_side_first_moves_away_from_it():
    """Sun side first when the sun is going down, moving away from it (common practice, no source)."""
    row = plan_grid(Rig(), TargetField(-80, 80, -15, 15, 0.3))
    right = [f.yaw_deg for f in in_order(row, "sun", 0, 0, 85)]
    left = [f.yaw_deg for f in in_order(row, "sun", 0, 0, -85)]
    assert right == sorted(right, reverse=True)
    assert left == sorted(left)


def test_turning_goes_the_short_way():
    frames = [GridFrame(1, 1, 1, 170, 0), GridFrame(2, 1, 2, -170, 10)]
    assert turning_deg(frames) == pytest.approx(30)


def test_the_run_adds_up_by_hand():
    """Ten positions: settling 3 s, delay 2 s, twice each, 1 s exposures, 0.4 s to be ready, bookends."""
    brief = Brief(
        rig=Rig(),
        target_field=TargetField(-180, 180, -10, 10, 0.3),
        exposure=Exposure(((0.0, 6.0),), aperture=8, iso=100),
        run=Run(repeats=2, settle_s=3, delay_s=2, turn_deg_per_s=10),
    )
    plan = make_plan(brief)
    n, t = len(plan.frames), plan.setting.time_s
    assert plan.time.exposures == 2 * n + 2
    assert plan.time.exposing_s == pytest.approx((2 * n + 2) * (t + 0.4))
    assert plan.time.settling_s == pytest.approx(5 * n)
    step = 360 / n
    assert plan.time.turning_s == pytest.approx(step * (n - 1) / 10, rel=0.01)


def test_brackets_only_where_it_is_bright():
    brief = Brief(
        target_field=TargetField(-180, 180, -10, 10, 0.3),
        exposure=Exposure(((-90.0, 12.0), (90.0, 16.0)), bracket_count=3, bracket_only_above_ev=14.5),
        run=Run(bookends=False),
    )
    plan = make_plan(brief)
    n = len(plan.frames)
    assert n < plan.time.exposures < 3 * n


def test_the_evening_runs_on_with_walks():
    site = Site(start="19:30", stops=(Stop("harbour", 10, 15), Stop("light", 5, 20)))
    plan = make_plan(Brief(site=site))
    here, harbour, light = plan.evening.visits
    assert (harbour.begin - here.end).total_seconds() == 15 * 60
    assert (light.end - harbour.end).total_seconds() == 25 * 60
    assert light.sun_end_deg < here.sun_begin_deg


def test_the_first_mark_is_the_subject():
    plan = make_plan(Brief(scene=Scene(marks=(Mark("beacon", 42.0, 3.0),)), run=Run(order="subject")))
    assert abs(plan.frames[0].yaw_deg - 42) < 30
    assert plan.subject.name == "beacon"
