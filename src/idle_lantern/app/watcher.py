"""Watches a folder on a thread of its own and judges what arrives; results come back to the interface thread as signals."""

from __future__ import annotations

import logging
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from idle_lantern.app.state import AppState, OutingPlace
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.plan.planner import Plan

if TYPE_CHECKING:
    from idle_lantern.core.join.solve.level import Level
    from idle_lantern.core.watching.bench import Bench, Judged
    from idle_lantern.core.watching.folder import Arrival

log = logging.getLogger(__name__)

#: Between two looks at the folder; while it cannot be looked at, and how often the base is reckoned anew.
_EVERY_S, _TRY_AGAIN_S = 0.3, 2.0
#: So long closing waits for a frame that is being judged.
_PATIENCE_S = 5.0


@dataclass(frozen=True)
class Told:
    """A frame that arrived and was judged, and what all frames so far tell: the lean of the base, directions left open."""

    place: OutingPlace
    arrival: Arrival
    judged: Judged
    lean: Level | None = None
    holes: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True)
class Before:
    """A frame that belongs to the outing already and is placed."""

    path: Path
    angles_deg: tuple[float, float, float]
    number: int | None


class Watcher(QObject):
    """``told`` carries a ``Told``, ``trouble`` a sentence (empty when it is over), ``changed`` says that watching began or ended."""

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
        from idle_lantern.core.watching.bench import Bench
        from idle_lantern.core.watching.folder import WatchedFolder

        watched, bench = WatchedFolder(folder, known), Bench(self._plan)
        for frame in before:
            try:
                bench.remember(frame.path, frame.angles_deg, frame.number)
            except LanternError as error:
                log.info("not remembered: %s", error.sentence)
        told_trouble, done = "", set[int]()
        while not stop.is_set():
            arrivals = watched.step()
            if watched.trouble != told_trouble:
                told_trouble = watched.trouble
                self.trouble.emit(told_trouble)
            for arrival in arrivals:
                if stop.is_set():
                    return
                if arrival.trouble:
                    self.trouble.emit(f"{arrival.path.name} cannot be used: {arrival.trouble}.")
                    continue
                try:
                    self.told.emit(self._judge(bench, place, arrival, done))
                except LanternError as error:
                    self.trouble.emit(error.sentence)
            stop.wait(_TRY_AGAIN_S if watched.trouble else _EVERY_S)

    def _judge(self, bench: Bench, place: OutingPlace, arrival: Arrival, done: set[int]) -> Told:
        plan, order = self._plan, self._order
        bench.replan(plan)
        # the interface may not have logged the frame before yet
        expected = next((f for n in order if n not in done and (f := plan.frame(n)) is not None), None)
        judged = bench.look(arrival.path, expected)
        if judged.number is not None and judged.kind != "again":
            done.add(judged.number)
        left = [f for n in order if n not in done and n != judged.number and (f := plan.frame(n)) is not None]
        return Told(place, arrival, judged, bench.lean(), bench.holes(left))
