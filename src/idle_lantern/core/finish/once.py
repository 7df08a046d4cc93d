"""What is made when it is first asked for, by whichever thread asks."""

from __future__ import annotations

from collections.abc import Callable
from threading import Lock
from typing import TypeVar

T = TypeVar("T")


def once(make: Callable[[], T]) -> Callable[[], T]:
    """A function that gives what ``make`` gave when it was first called."""
    lock, kept = Lock(), list[T]()

    def get() -> T:
        if not kept:
            with lock:
                if not kept:
                    kept.append(make())
        return kept[0]

    return get
