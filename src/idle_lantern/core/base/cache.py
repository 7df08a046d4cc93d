"""Things made on demand and kept within a limit of memory."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from threading import Lock
from typing import Generic, TypeVar

from cachetools import LRUCache

K = TypeVar("K", bound=Hashable)
V = TypeVar("V")


class SizedCache(Generic[K, V]):
    """Things made on demand by several threads and kept, the least recently used let go beyond the memory allowed.

    Parameters
    ----------
    make : callable
        Key -> thing; called once at a time for each key.
    size : callable
        Bytes of a thing.
    most_bytes : float
        At least two things are kept even where they are larger: a tile may need a pair of frames again and again.
    """

    def __init__(self, make: Callable[[K], V], size: Callable[[V], int], most_bytes: float) -> None:
        self._make = make
        most = max(2, int(most_bytes))
        self._kept: LRUCache[K, V] = LRUCache(most, getsizeof=lambda thing: min(size(thing), most // 2))
        self._lock = Lock()
        self._busy: dict[K, Lock] = {}

    def load(self, key: K) -> V:
        """The thing of that key, made if it is not kept."""
        with self._lock:
            if key in self._kept:
                return self._kept[key]
            busy = self._busy.setdefault(key, Lock())
        with busy:
            with self._lock:
                if key in self._kept:
                    return self._kept[key]
            made = self._make(key)
            with self._lock:
                self._kept[key] = made
                self._busy.pop(key, None)
            return made

    def put(self, key: K, thing: V) -> None:
        """Keep a thing that was made elsewhere, where none of that key is kept."""
        with self._lock:
            self._kept.setdefault(key, thing)

    def keys(self) -> list[K]:
        """Keys of what is kept."""
        with self._lock:
            return list(self._kept)

    def take(self, key: K) -> V | None:
        """The thing of that key where it is kept; it is kept no longer."""
        with self._lock:
            found: V | None = self._kept.pop(key, None)
            return found
