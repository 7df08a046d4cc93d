"""Working through the plan: what comes next, what is missing, how long it still takes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from functools import lru_cache

import numpy as np

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.plan.coverage import cameras_of, covered
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.rows import frame_rays
from idle_lantern.core.plan.target_field import TargetField


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
    shots = outing.shots(plan.frames)
    done = set(shots) | (outing.logged_numbers(plan.frames) if outing.logged else set())
    counted = {ref.id for ref in shots.values()}
    # as long as the plan stands as it was shot, every shot counts for its frame and there is nothing to look for
    others = [ref for ref in outing.frames_to_join() if ref.id not in counted and ref.number is not None]
    if others:
        done |= covered_already(plan, outing, [f for f in plan.frames if f.number not in done])
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


def covered_already(plan: Plan, outing: Outing, open_frames: Sequence[GridFrame]) -> set[int]:
    """Numbers of planned frames of whose part of the picture nothing is missing: earlier shots show all of it.

    After the plan has moved a little, what was shot stays shot where it still covers it.
    """
    wide_deg = math.degrees(plan.rig.lens().field_rad()[0])
    taken = tuple(
        (ref.yaw_deg, ref.pitch_deg, ref.roll_deg or 0.0)
        for ref in outing.frames_to_join()
        if ref.yaw_deg is not None and ref.pitch_deg is not None and _same_field(ref, wide_deg)
    )
    if not taken or not open_frames or plan.rig.motion != "turn":
        return set()
    return _covered(plan.rig, plan.target_field, tuple(open_frames), taken)


def _same_field(ref: FrameRef, wide_deg: float) -> bool:
    return ref.field_deg is None or abs(ref.field_deg[0] - wide_deg) < 0.02 * wide_deg


#: Frames looked at in one go, so that a large plan stays quick; the others count as missing.
_MOST_LOOKED_AT = 400


@lru_cache(maxsize=8)
def _covered(
    rig: Rig,
    field: TargetField,
    open_frames: tuple[GridFrame, ...],
    taken: tuple[tuple[float, float, float], ...],
) -> set[int]:
    lens, wanted = rig.lens(), field.with_reserve()
    rays = frame_rays(lens, 15)
    cameras = rotations.from_yaw_pitch_roll(*np.radians(np.array(taken)).T)
    # only where a frame stands whose neighbours were shot; a large plan that nobody has begun is not looked through
    across, up = lens.field_rad()
    planned = cameras_of(open_frames)
    towards = planned[:, :, 2] @ cameras[:, :, 2].T
    near = towards > math.cos(min(math.pi, math.hypot(across, up)))
    found = set()
    for at in np.flatnonzero(towards.max(1) > math.cos(math.hypot(across, up) / 2))[:_MOST_LOOKED_AT]:
        world = rays @ planned[at].T
        azimuth, altitude = (np.degrees(a) for a in azimuth_altitude(world))
        inside = (np.mod(azimuth - wanted.left_deg, 360) <= wanted.sweep_deg) & (altitude >= wanted.low_deg)
        inside &= altitude <= wanted.high_deg
        if covered(lens, cameras[near[at]], world[inside]).all():
            found.add(open_frames[at].number)
    return found


def turn_to_next(previous: GridFrame | None, following: GridFrame) -> tuple[float, float]:
    """How far to turn right and tilt up from the previous frame, in degrees."""
    if previous is None:
        return following.yaw_deg, following.pitch_deg
    turn = (following.yaw_deg - previous.yaw_deg + 180) % 360 - 180
    return turn, following.pitch_deg - previous.pitch_deg
