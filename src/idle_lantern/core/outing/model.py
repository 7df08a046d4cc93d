"""The document of one outing: what was planned, shot, chosen. Immutable; edits make a new one.

The dataclasses are the schema: ``schema`` turns them into checks and into JSON schema.
"""

from __future__ import annotations

import math
import uuid
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Annotated, Literal

from msgspec import Meta

from idle_lantern.core.deliver.job import DeliverJob
from idle_lantern.core.finish.recipe import Recipe
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.request.choices import Degrees, JoinChoices, Sha256
from idle_lantern.core.scouting.scout_picture import ScoutPicture

Id = Annotated[str, Meta(pattern="^[0-9a-z-]{1,64}$", description="An identity of its own, never reused")]
Number = Annotated[int, Meta(ge=1, le=1_000_000)]
Text = Annotated[str, Meta(max_length=100_000)]
Path = Annotated[str, Meta(min_length=1, max_length=4096)]


def new_id() -> str:
    """An identity that no other thing has."""
    return uuid.uuid4().hex


#: What frames of one place and exposure were taken for.
Again = Literal["repeat", "sensor-shift"]


@dataclass(frozen=True)
class FrameRef:
    """A frame file that belongs to the outing.

    ``file`` is relative to the outing's folder where it lies inside, else absolute.
    ``number`` is the planned frame it was shot for, None for pictures brought in.
    Angles are in degrees. ``id`` stays whatever the file is called;
    ``sha256`` is known once the file was read whole. ``field_deg`` is the frame's own field of
    view, across and up, as it was shot. ``twin`` is the JPEG that the camera wrote beside a raw ``file``. ``told_by`` says who told
    the angles: a head, what the frame shares with others, or the plan alone.
    """

    file: Path
    number: Number | None = None
    yaw_deg: Degrees | None = None
    pitch_deg: Degrees | None = None
    roll_deg: Degrees | None = None
    taken: Text | None = None
    id: Id = field(default_factory=new_id)
    sha256: Sha256 | None = None
    field_deg: tuple[Degrees, Degrees] | None = None
    twin: Path | None = None
    told_by: Literal["head", "matches", "plan"] = "head"


@dataclass(frozen=True)
class LoggedShot:
    """A planned frame that was taken with a camera of one's own, logged by hand: its files come later.

    The direction is the planned one, in degrees: it counts while the frame of that number stands there.
    """

    number: Number
    yaw_deg: Degrees
    pitch_deg: Degrees
    taken: Text = ""


@dataclass(frozen=True)
class CaptureGroup:
    """Frames taken of one place: a bracket, repeats or a sensor-shift series; ``chosen`` stands for all.

    ``ev`` tells for each frame how much more it was exposed than ``chosen``; empty where that is not known.
    """

    id: Id
    kind: Annotated[str, Meta(pattern="^(bracket|repeat|sensor-shift)$")]
    frames: tuple[Id, ...]
    chosen: Id | None = None
    ev: tuple[Annotated[float, Meta(ge=-30, le=30)], ...] = ()


@dataclass(frozen=True)
class CropBox:
    """A crop set by hand, in pixels of the joined picture; ``ratio`` as width to height where one is held.

    It holds while the picture has the size ``of`` which it was set on.
    """

    x: Annotated[int, Meta(ge=0)]
    y: Annotated[int, Meta(ge=0)]
    width: Annotated[int, Meta(ge=1)]
    height: Annotated[int, Meta(ge=1)]
    ratio: tuple[Annotated[float, Meta(gt=0)], Annotated[float, Meta(gt=0)]] | None = None
    of: tuple[Annotated[int, Meta(ge=1)], Annotated[int, Meta(ge=1)]] | None = None


@dataclass(frozen=True)
class Verdict:
    """What was said of a suspicious place of the joined picture.

    The place is told by its direction, so that it stays in another projection; ``figure`` is what was measured there:
    where another join measures something else the verdict no longer holds.
    """

    kind: Annotated[str, Meta(pattern="^(double|cut|step|soft|colour|wedge|hole|invented|parallax)$")]
    frames: tuple[Id, ...]
    yaw_deg: Degrees
    pitch_deg: Degrees
    figure: Annotated[float, Meta(ge=-1e9, le=1e9)]
    verdict: Annotated[str, Meta(pattern="^(good|mend|later)$")]


@dataclass(frozen=True)
class Composition:
    """What of the joined picture is shown and delivered.

    Attributes
    ----------
    crop : cut it at all
    ratio : width to height that the largest rectangle shall have, None for whatever loses least
    box : a crop by hand, None for the largest rectangle without gaps
    """

    crop: bool = True
    ratio: tuple[Annotated[float, Meta(gt=0, le=1000)], Annotated[float, Meta(gt=0, le=1000)]] | None = None
    box: CropBox | None = None


#: What an outing is. Only a simulated one makes frames of the invented place.
Origin = Literal["planned", "simulated", "photographs"]


@dataclass(frozen=True)
class Outing:
    """One outing.

    ``origin`` says what it is, ``plan_made`` whether anybody changed its plan: one from photographs has none before.
    ``logged`` are frames taken with a camera of one's own, in order; of one taken again the last entry counts.
    ``brief`` is what the plan is made from; ``given_frames`` are frames of a list made
    elsewhere, which then stand instead of planned ones. ``skipped`` are planned frame numbers that
    the photographer decided not to shoot; ``put_aside`` are judgement keys not to be shown again.
    ``choices`` are those of the join, ``composition`` says what of its picture is shown, ``finish`` how that is developed, ``delivery``
    how it is written;
    ``verdicts`` are on suspicious places of the picture; ``scouts`` are scouting pictures, the first in front; ``checked`` is what is
    ticked on the check list, by its words.
    """

    name: Annotated[str, Meta(max_length=1000)]
    created: Annotated[str, Meta(max_length=100)]
    brief: Brief = field(default_factory=Brief)
    origin: Origin = "planned"
    plan_made: bool = False
    logged: Annotated[tuple[LoggedShot, ...], Meta(max_length=100_000)] = ()
    given_frames: tuple[GridFrame, ...] = ()
    frames: tuple[FrameRef, ...] = ()
    skipped: tuple[Number, ...] = ()
    choices: JoinChoices = field(default_factory=JoinChoices)
    composition: Composition = field(default_factory=Composition)
    finish: Recipe = field(default_factory=Recipe)
    delivery: DeliverJob = field(default_factory=DeliverJob)
    put_aside: tuple[Annotated[str, Meta(max_length=200)], ...] = ()
    note: Text = ""
    id: Id = field(default_factory=new_id)
    groups: tuple[CaptureGroup, ...] = ()
    verdicts: tuple[Verdict, ...] = ()
    scouts: Annotated[tuple[ScoutPicture, ...], Meta(max_length=100)] = ()
    checked: Annotated[tuple[Annotated[str, Meta(max_length=200)], ...], Meta(max_length=500)] = ()

    @property
    def rig(self) -> Rig:
        """Camera and lens of the brief."""
        return self.brief.rig

    @property
    def target_field(self) -> TargetField:
        """Wanted field and overlap of the brief."""
        return self.brief.target_field

    @property
    def shows_plan(self) -> bool:
        """Whether its plan says anything about its frames."""
        return self.origin != "photographs" or self.plan_made

    def frame(self, frame_id: str | None) -> FrameRef | None:
        """The frame of that id."""
        return next((ref for ref in self.frames if ref.id == frame_id), None)

    def shot(self, planned: GridFrame) -> FrameRef | None:
        """The last frame shot for a planned one.

        Number and direction must agree: after the plan has changed, frame 3 may be
        another place, and what was shot for the old one does not count for it.
        """
        return self.shots([planned]).get(planned.number)

    def shots(self, planned: Sequence[GridFrame]) -> dict[int, FrameRef]:
        """What ``shot`` says of many planned frames, by number, in one walk over what was shot."""
        wanted, besides = {f.number: f for f in planned}, self.besides()
        logged = {shot.number: (shot.yaw_deg, shot.pitch_deg) for shot in self.logged}
        found: dict[int, FrameRef] = {}
        for ref in reversed(self.frames):
            frame = wanted.get(ref.number) if ref.number is not None else None
            if frame is None or frame.number in found or ref.id in besides:
                continue
            told = ref.yaw_deg is not None and ref.pitch_deg is not None
            at = (ref.yaw_deg or 0.0, ref.pitch_deg or 0.0) if told else logged.get(frame.number)
            if at is not None and same_place(at, (frame.yaw_deg, frame.pitch_deg), self._field_deg(ref)):
                found[frame.number] = ref
        return found

    def logged_numbers(self, planned: Sequence[GridFrame]) -> set[int]:
        """Numbers of the planned frames that were logged as taken, where they are planned now."""
        wanted = {f.number: f for f in planned}
        across, up = (math.degrees(a) for a in self.rig.lens().field_rad())
        return {
            shot.number
            for shot in self.logged
            if (frame := wanted.get(shot.number)) is not None
            and same_place((shot.yaw_deg, shot.pitch_deg), (frame.yaw_deg, frame.pitch_deg), (across, up))
        }

    def exposures_beside(self, frame_id: str) -> tuple[tuple[FrameRef, float], ...]:
        """The other exposures of the bracket that a frame stands for, each with its EV against that frame."""
        group = next((g for g in self.groups if g.kind == "bracket" and g.chosen == frame_id), None)
        if group is None or len(group.ev) != len(group.frames):
            return ()
        refs = {ref.id: ref for ref in self.frames}
        return tuple((refs[f], ev) for f, ev in zip(group.frames, group.ev) if f != frame_id and f in refs)

    def taken_again(self, frame_id: str) -> tuple[tuple[FrameRef, Again], ...]:
        """The other frames of the repeats, or of the sensor-shift series, that a frame stands for."""
        group = next((g for g in self.groups if g.kind in ("repeat", "sensor-shift") and g.chosen == frame_id), None)
        refs = {ref.id: ref for ref in self.frames}
        left_out = frozenset(self.choices.left_out)
        others = () if group is None else (f for f in group.frames if f != frame_id and f not in left_out)
        kind: Again = "repeat" if group is None or group.kind == "repeat" else "sensor-shift"
        return tuple((refs[f], kind) for f in others if f in refs)

    def besides(self) -> frozenset[str]:
        """Frames for which another one of their bracket or series stands."""
        return frozenset(f for g in self.groups if g.chosen is not None for f in g.frames if f != g.chosen)

    def frames_to_join(self) -> tuple[FrameRef, ...]:
        """The last frame of each position, and all that were brought in, without those left out."""
        kept: set[str] = set()
        besides = self.besides()
        later: dict[int, list[FrameRef]] = {}  # of the same planned frame
        for ref in reversed(self.frames):
            if ref.id in besides:
                continue
            if ref.number is not None:
                same = later.setdefault(ref.number, [])
                if any(self._repeats(ref, other) for other in same):
                    continue
                same.append(ref)
            kept.add(ref.id)
        left_out = frozenset(self.choices.left_out)
        return tuple(ref for ref in self.frames if ref.id in kept and ref.id not in left_out)

    def _field_deg(self, ref: FrameRef) -> tuple[float, float]:
        """Field of view of a frame as it was shot, or of the present rig where the frame does not tell."""
        if ref.field_deg is not None:
            return ref.field_deg
        across, up = self.rig.lens().field_rad()
        return math.degrees(across), math.degrees(up)

    def _repeats(self, ref: FrameRef, later: FrameRef) -> bool:
        """Whether a later frame was taken for the same planned frame and at the same place."""
        if ref.number != later.number:
            return False
        if None in (ref.yaw_deg, ref.pitch_deg, later.yaw_deg, later.pitch_deg):
            return (ref.yaw_deg, ref.pitch_deg) == (later.yaw_deg, later.pitch_deg)
        here = (ref.yaw_deg or 0.0, ref.pitch_deg or 0.0)
        return same_place(here, (later.yaw_deg or 0.0, later.pitch_deg or 0.0), self._field_deg(ref))


#: Share of a frame's field within which two readings mean the same place. The closest frames that
#: anyone plans stand a fifth of the field apart (overlap of 80 %), and no head misses by half of that.
_SAME_PLACE = 0.1


def same_place(one_deg: tuple[float, float], other_deg: tuple[float, float], field_deg: tuple[float, float]) -> bool:
    """Whether two directions (yaw, pitch) mean the same place for frames of a field (across, up), all in degrees."""
    turn = abs((one_deg[0] - other_deg[0] + 180) % 360 - 180) * math.cos(math.radians(other_deg[1]))
    tilt = abs(one_deg[1] - other_deg[1])
    return turn <= _SAME_PLACE * field_deg[0] and tilt <= _SAME_PLACE * field_deg[1]
