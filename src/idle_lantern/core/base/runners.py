"""Who works tasks off: threads here, processes, other machines. No stage knows which.

A task is a frozen description that can be pickled, and does one thing for each index; a runner gives the results in the order of the
indices. So the same task gives the same bytes wherever it is worked off.
"""

from __future__ import annotations

import contextlib
import itertools
import multiprocessing
import os
import pickle
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol, TypeVar

from cachetools import LRUCache

T = TypeVar("T")
R = TypeVar("R")
R_co = TypeVar("R_co", covariant=True)

#: Tasks that a process keeps unpacked: those of the picture that is made, and of one more.
_TASKS_KEPT = 2
_runs = itertools.count()


class Task(Protocol[R_co]):
    """A frozen description that can be pickled."""

    def work(self, index: int) -> R_co:
        """Do the part of that index."""


class Runner(Protocol):
    """Who works a task off."""

    def run(self, task: Task[R], indices: Sequence[int]) -> Iterator[R]:
        """The results of the indices, in their order, no more than a few ahead of the reader; what is left is given up when the
        reader goes."""


@dataclass(frozen=True)
class ThreadRunner:
    """A few threads of this process; as many parts may wait for the reader as ``ahead`` says, one for each thread where it says none."""

    threads: int
    ahead: int | None = None

    def run(self, task: Task[R], indices: Sequence[int]) -> Iterator[R]:
        """As of ``Runner``."""
        with ThreadPoolExecutor(self.threads) as pool:
            yield from in_order(task.work, indices, pool, self.threads if self.ahead is None else self.ahead)


@dataclass
class ProcessRunner:
    """Processes of this machine, started when they are first needed; ``close`` ends them.

    A task is pickled once, into a file that every process reads once.
    """

    processes: int
    _pool: ProcessPoolExecutor | None = field(default=None, init=False, repr=False)
    _folder: tempfile.TemporaryDirectory[str] | None = field(default=None, init=False, repr=False)

    def run(self, task: Task[R], indices: Sequence[int]) -> Iterator[R]:
        """As of ``Runner``."""
        if self._pool is None:
            self._folder = tempfile.TemporaryDirectory(prefix="idle-lantern-")
            # a fork would take over locks that threads of this process hold
            context = multiprocessing.get_context("spawn")
            self._pool = ProcessPoolExecutor(self.processes, mp_context=context, initializer=_one_thread)
        assert self._folder is not None
        # a file for each run: another run of the same task may still read its own
        file = Path(self._folder.name) / str(next(_runs))
        file.write_bytes(pickle.dumps(task, pickle.HIGHEST_PROTOCOL))
        try:
            yield from in_order(_Filed(str(file)), indices, self._pool, self.processes)
        finally:
            with contextlib.suppress(OSError):
                file.unlink()

    def close(self) -> None:
        """End the processes."""
        if self._pool is not None:
            self._pool.shutdown(cancel_futures=True)
        if self._folder is not None:
            self._folder.cleanup()
        self._pool = self._folder = None

    def __enter__(self) -> ProcessRunner:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def in_order(work: Callable[[T], R], items: Iterable[T], pool: Executor, ahead: int) -> Iterator[R]:
    """``work`` on each item by the pool, in order, no more than ``ahead`` of them under way."""
    waiting: list[Future[R]] = []
    try:
        for item in items:
            waiting.append(pool.submit(work, item))
            if len(waiting) > ahead:
                yield waiting.pop(0).result()
        while waiting:
            yield waiting.pop(0).result()
    finally:
        for future in waiting:
            future.cancel()


@dataclass(frozen=True)
class _Filed:
    """The work of a task that lies pickled in a file."""

    file: str

    def __call__(self, index: int) -> Any:
        task = _tasks.get(self.file)
        if task is None:
            # written by the process that began this one, into a folder that only its user may enter
            task = _tasks[self.file] = pickle.loads(Path(self.file).read_bytes())
        return task.work(index)


_tasks: LRUCache[str, Any] = LRUCache(_TASKS_KEPT)


def _one_thread() -> None:
    """Each process keeps to its core."""
    os.environ["OPENBLAS_NUM_THREADS"] = "1"
    import cv2

    cv2.setNumThreads(1)
