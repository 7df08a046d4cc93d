"""How stages run: a few workers, one thread of OpenCV each, seconds counted."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from typing import TypeVar

import cv2
from threadpoolctl import threadpool_limits

from idle_lantern.core.base.progress import Progress

T = TypeVar("T")
R = TypeVar("R")


class Clock:
    """Adds up the seconds of each stage."""

    def __init__(self) -> None:
        self.seconds: dict[str, float] = {}

    @contextmanager
    def stage(self, name: str) -> Iterator[None]:
        """Count what runs inside towards ``name``."""
        start = time.perf_counter()
        try:
            yield
        finally:
            self.seconds[name] = self.seconds.get(name, 0.0) + time.perf_counter() - start


@contextmanager
def one_thread_each() -> Iterator[None]:
    """OpenCV and BLAS single-threaded inside our own workers: two levels of threads fight each other."""
    before = cv2.getNumThreads()
    cv2.setNumThreads(1)
    try:
        with threadpool_limits(1, user_api="blas"):
            yield
    finally:
        cv2.setNumThreads(before)


def mapped(work: Callable[[T], R], items: Sequence[T], threads: int, progress: Progress) -> list[R]:
    """``work`` on each item by a few threads, in order, with a step of progress each."""
    results = []
    with ThreadPoolExecutor(threads) as pool:
        futures = [pool.submit(work, item) for item in items]
        try:
            for future in futures:
                results.append(future.result())
                progress.advance()
        except BaseException:
            for future in futures:
                future.cancel()
            raise
    return results
