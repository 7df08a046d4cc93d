"""Working through the plan: what comes next, what is missing, how long it still takes."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from idle_lantern.core.outing.model import Outing
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.planner import Plan


class FrameState(Enum):
    """How far a planned frame has come; its identity on the map never changes."""

    PLANNED = "planned"
    NEXT = "next"
    SHOT = "shot"
    SKIPPED = "skipped"


@dataclass(frozen=True)
class Guide:
    """The state of the shoot: one entry for each planned frame, in order; ``remaining_s`` is for those missing."""

    states: tuple[FrameState, ...]
    next_number: int | None
    shot: int
    missing: tuple[int, ...]
    remaining_s: float


def guide(plan: Plan, outing: Outing, at: int | None = None) -> Guide:
    """State of the shoot; ``at`` is the frame chosen by hand as the next one."""
    done = {f.number for f in plan.frames if outing.shot(f) is not None}
    missing = tuple(f.number for f in plan.frames if f.number not in done and f.number not in outing.skipped)
    following = at if at is not None and plan.frame(at) else (missing[0] if missing else None)
    states = []
    for frame in plan.frames:
        if frame.number == following:
            states.append(FrameState.NEXT)
        elif frame.number in done:
            states.append(FrameState.SHOT)
        elif frame.number in outing.skipped:
            states.append(FrameState.SKIPPED)
        else:
            states.append(FrameState.PLANNED)
    return Guide(tuple(states), following, len(done), missing, len(missing) * plan.seconds_per_frame)


def turn_to_next(previous: GridFrame | None, following: GridFrame) -> tuple[float, float]:
    """How far to turn right and tilt up from the previous frame, in degrees."""
    if previous is None:
        return following.yaw_deg, following.pitch_deg
    turn = (following.yaw_deg - previous.yaw_deg + 180) % 360 - 180
    return turn, following.pitch_deg - previous.pitch_deg
