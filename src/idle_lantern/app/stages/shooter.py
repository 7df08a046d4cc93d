"""Lets head and camera work through frames, off the interface thread, with a countdown of what takes its time."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from idle_lantern.app.context import AppContext
from idle_lantern.app.state import OutingPlace
from idle_lantern.app.tasks import Task
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.shoot.pace import Doing, Pace, no_time
from idle_lantern.core.shoot.shooting import Shot, shoot, take_into

SHOOTING = "Shooting"
#: Between two figures of a countdown.
_TICK_S = 0.1


@dataclass(frozen=True)
class Countdown:
    """What head or camera do just now, and for how many seconds still."""

    doing: Doing
    left_s: float


class Shooter(QObject):
    """``shot`` carries a ``Shot`` and the place of its outing, ``counted`` a ``Countdown`` or None, ``failed`` an error."""

    shot = pyqtSignal(object, object)
    counted = pyqtSignal(object)
    failed = pyqtSignal(object)

    def __init__(self, context: AppContext, parent: QObject) -> None:
        super().__init__(parent)
        self._context = context

    @property
    def busy(self) -> bool:
        """Whether head and camera work."""
        return self._context.tasks.busy(SHOOTING)

    def devices(self) -> Any:
        """Head and camera for the rig of the plan."""
        outing = self._context.state.outing
        return self._context.devices.of(outing.id, self._context.state.plan, len(outing.frames))

    def take(self, frames: Sequence[GridFrame], place: OutingPlace) -> None:
        """Take frames into an outing."""
        devices, plan = self.devices(), self._context.state.plan
        names = [r.file for r in self._context.state.outing.frames]

        def work(task: Task) -> None:
            # a frame that was taken belongs to the outing, whether or not stopping was asked for meanwhile
            shoot(
                devices, frames, plan, place.folder, names,
                progress=task, on_shot=task.hand_over, pace=self._pace(task),
            )  # fmt: skip

        self._start(work, place)

    def take_into(self, folder: Path, frames: Sequence[GridFrame], plan: Plan, place: OutingPlace) -> None:
        """Take frames into a watched folder, as a real camera would; they are taken up as any that arrive there."""
        devices = self.devices()

        def work(task: Task) -> None:
            task.begin("work", len(frames))
            previous: GridFrame | None = None
            for frame in frames:
                take_into(devices, folder, frame, plan, previous, self._pace(task))
                previous = frame
                task.advance()

        self._start(work, place)

    def _start(self, work: Callable[[Task], None], place: OutingPlace) -> None:
        def partial(told: object) -> None:
            if isinstance(told, Shot):
                self.shot.emit(told, place)
            else:
                self.counted.emit(told)

        def failed(error: LanternError) -> None:
            self.counted.emit(None)
            self.failed.emit(error)

        self._context.start(SHOOTING, work, lambda _r: self.counted.emit(None), failed, on_partial=partial)

    def _pace(self, task: Task) -> Pace:
        if self._context.settings.quick:
            return no_time

        def wait(doing: Doing, seconds: float) -> None:
            end = time.monotonic() + seconds
            while (left := end - time.monotonic()) > 0:
                task.show(Countdown(doing, left))
                time.sleep(min(_TICK_S, left))

        return wait
