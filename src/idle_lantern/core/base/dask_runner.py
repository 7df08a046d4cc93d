"""Workers of a Dask cluster as a runner: on other machines, or on this one.

A task is pickled once and handed to each worker once; results come back in order and are written here. What a lost worker had in hand
is done again by another; where the scheduler itself goes away, the rest is done by threads of this process.
"""

from __future__ import annotations

import contextlib
import itertools
import logging
import os
import platform
import uuid
from collections.abc import Iterator, Sequence
from typing import Any, TypeVar

from cachetools import LRUCache

from idle_lantern import __version__
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.runners import Task, ThreadRunner

R = TypeVar("R")

log = logging.getLogger(__name__)

#: What a scheduler on this machine is called.
LOCAL = "local"
#: A scheduler that does not answer for so long is gone; an answer is asked for this often.
_CONNECT_S, _ASKED_S = 10, 0.5
#: A worker that was lost with a part in hand so many times is not the worker's fault.
_TRIES = 5
#: Parts under way for each worker, so that none waits for the next one.
_AHEAD = 2
#: Tasks that a worker keeps unpacked.
_TASKS_KEPT = 2


class DaskRunner:
    """The workers of the scheduler at ``address`` (``tcp://host:port``), or of a cluster on this machine (``local``).

    Raises
    ------
    InputError
        Dask is not installed, the scheduler does not answer, it has no workers, or they run another version.
    """

    def __init__(self, address: str) -> None:
        try:
            import dask
            import distributed
        except ImportError as error:
            raise InputError(
                "A scheduler needs Dask distributed, which is not installed",
                remedy="Install it with: pip install 'idle-lantern[cluster]'. Without --scheduler all else works",
            ) from error
        self.address = address
        self._cluster: Any = None
        self._gone = False
        quiet = {"distributed.comm.timeouts.connect": f"{_CONNECT_S}s", "distributed.logging.distributed": "critical"}
        dask.config.set({**quiet, "distributed.worker.daemon": True})
        logging.getLogger("distributed").setLevel(logging.CRITICAL)
        try:
            if address == LOCAL:
                self._cluster = distributed.LocalCluster(
                    n_workers=os.cpu_count() or 1, threads_per_worker=1, dashboard_address=None
                )
            self._client = distributed.Client(self._cluster or address, timeout=_CONNECT_S, set_as_default=False)
        except (OSError, TimeoutError, ValueError, RuntimeError) as error:
            self._end_cluster()
            raise InputError(
                "No scheduler answers there",
                where=address,
                remedy="Start one with 'dask scheduler', and give its tcp:// address; or give local",
            ) from error
        try:
            with contextlib.suppress(TimeoutError):
                self._client.wait_for_workers(1, timeout=_CONNECT_S)
            self._check_workers()
        except BaseException:
            self.close()
            raise

    def _check_workers(self) -> None:
        """Those that are there by now make what we would."""
        told = self._client.run(_versions)
        if not told:
            raise InputError(
                "The scheduler has no workers", where=self.address, remedy="Start some with 'dask worker ADDRESS'"
            )
        mine = _versions()
        for worker, theirs in told.items():
            other = [f"{name} {theirs.get(name)}, here {mine[name]}" for name in mine if theirs.get(name) != mine[name]]
            if other:
                raise InputError(
                    f"Its worker {worker} runs other versions ({'; '.join(other)}), which make other pixels",
                    where=self.address,
                    remedy="Install the same ones there",
                )
        self._workers = len(told)

    @property
    def scheduler(self) -> str:
        """Where the scheduler is reached."""
        return str(self._client.scheduler_info(n_workers=0)["address"])

    def run(self, task: Task[R], indices: Sequence[int]) -> Iterator[R]:
        """As of ``Runner``."""
        done = 0
        if not self._gone:
            try:
                for result in self._by_workers(task, indices):
                    done += 1
                    yield result
                return
            except _SchedulerGone:
                self._gone = True
                log.warning("the scheduler at %s is gone: the rest is done here", self.address)
        yield from ThreadRunner(os.cpu_count() or 1).run(task, indices[done:])

    def _by_workers(self, task: Task[R], indices: Sequence[int]) -> Iterator[R]:
        import cloudpickle

        name = uuid.uuid4().hex
        with _telling_that_it_is_gone():
            self._check_workers()
            packed = self._client.scatter(cloudpickle.dumps(task), broadcast=True, hash=False)
        ahead = _AHEAD * self._workers
        waiting: list[Any] = []
        left = iter(indices)
        try:
            while True:
                for index in itertools.islice(left, ahead + 1 - len(waiting)):
                    with _telling_that_it_is_gone():
                        waiting.append(self._client.submit(_work, name, packed, index, pure=False, retries=_TRIES))
                if not waiting:
                    return
                result = self._result(waiting[0])
                waiting.pop(0)
                yield result
        finally:
            if waiting:
                with contextlib.suppress(Exception):  # a scheduler that is gone has nothing to give up
                    self._client.cancel(waiting, force=True)

    def _result(self, future: Any) -> Any:
        """The result of a part.

        Raises
        ------
        _SchedulerGone
            It will never come.
        """
        while True:
            with _telling_that_it_is_gone():
                try:
                    return future.result(timeout=_ASKED_S)
                except TimeoutError:
                    if future.status != "pending" and future.done():
                        continue
                if self._client.status != "running" or not self._client.scheduler_info(n_workers=0).get("id"):
                    raise _SchedulerGone

    def close(self) -> None:
        """Let the workers go; a cluster on this machine ends."""
        with contextlib.suppress(Exception):
            self._client.close(timeout=2)
        self._end_cluster()

    def _end_cluster(self) -> None:
        if self._cluster is not None:
            with contextlib.suppress(Exception):
                self._cluster.close(timeout=10)
            self._cluster = None

    def __enter__(self) -> DaskRunner:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class _SchedulerGone(Exception):
    """Nothing more comes from there."""


@contextlib.contextmanager
def _telling_that_it_is_gone() -> Iterator[None]:
    """What Dask raises where its scheduler or all of its workers went away, as one error."""
    from concurrent.futures import CancelledError

    from distributed import KilledWorker
    from distributed.client import FutureCancelledError
    from distributed.comm.core import CommClosedError

    try:
        yield
    except (CommClosedError, CancelledError, FutureCancelledError, KilledWorker, ConnectionError) as error:
        raise _SchedulerGone from error


def _work(name: str, packed: bytes, index: int) -> Any:
    """The part of an index, on a worker."""
    import pickle

    task = _tasks.get(name)
    if task is None:
        _keep_to_one_core()
        task = _tasks[name] = pickle.loads(packed)
    return task.work(index)


_tasks: LRUCache[str, Any] = LRUCache(_TASKS_KEPT)


def _keep_to_one_core() -> None:
    import cv2
    from threadpoolctl import threadpool_limits

    cv2.setNumThreads(1)
    threadpool_limits(1, user_api="blas")


def _versions() -> dict[str, str]:
    """Of all that decides what pixels are made."""
    import cv2
    import numpy as np
    import scipy

    return {
        "Idle Lantern": __version__,
        "Python": ".".join(platform.python_version_tuple()[:2]),
        "NumPy": np.__version__,
        "SciPy": scipy.__version__,
        "OpenCV": cv2.__version__,
    }
