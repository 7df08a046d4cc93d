"""The time that shooting takes: turning, coming to rest, the delay of the shutter, exposing; as steps that can be counted down."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.shoot.guide import turn_to_next

Doing = Literal["turning", "settling", "delay", "exposing"]
#: Called with what is done and how long it takes; returns when that time is over.
Pace = Callable[[Doing, float], None]


def no_time(_doing: Doing, _seconds: float) -> None:
    """For the impatient: nothing takes any time."""


def turning_s(plan: Plan, previous: GridFrame | None, frame: GridFrame) -> float:
    """Seconds to turn and tilt from one frame to the next; the first frame is where the head stands."""
    if previous is None:
        return 0.0
    turn, tilt = turn_to_next(previous, frame)
    return (abs(turn) + abs(tilt)) / plan.brief.run.turn_deg_per_s


def exposing_s(plan: Plan, exposure_ev: float) -> float:
    """Seconds of one exposure, longer than metered by so many stops."""
    return float(plan.setting.time_s * 2**exposure_ev)
