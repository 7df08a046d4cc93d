"""Core work off the interface thread: progress, cancel, results and partial results."""

from __future__ import annotations

import contextlib
import logging
from collections.abc import Callable
from typing import Any

from PyQt6 import sip
from PyQt6.QtCore import QCoreApplication, QObject, QRunnable, QThreadPool, QTimer, pyqtSignal

from idle_lantern.core.base.errors import Cancelled, LanternError
from idle_lantern.core.base.memory import give_back, is_out_of_memory
from idle_lantern.core.base.progress import StageClock

log = logging.getLogger(__name__)

#: Pools whose threads may still work. One that is deleted waits for its threads, and where the collector deletes it with
#: a window that nobody closed, it holds the interpreter that they need: both would wait for ever.
_POOLS: list[QThreadPool] = []


class Task(QObject):
    """One piece of work; lives on the interface thread, its function runs elsewhere.

    The function gets the task: it is the ``Progress`` to report to, and ``show``
    hands partial results over.
    """

    done = pyqtSignal(object)
    failed = pyqtSignal(object)
    partial = pyqtSignal(object)
    ended = pyqtSignal()

    def __init__(self, title: str, work: Callable[[Task], Any], weights: dict[str, float]) -> None:
        super().__init__()
        self.title = title
        self.clock = StageClock(dict(weights) or {"work": 1.0})
        self._work = work
        self._stop = False
        self.quiet = False

    def begin(self, stage: str, total: int) -> None:
        """Progress: enter a stage."""
        self._check()
        self.clock.begin(stage, total)

    def advance(self, n: int = 1) -> None:
        """Progress: count steps."""
        self._check()
        self.clock.advance(n)

    def show(self, result: object) -> None:
        """Hand a partial result to the interface."""
        self._check()
        self.partial.emit(result)

    def hand_over(self, result: object) -> None:
        """Hand over what is finished and stays finished, whether or not stopping was asked for meanwhile."""
        self.partial.emit(result)

    def cancel(self) -> None:
        """Ask the work to stop at its next report."""
        self._stop = True

    @property
    def cancelled(self) -> bool:
        """Whether stopping was asked for."""
        return self._stop

    def _check(self) -> None:
        if self._stop:
            raise Cancelled

    def run(self) -> None:
        """Carry the work out (called on a worker thread)."""
        try:
            result = self._work(self)
        except Cancelled:
            pass
        except LanternError as error:
            self._emit("failed", error)
        except Exception as error:  # the last barrier: everything else is our mistake, told as such
            if is_out_of_memory(error):
                told = LanternError("The computer ran out of memory", remedy="Use a smaller size or fewer frames")
            else:
                log.exception("task %s failed", self.title)
                told = LanternError(
                    f"{self.title} met an unexpected fault ({type(error).__name__}: {error})",
                    remedy="Nothing was lost; the details are in the log",
                )
            self._emit("failed", told)
        else:
            if not self._stop:
                self._emit("done", result)
        finally:
            self._emit("ended")

    def _emit(self, signal: str, *values: object) -> None:
        """Tell the interface; where the window is gone meanwhile there is nobody to be told."""
        with contextlib.suppress(RuntimeError):  # Qt's half of the task is deleted, its signals with it
            getattr(self, signal).emit(*values)


class _Runnable(QRunnable):
    def __init__(self, task: Task) -> None:
        super().__init__()
        self._task = task

    def run(self) -> None:
        """Qt's entry on the worker thread."""
        self._task.run()


class TaskRunner(QObject):
    """Starts tasks, keeps the one worth showing, and can wait for all at closing."""

    changed = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool()
        _POOLS.append(self._pool)
        self._pool.setMaxThreadCount(3)
        self._tasks: list[Task] = []
        self._closed = False
        self._tick = QTimer(self)
        self._tick.setInterval(100)
        self._tick.timeout.connect(self.changed)

    def start(
        self,
        title: str,
        work: Callable[[Task], Any],
        on_done: Callable[[Any], None],
        on_failed: Callable[[LanternError], None],
        *,
        weights: dict[str, float] | None = None,
        on_partial: Callable[[Any], None] | None = None,
        on_ended: Callable[[], None] | None = None,
        quiet: bool = False,
    ) -> Task:
        """Run ``work(task)`` off the thread; the callbacks run on the interface thread.

        ``on_ended`` is called when it is off the list, however it ended. ``quiet`` work (a look through the finder) is too small to be shown or stopped. Once closed nothing is started.
        """
        task = Task(title, work, weights or {})
        if self._closed:  # the window is closing: nobody would take what it brings, and it would outlive all else
            return task
        task.quiet = quiet
        task.done.connect(self._while_open(on_done))
        task.failed.connect(self._while_open(on_failed))
        if on_partial is not None:
            task.partial.connect(self._while_open(on_partial))
        task.ended.connect(self._while_open(lambda: self._ended(task, on_ended)))
        self._tasks.append(task)
        self._tick.start()
        self._pool.start(_Runnable(task))
        self.changed.emit()
        return task

    def _while_open(self, call: Callable[..., Any]) -> Callable[..., None]:
        """A signal may wait in the queue while the window closes; then nobody is there to take it."""

        def guarded(*values: object) -> None:
            if not self._closed and not sip.isdeleted(self):
                call(*values)

        return guarded

    def _ended(self, task: Task, on_ended: Callable[[], None] | None) -> None:
        if task in self._tasks:
            self._tasks.remove(task)
        task.deleteLater()
        if not self._tasks:
            self._tick.stop()
            if not task.quiet:
                give_back()  # what large work held must not stay with a window that is open all day
        self.changed.emit()
        if on_ended is not None:
            on_ended()

    @property
    def shown(self) -> Task | None:
        """The oldest task worth showing that still runs."""
        return next((t for t in self._tasks if not t.quiet), None)

    @property
    def idle(self) -> bool:
        """Whether nothing runs at all."""
        return not self._tasks

    @property
    def outlives(self) -> bool:
        """Whether a thread still works, told to stop or not."""
        return self._pool.activeThreadCount() > 0

    def busy(self, title: str) -> bool:
        """Whether a task of that title runs."""
        return any(t.title == title and not t.cancelled for t in self._tasks)

    def cancel_all(self, wait_ms: int = 4000) -> None:
        """Stop everything and wait; for closing. What was handed over before that is still taken."""
        for task in list(self._tasks):
            task.cancel()
        if self._pool.waitForDone(wait_ms) and self._pool in _POOLS:
            _POOLS.remove(self._pool)
        if not self._closed:
            QCoreApplication.sendPostedEvents()
        self._closed = True
        self._tick.stop()
