"""Watches a folder on a thread of its own and judges what arrives; results come back to the interface thread as signals."""

from __future__ import annotations

import logging
import math
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from idle_lantern.app.state import AppState, OutingPlace
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.frames.reading import thumbnail
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.tripod_legs import crop_cost

if TYPE_CHECKING:
    from idle_lantern.core.registration.solve.level import Level
    from idle_lantern.core.watching.file_events import FolderEvents
    from idle_lantern.core.watching.folder import Arrival, WatchedFolder
    from idle_lantern.core.watching.live_check import Judged, LiveCheck

log = logging.getLogger(__name__)

#: Seconds between two looks at the folder.
_SOON_S = 0.1  # while a file is being written
_EVERY_S = 0.3  # where the system gives no word of changes
_WITH_WORD_S = 3.0  # where it does
_TRY_AGAIN_S = 2.0  # while the folder cannot be looked at
#: A base that leans by less costs nothing worth telling.
_WORTH_TELLING_DEG = 0.3
_THUMBNAIL_PX = 160
#: So long closing waits for a frame that is being judged.
_PATIENCE_S = 5.0


@dataclass(frozen=True)
class ToldFrame:
    """A frame that arrived and was judged, and what all frames so far tell.

    That is the lean of the base and the share of the picture that it costs at the crop, and directions left open.
    """

    place: OutingPlace
    arrival: Arrival
    judged: Judged
    lean: Level | None = None
    lean_costs: float = 0.0
    holes: tuple[tuple[float, float], ...] = ()
    look: Array | None = None  # (h, w, 3) uint8, small


@dataclass(frozen=True)
class Before:
    """A frame that belongs to the outing already and is placed."""

    path: Path
    angles_deg: tuple[float, float, float]
    number: int | None


class Watcher(QObject):
    """``told`` carries a ``ToldFrame``, ``trouble`` a sentence (empty when it is over), ``changed`` says that watching began or ended."""

    told = pyqtSignal(object)
    trouble = pyqtSignal(str)
    changed = pyqtSignal()

    def __init__(self, state: AppState, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self.folder: Path | None = None
        self.place: OutingPlace | None = None
        self._plan: Plan = state.plan
        self._order: tuple[int, ...] = ()
        self._costs: tuple[Plan, float, float] | None = None
        state.changed.connect(self._follow)

    @property
    def active(self) -> bool:
        """Whether a folder is watched."""
        return self._thread is not None

    def start(self, folder: Path, place: OutingPlace) -> None:
        """Watch ``folder`` for frames of the outing at ``place``, which is the open one."""
        self.stop()
        self.folder, self.place = folder, place
        self._follow({"plan", "frames"})
        outing = self._state.outing
        known = [self._state.path_of(ref) for ref in outing.frames]
        before = [
            Before(path, (ref.yaw_deg, ref.pitch_deg, ref.roll_deg or 0.0), ref.number)
            for ref, path in zip(outing.frames, known)
            if ref.yaw_deg is not None and ref.pitch_deg is not None
        ]
        self._stop = threading.Event()
        work = (folder, place, known, before[-12:], self._stop)
        self._thread = threading.Thread(target=self._run, args=work, name="watcher", daemon=True)
        self._thread.start()
        self.changed.emit()

    def stop(self) -> None:
        """Watch no longer; a frame that is being judged just now is still taken into its outing."""
        if self._thread is None:
            return
        self._stop.set()
        self._thread, self.folder, self.place = None, None, None
        self.trouble.emit("")
        self.changed.emit()

    def close(self) -> None:
        """Watch no longer, and wait for the frame that is being judged: for closing."""
        last = self._thread
        self.stop()
        if last is not None:
            last.join(timeout=_PATIENCE_S)

    def _follow(self, topics: set[str]) -> None:
        """Keep what the thread asks for: the plan, and which frames are to come, the chosen one first."""
        if self.active and self.place is not None and not self._state.is_open(self.place):
            self.stop()
            return
        if topics & {"plan", "frames"}:
            guide = self._state.guide
            chosen = (guide.next_number,) if guide.next_number is not None else ()
            self._plan, self._order = self._state.plan, (*chosen, *(n for n in guide.missing if n not in chosen))

    def _run(
        self, folder: Path, place: OutingPlace, known: Sequence[Path], before: Sequence[Before], stop: threading.Event
    ) -> None:
        try:
            self._watch(folder, place, known, before, stop)
        except RuntimeError:  # the window is gone: nobody is left to be told
            log.debug("watching ended with its window")
        except Exception:  # the last barrier of this thread
            log.exception("watching %s failed", folder)

    def _watch(
        self, folder: Path, place: OutingPlace, known: Sequence[Path], before: Sequence[Before], stop: threading.Event
    ) -> None:
        # the engine is loaded when somebody watches
        from idle_lantern.core.watching.file_events import FolderEvents
        from idle_lantern.core.watching.folder import WatchedFolder
        from idle_lantern.core.watching.live_check import LiveCheck

        watched, live_check, folder_events = WatchedFolder(folder, known), LiveCheck(self._plan), FolderEvents(folder)
        for frame in before:
            try:
                live_check.remember(frame.path, frame.angles_deg, frame.number)
            except LanternError as error:
                log.info("not remembered: %s", error.sentence)
        told_trouble, done = "", set[int]()
        try:
            while not stop.is_set():
                arrivals = watched.step()
                if watched.trouble != told_trouble:
                    if told_trouble:
                        folder_events.listen()  # it is back: another folder may stand there now
                    told_trouble = watched.trouble
                    self.trouble.emit(told_trouble)
                self._tell(arrivals, live_check, place, done, stop)
                _rest(folder_events, watched, stop)
        finally:
            folder_events.close()

    def _tell(
        self,
        arrivals: Sequence[Arrival],
        live_check: LiveCheck,
        place: OutingPlace,
        done: set[int],
        stop: threading.Event,
    ) -> None:
        for arrival in arrivals:
            if stop.is_set():
                return
            if arrival.trouble:
                self.trouble.emit(f"{arrival.path.name} cannot be used yet: {arrival.trouble}. It is tried again.")
                continue
            try:
                self.told.emit(self._judge(live_check, place, arrival, done))
            except LanternError as error:
                self.trouble.emit(error.sentence)

    def _cost(self, plan: Plan, lean_deg: float) -> float:
        """What a lean costs at the crop; asked again only where it is another lean, since the plan is tried out for it."""
        rounded = round(lean_deg, 1)
        if rounded < _WORTH_TELLING_DEG:
            return 0.0
        if self._costs is None or self._costs[0] is not plan or self._costs[1] != rounded:
            self._costs = plan, rounded, crop_cost(plan, rounded)
        return self._costs[2]

    def _judge(self, live_check: LiveCheck, place: OutingPlace, arrival: Arrival, done: set[int]) -> ToldFrame:
        plan, order = self._plan, self._order
        live_check.replan(plan)
        # the interface may not have logged the frame before yet
        expected = next((f for n in order if n not in done and (f := plan.frame(n)) is not None), None)
        judged = live_check.look(arrival.path, expected)
        if judged.number is not None and judged.kind != "again":
            done.add(judged.number)
        left = [f for n in order if n not in done and n != judged.number and (f := plan.frame(n)) is not None]
        lean = live_check.lean()
        costs = 0.0 if lean is None else self._cost(plan, math.degrees(lean.lean_rad))
        look = thumbnail(arrival.path, _THUMBNAIL_PX).in_space(SRGB).pixels
        return ToldFrame(place, arrival, judged, lean, costs, live_check.holes(left), look)


def _rest(folder_events: FolderEvents, watched: WatchedFolder, stop: threading.Event) -> None:
    """Wait for word from the system, or until it is time to look again; not longer than stopping may take."""
    if watched.away:
        seconds = _TRY_AGAIN_S
    elif watched.waits:
        seconds = _SOON_S
    else:
        seconds = _WITH_WORD_S if folder_events.works else _EVERY_S
    end = time.monotonic() + seconds
    while not stop.is_set() and (left := end - time.monotonic()) > 0:
        if folder_events.wait(min(left, _EVERY_S)) and not watched.away:
            return
