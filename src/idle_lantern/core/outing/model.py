"""The document of one outing: what was planned, shot, chosen. Immutable; edits make a new one."""

from __future__ import annotations

from dataclasses import dataclass, field

from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.wish import Wish


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
    """What the photographer chose for the join and the delivery."""

    projection: str = "auto"
    left_out: tuple[str, ...] = ()
    crop: bool = True


@dataclass(frozen=True)
class Outing:
    """One outing.

    ``skipped`` are planned frame numbers that the photographer decided not to shoot;
    ``put_aside`` are judgement keys not to be shown again.
    """

    name: str
    created: str
    rig: Rig = field(default_factory=Rig)
    wish: Wish = field(default_factory=Wish)
    frames: tuple[FrameRef, ...] = ()
    skipped: tuple[int, ...] = ()
    choices: JoinChoices = field(default_factory=JoinChoices)
    put_aside: tuple[str, ...] = ()
    note: str = ""

    def shot(self, number: int) -> FrameRef | None:
        """The last frame shot for a planned number."""
        for ref in reversed(self.frames):
            if ref.number == number:
                return ref
        return None

    def frames_to_join(self) -> tuple[FrameRef, ...]:
        """The last frame of each position, and all that were brought in, without those left out."""
        last = {ref.number: ref for ref in self.frames if ref.number is not None}
        return tuple(
            ref
            for ref in self.frames
            if ref.file not in self.choices.left_out and (ref.number is None or last[ref.number] is ref)
        )
