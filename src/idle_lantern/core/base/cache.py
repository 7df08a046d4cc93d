"""Things made on demand and kept within a limit of memory."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from threading import Lock
from typing import Generic, TypeVar

T = TypeVar("T")


class SizedCache(Generic[T]):
    """Things made on demand and kept, the least recently used let go when they outgrow the memory allowed."""

    def __init__(self, make: Callable[[int], T], count: int, size: Callable[[T], int], most_bytes: float) -> None:
        self._make, self._size, self._most_bytes = make, size, most_bytes
        self._held: OrderedDict[int, T] = OrderedDict()
        self._lock = Lock()
        self._busy = [Lock() for _ in range(count)]

    def load(self, k: int) -> T:
        """Thing ``k``, made if it is not held."""
        with self._busy[k]:
            with self._lock:
                if k in self._held:
                    self._held.move_to_end(k)
                    return self._held[k]
            made = self._make(k)
            with self._lock:
                self._held[k] = made
                while len(self._held) > 2 and sum(map(self._size, self._held.values())) > self._most_bytes:
                    self._held.popitem(last=False)
            return made
