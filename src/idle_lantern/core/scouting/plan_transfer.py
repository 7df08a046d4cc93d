"""What moved between two scouting pictures, and how a plan takes it into account. Loads no engine."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from idle_lantern.core.plan.brief import Brief, Mark
from idle_lantern.core.plan.planner import Plan, make_plan

#: Repeats from which something that walks is gone in one of them (common practice, no source).
_REPEATS = 3
#: Things that move within such a share of a frame's width of one another can be shot in one go.
_TOGETHER = 1.5
#: What the mark of what moved is called.
MOVED = "what moved"


@dataclass(frozen=True)
class Change:
    """A part of the place that one picture shows otherwise than the other, as a box of directions in degrees."""

    azimuth_deg: float
    altitude_deg: float
    width_deg: float
    height_deg: float


def in_field(plan: Plan, found: Sequence[Change]) -> tuple[Change, ...]:
    """Those that the wanted field shows."""
    field = plan.target_field
    return tuple(
        c
        for c in found
        if (c.azimuth_deg + c.width_deg / 2 - field.left_deg) % 360 <= field.sweep_deg + c.width_deg
        and field.low_deg - c.height_deg / 2 <= c.altitude_deg <= field.high_deg + c.height_deg / 2
    )


def frames_with(plan: Plan, found: Sequence[Change]) -> tuple[int, ...]:
    """Numbers of the planned frames in which something moves."""
    half = [math.degrees(side) / 2 for side in plan.rig.lens().field_rad()]
    return tuple(
        f.number
        for f in plan.frames
        if any(
            abs((c.azimuth_deg - f.yaw_deg + 180) % 360 - 180) <= half[0] + c.width_deg / 2
            and abs(c.altitude_deg - f.pitch_deg) <= half[1] + c.height_deg / 2
            for c in found
        )
    )


def planned_for(plan: Plan, found: Sequence[Change]) -> tuple[Brief, str]:
    """The brief that takes what moved into account, and a sentence that says what was set and why.

    Where it all moves near one place that place is marked and shot first, so that little time lies between its frames; else the
    order with the least turning puts neighbours close in time. Each frame is taken several times, so that the sharpest and
    emptiest can be chosen.
    """
    inside = in_field(plan, found)
    if not inside:
        return plan.brief, "Nothing moved in the wanted field: the plan stays as it is."
    brief = plan.brief
    wide_deg = math.degrees(plan.rig.lens().field_rad()[0])
    first = inside[0]
    near = all(abs((c.azimuth_deg - first.azimuth_deg + 180) % 360 - 180) <= _TOGETHER * wide_deg for c in inside)
    scene = replace(
        brief.scene, subject="walking" if brief.scene.subject in ("still", "leaves") else brief.scene.subject
    )
    if near and scene.subject_mark is None:
        yaw = (round(first.azimuth_deg, 1) + 180) % 360 - 180
        mark = Mark(MOVED, yaw, round(first.altitude_deg, 1), max(2.0, round(first.width_deg, 1)), role="subject")
        scene = replace(scene, marks=(*scene.marks, mark))
    run = replace(brief.run, order="subject" if near else "snake", repeats=max(_REPEATS, brief.run.repeats))
    changed = replace(brief, scene=scene, run=run)
    numbers = frames_with(make_plan(changed, frames=plan.frames if plan.given else ()), inside)
    where = f"Frame {numbers[0]} shows" if len(numbers) == 1 else f"Frames {numbers[0]} to {numbers[-1]} show"
    how = (
        "that side first, outward from there"
        if near
        else "row by row there and back, so that neighbours are close in time"
    )
    return changed, f"{where} what moved: {how}; each is taken {run.repeats} times, and the join takes the best."
