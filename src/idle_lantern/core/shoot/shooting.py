"""Shooting planned frames with whatever devices stand behind the protocols."""

from __future__ import annotations

import datetime
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

from idle_lantern.core.base.atomic import make_folder
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import CaptureGroup, FrameRef, new_id
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.light import bracketed, reading_at
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.shoot.devices import CameraDevice, HeadDevice, HeadReading
from idle_lantern.core.shoot.pace import Pace, exposing_s, no_time, turning_s


class HeadWithCamera(HeadDevice, CameraDevice, Protocol):
    """A head and the camera on it."""


@dataclass(frozen=True)
class Shot:
    """What was taken at one position; ``group`` holds its exposures together where it was bracketed."""

    frames: tuple[FrameRef, ...]
    group: CaptureGroup | None = None

    @property
    def number(self) -> int:
        """The planned frame it was taken for."""
        return self.frames[0].number or 0


def exposures_of(plan: Plan, frame: GridFrame) -> tuple[float, ...]:
    """Exposures planned for a frame, in EV from the metered one: a bracket, or 0 alone."""
    exposure = plan.brief.exposure
    if bracketed(reading_at(exposure, frame.yaw_deg), exposure):
        return plan.setting.bracket_ev
    return (0.0,)


def shoot(
    devices: HeadWithCamera,
    frames: Sequence[GridFrame],
    plan: Plan,
    folder: Path,
    taken_names: Sequence[str],
    *,
    progress: Progress,
    on_shot: Callable[[Shot], None],
    pace: Pace = no_time,
) -> None:
    """Take frames one after another into the outing in ``folder``, each as often as planned and with its bracket.

    What was taken at a position is told as soon as its files are there. ``pace`` lets turning, coming to rest, the shutter's delay
    and exposing take their time.

    Raises
    ------
    InputError
        The folder cannot be written.
    Cancelled
        Stopped between two positions; what was taken stays.
    """
    target = folder / document.FRAMES
    make_folder(target, inside=folder)
    names = set(taken_names)
    progress.begin("work", len(frames))
    previous: GridFrame | None = None
    for frame in frames:
        pace("turning", turning_s(plan, previous, frame))
        previous = frame
        for _ in range(plan.brief.run.repeats):
            taken: list[FrameRef] = []
            steps = sorted(exposures_of(plan, frame), key=lambda v: (abs(v), v))
            try:
                _shoot_one(devices, frame, plan, steps, folder, names, taken, pace)
            finally:
                if taken:
                    on_shot(_as_shot(taken, steps))
        progress.advance()


def logged(folder: Path, file: Path, frame: GridFrame, reading: HeadReading, taken: str, rig: Rig) -> FrameRef:
    """How a file that was just shot stands in the outing of ``folder``; ``taken`` is its EXIF time."""
    return FrameRef(
        document.relative(folder, file),
        frame.number,
        reading.yaw_deg,
        reading.pitch_deg,
        reading.roll_deg,
        taken,
        field_deg=field_deg(rig),
    )


def field_deg(rig: Rig) -> tuple[float, float]:
    """The field of view of a frame as held, across and up."""
    across, up = rig.lens().field_rad()
    return math.degrees(across), math.degrees(up)


#: A field that differs from the planned one by less is the planned one.
_SAME_FIELD = 0.02


def lens_showing(field_deg: tuple[float, float] | None, planned: Lens) -> Lens:
    """The lens of a frame that shows so much, across and up: the planned one, or a rectilinear one where the fields differ."""
    if field_deg is None or planned.model != "rectilinear":
        return planned
    across, up = (math.radians(a) for a in field_deg)
    if all(abs(one / other - 1) <= _SAME_FIELD for one, other in zip((across, up), planned.field_rad())):
        return planned
    focal_px = planned.width / 2 / math.tan(across / 2)
    return replace(planned, focal_px=focal_px, height=max(1, round(2 * focal_px * math.tan(up / 2))))


def take_into(
    devices: HeadWithCamera,
    folder: Path,
    frame: GridFrame,
    plan: Plan,
    previous: GridFrame | None = None,
    pace: Pace = no_time,
) -> Path:
    """Let a head and a camera take a frame into a folder, under the next free name as cameras number them; returns the file.

    ``previous`` is where the head stands.

    Raises
    ------
    InputError
        The folder cannot be written.
    """
    pace("turning", turning_s(plan, previous, frame))
    devices.turn_to(frame.yaw_deg, frame.pitch_deg, frame.roll_deg)
    devices.shift_lens(frame.shift_right_mm, frame.shift_up_mm)
    _come_to_rest(plan, pace)
    pace("exposing", exposing_s(plan, 0.0))
    number = 1
    while (target := folder / f"IL_{number:04d}.jpg").exists():
        number += 1
    devices.shoot(target, datetime.datetime.now().strftime("%Y:%m:%d %H:%M:%S"))
    return target


def _come_to_rest(plan: Plan, pace: Pace) -> None:
    pace("settling", plan.brief.run.settle_s)
    pace("delay", plan.brief.run.delay_s)


def _as_shot(taken: Sequence[FrameRef], exposures_ev: Sequence[float]) -> Shot:
    if len(taken) == 1:
        return Shot(tuple(taken))
    # the exposure nearest to the metered one, which is shot first, stands for the place
    ev = tuple(round(e - exposures_ev[0], 3) for e in exposures_ev[: len(taken)])
    return Shot(tuple(taken), CaptureGroup(new_id(), "bracket", tuple(ref.id for ref in taken), taken[0].id, ev))


def _shoot_one(
    devices: HeadWithCamera,
    frame: GridFrame,
    plan: Plan,
    exposures_ev: Sequence[float],
    folder: Path,
    names: set[str],
    taken: list[FrameRef],
    pace: Pace,
) -> None:
    reading = devices.turn_to(frame.yaw_deg, frame.pitch_deg, frame.roll_deg)
    devices.shift_lens(frame.shift_right_mm, frame.shift_up_mm)
    _come_to_rest(plan, pace)
    for ev in exposures_ev:
        pace("exposing", exposing_s(plan, ev))
        at = datetime.datetime.now().strftime("%Y:%m:%d %H:%M:%S")
        again, name = 1, f"f{frame.number:03d}.jpg"
        while f"{document.FRAMES}/{name}" in names or (folder / document.FRAMES / name).exists():
            again += 1
            name = f"f{frame.number:03d}-{again}.jpg"
        target = folder / document.FRAMES / name
        devices.shoot(target, at, ev)
        ref = logged(folder, target, frame, reading, at, plan.rig)
        names.add(ref.file)
        taken.append(ref)
