"""The document of one outing: what was planned, shot, chosen. Immutable; edits make a new one."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.grid import GridFrame
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField


@dataclass(frozen=True)
class FrameRef:
    """A frame file that belongs to the outing.

    ``file`` is relative to the outing's folder where it lies inside, else absolute.
    ``number`` is the planned frame it was shot for, None for pictures brought in.
    Angles are what the head told, in degrees.
    """

    file: str
    number: int | None = None
    yaw_deg: float | None = None
    pitch_deg: float | None = None
    roll_deg: float | None = None
    taken: str | None = None


@dataclass(frozen=True)
class JoinChoices:
    """What the photographer chose for the join and the delivery.

    ``left_out`` are files to keep out of the join, ``put_back`` files that the join left
    out and that are wanted all the same.
    """

    projection: str = "auto"
    left_out: tuple[str, ...] = ()
    crop: bool = True
    put_back: tuple[str, ...] = ()


@dataclass(frozen=True)
class Outing:
    """One outing.

    ``brief`` is what the plan is made from; ``given_frames`` are frames of a list made
    elsewhere, which then stand instead of planned ones. ``skipped`` are planned frame numbers that the photographer decided not to shoot;
    ``put_aside`` are judgement keys not to be shown again.
    """

    name: str
    created: str
    brief: Brief = field(default_factory=Brief)
    given_frames: tuple[GridFrame, ...] = ()
    frames: tuple[FrameRef, ...] = ()
    skipped: tuple[int, ...] = ()
    choices: JoinChoices = field(default_factory=JoinChoices)
    put_aside: tuple[str, ...] = ()
    note: str = ""

    @property
    def rig(self) -> Rig:
        """Camera and lens of the brief."""
        return self.brief.rig

    @property
    def target_field(self) -> TargetField:
        """Wanted field and overlap of the brief."""
        return self.brief.target_field

    def shot(self, planned: GridFrame) -> FrameRef | None:
        """The last frame shot for a planned one.

        Number and direction must agree: after the plan has changed, frame 3 may be
        another place, and what was shot for the old one does not count for it.
        """
        for ref in reversed(self.frames):
            if ref.number == planned.number and _points_at(ref, planned):
                return ref
        return None

    def frames_to_join(self) -> tuple[FrameRef, ...]:
        """The last frame of each position, and all that were brought in, without those left out."""
        last = {_place(ref): ref for ref in self.frames if ref.number is not None}
        return tuple(
            ref
            for ref in self.frames
            if ref.file not in self.choices.left_out and (ref.number is None or last[_place(ref)] is ref)
        )


#: A head that stands this far from the plan has been turned for another plan.
_SAME_PLACE_DEG = 2.0


def _points_at(ref: FrameRef, planned: GridFrame) -> bool:
    if ref.yaw_deg is None or ref.pitch_deg is None:
        return False
    steep = math.cos(math.radians(planned.pitch_deg))
    turn = ((ref.yaw_deg - planned.yaw_deg + 180) % 360 - 180) * steep
    return math.hypot(turn, ref.pitch_deg - planned.pitch_deg) <= _SAME_PLACE_DEG


def _place(ref: FrameRef) -> tuple[int | None, float | None, float | None]:
    return ref.number, ref.yaw_deg, ref.pitch_deg
