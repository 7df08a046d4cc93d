"""Which leg of a tripod to raise, and by how much, from how its base leans."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from idle_lantern.core.plan.planner import Plan

#: A leg that is raised by less makes no difference that a hand can set.
_LEAST_MM = 0.5


@dataclass(frozen=True)
class LegLift:
    """A leg by the yaw at which it stands, and by how much it is to be raised."""

    yaw_deg: float
    mm: float


def leg_lifts(lean_deg: float, toward_deg: float, circle_mm: float, first_leg_deg: float) -> tuple[LegLift, ...]:
    """What to raise so that the base stands level: two legs at most, the one that needs most first.

    ``toward_deg`` is the side that is too low; ``circle_mm`` is the diameter of the circle on which the three feet stand, the
    first at ``first_leg_deg``. A plane that leans by ``a`` towards ``t`` lies ``R tan a cos(y - t)`` too low at the foot of yaw
    ``y``; raising all three alike changes nothing, so the highest foot stays.
    """
    radius, slope = circle_mm / 2, math.tan(math.radians(lean_deg))
    yaws = [(first_leg_deg + 120 * k + 180) % 360 - 180 for k in range(3)]
    low = [radius * slope * math.cos(math.radians(yaw - toward_deg)) for yaw in yaws]
    lifts = [LegLift(yaw, mm - min(low)) for yaw, mm in zip(yaws, low)]
    return tuple(sorted((lift for lift in lifts if lift.mm >= _LEAST_MM), key=lambda lift: -lift.mm))


def crop_cost(plan: Plan, lean_deg: float) -> float:
    """Share of the picture that a lean costs at the crop, beside what is lost with a level base."""
    from idle_lantern.core.plan.crop import crop_loss  # tries the plan out: only where it is asked for

    support = plan.brief.support.as_used()
    losses = [
        crop_loss(
            plan.rig, plan.frames, plan.target_field, replace(support, base_tilt_deg=lean), plan.size.projection
        ).expected
        for lean in (0.0, min(20.0, lean_deg))
    ]
    return max(0.0, losses[1] - losses[0])
