"""Shooting planned frames with whatever devices stand behind the protocols."""

from __future__ import annotations

import datetime
import math
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Protocol

from idle_lantern.core.base.atomic import make_folder
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import FrameRef
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.shoot.devices import CameraDevice, HeadDevice


class HeadWithCamera(HeadDevice, CameraDevice, Protocol):
    """A head and the camera on it."""


def shoot(
    devices: HeadWithCamera,
    frames: Sequence[GridFrame],
    rig: Rig,
    folder: Path,
    taken_names: Sequence[str],
    *,
    progress: Progress,
    on_shot: Callable[[FrameRef], None],
) -> None:
    """Take frames one after another into the outing in ``folder``; each is told as soon as its file is there.

    Raises
    ------
    InputError
        The folder cannot be written.
    Cancelled
        Stopped between two frames; those taken stay.
    """
    target = folder / document.FRAMES
    make_folder(target, inside=folder)
    names = set(taken_names)
    progress.begin("work", len(frames))
    for frame in frames:
        ref = _shoot_one(devices, frame, rig, folder, names)
        names.add(ref.file)
        on_shot(ref)
        progress.advance()


def field_deg(rig: Rig) -> tuple[float, float]:
    """The field of view of a frame as held, across and up."""
    across, up = rig.lens().field_rad()
    return math.degrees(across), math.degrees(up)


def _shoot_one(devices: HeadWithCamera, frame: GridFrame, rig: Rig, folder: Path, names: set[str]) -> FrameRef:
    reading = devices.turn_to(frame.yaw_deg, frame.pitch_deg, frame.roll_deg)
    devices.shift_lens(frame.shift_right_mm, frame.shift_up_mm)
    taken = datetime.datetime.now().strftime("%Y:%m:%d %H:%M:%S")
    again, name = 1, f"f{frame.number:03d}.jpg"
    while f"{document.FRAMES}/{name}" in names or (folder / document.FRAMES / name).exists():
        again += 1
        name = f"f{frame.number:03d}-{again}.jpg"
    target = folder / document.FRAMES / name
    devices.shoot(target, taken)
    return FrameRef(
        document.relative(folder, target),
        frame.number,
        reading.yaw_deg,
        reading.pitch_deg,
        reading.roll_deg,
        taken,
        field_deg=field_deg(rig),
    )
