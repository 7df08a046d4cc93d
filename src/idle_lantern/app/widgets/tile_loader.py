"""Tiles of pictures read off the interface thread and kept as images, within a limit of memory."""

from __future__ import annotations

import contextlib
import itertools
import logging
from collections.abc import Sequence
from dataclasses import replace
from threading import Lock
from typing import Any

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, QRunnable, QThreadPool, pyqtSignal
from PyQt6.QtGui import QImage

from idle_lantern.app.display import to_qimage
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.pictures.source import PictureSource

Array = NDArray[Any]
#: Serial number of a picture, level, row, column.
Key = tuple[int, int, int, int]

log = logging.getLogger(__name__)

#: Gaps of a picture are shown in this neutral grey.
GAP_GREY = 58
#: Images of all views together.
_CACHE_BYTES = 160_000_000
_serials = itertools.count(1)
_cache: LRUCache[Key, QImage] = LRUCache(_CACHE_BYTES, getsizeof=lambda image: max(1, image.sizeInBytes()))
_cache_lock = Lock()


def cached(key: Key) -> QImage | None:
    """The image of a tile, where it is kept."""
    with _cache_lock:
        return _cache.get(key)


class TileLoader(QObject):
    """Reads the tiles that one view asks for, the most wanted first."""

    loaded = pyqtSignal()
    failed = pyqtSignal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(2)
        self._lock = Lock()
        self._source: PictureSource | None = None
        self._serial = 0
        self._wanted: list[Key] = []
        self._reading: set[Key] = set()
        self._broken: set[Key] = set()

    def set_source(self, source: PictureSource | None) -> int:
        """Read from another picture; returns its serial number. What is under way for the old one is dropped.

        Its tiles go too: the same picture shown again gets another number, and nobody would ask for them.
        """
        with self._lock:
            old = self._serial
            self._source, self._serial = source, next(_serials)
            self._wanted.clear()
            self._broken.clear()
        with _cache_lock:
            for key in [key for key in _cache if key[0] == old]:
                del _cache[key]
        return self._serial

    def want(self, keys: Sequence[Key]) -> None:
        """These tiles are wanted now, the first one most; earlier wishes are forgotten."""
        with self._lock:
            before = len(self._wanted)
            known = self._reading | self._broken
            self._wanted = [key for key in reversed(keys) if key not in known]
            more = len(self._wanted) - before
        for _ in range(max(0, more)):
            self._pool.start(_Job(self))

    @property
    def idle(self) -> bool:
        """Whether nothing is wanted or being read."""
        with self._lock:
            return not self._wanted and not self._reading

    def stop(self) -> None:
        """Read nothing more, and wait for what is being read."""
        self.set_source(None)
        self._pool.waitForDone(5000)

    def read_one(self) -> None:
        """Read the most wanted tile (called by a worker)."""
        with self._lock:
            source = self._source
            if not self._wanted or source is None:
                return
            key = self._wanted.pop()
            self._reading.add(key)
        image, sentence = None, ""
        try:
            image = tile_image(source.tile(*key[1:]), source.space)
        except LanternError as error:
            sentence = error.sentence
        except Exception:  # a worker must never die silently
            log.exception("a tile cannot be shown")
        with self._lock:
            self._reading.discard(key)
            present = key[0] == self._serial
            if image is None:
                self._broken.add(key)
        if image is not None and present:
            with _cache_lock:
                _cache[key] = image
        if present:
            with contextlib.suppress(RuntimeError):  # the view was closed meanwhile
                if sentence:
                    self.failed.emit(sentence)
                self.loaded.emit()


class _Job(QRunnable):
    def __init__(self, loader: TileLoader) -> None:
        super().__init__()
        self._loader = loader

    def run(self) -> None:
        """Qt's entry on the worker thread."""
        self._loader.read_one()


def tile_image(tile: Array, space: ColourSpace = SRGB) -> QImage:
    """A tile (h, w, 3 or 4) of ``space`` as the screen shows it: 8 bit, gaps in grey."""
    if space.is_linear:
        space, light = replace(space, transfer=SRGB.transfer, icc=None), tile[..., :3]
        whole = 1.0 if tile.dtype.kind == "f" else np.float32(np.iinfo(tile.dtype).max)
        shown_part = np.rint(space.from_linear(np.clip(light / whole, 0, 1)) * 255)
        tile = np.dstack([shown_part, tile[..., 3:] / whole * 255]).astype(np.uint8)
    elif tile.dtype == np.uint16:
        tile = (tile >> 8).astype(np.uint8)
    if tile.shape[2] == 4:
        shown, tile = tile[..., 3], np.ascontiguousarray(tile[..., :3])
        if not shown.all():
            tile[shown == 0] = np.rint(space.from_linear(SRGB.to_linear(np.full(3, GAP_GREY / 255))) * 255)
    return to_qimage(tile, space)
