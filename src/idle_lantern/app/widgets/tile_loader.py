"""Tiles of pictures read off the interface thread and kept as images, within a limit of memory."""

from __future__ import annotations

import contextlib
import itertools
import logging
from collections.abc import Sequence
from dataclasses import dataclass, replace
from threading import Lock

import numpy as np
from cachetools import LRUCache
from PyQt6.QtCore import QObject, QRunnable, QThreadPool, pyqtSignal
from PyQt6.QtGui import QImage

from idle_lantern.app.display import screen_space, to_qimage
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.pictures.source import PictureSource

#: Serial number of a picture, level, row, column.
Key = tuple[int, int, int, int]

log = logging.getLogger(__name__)

#: Gaps of a picture are shown in this neutral grey.
GAP_GREY = 58
#: Images of all views together.
_CACHE_BYTES = 160_000_000
_serials = itertools.count(1)


@dataclass(frozen=True, eq=False)
class ShownTile:
    """A tile: its 8-bit display values of ``space`` (h, w, 3), gaps in grey, and how the ``screen`` shows them."""

    pixels: Array
    space: ColourSpace
    screen: ColourSpace
    image: QImage


_cache: LRUCache[Key, ShownTile] = LRUCache(_CACHE_BYTES, getsizeof=lambda t: t.pixels.nbytes + t.image.sizeInBytes())
_cache_lock = Lock()


def cached(key: Key) -> ShownTile | None:
    """A tile, where it is kept for the screen as it is now."""
    with _cache_lock:
        tile = _cache.get(key)
    return tile if tile is not None and tile.screen == screen_space() else None


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
        self._serial = self._kept_serial = 0
        self._wanted: list[Key] = []
        self._reading: set[Key] = set()
        self._broken: set[Key] = set()

    def set_source(self, source: PictureSource | None, keep: int = 0) -> int:
        """Read from another picture; returns its serial number. What is under way for the old one is dropped.

        Its tiles go too: the same picture shown again gets another number, and nobody would ask for them. Those of the
        number ``keep`` stay: they stand for the new ones until these are read.
        """
        with self._lock:
            gone = {self._serial, self._kept_serial} - {keep}
            self._source, self._serial, self._kept_serial = source, next(_serials), keep
            self._wanted.clear()
            self._broken.clear()
        with _cache_lock:
            for key in [key for key in _cache if key[0] in gone]:
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
        tile, sentence = None, ""
        try:
            tile = shown_tile(source.tile(*key[1:]), source.space)
        except LanternError as error:
            sentence = error.sentence
        except Exception:  # a worker must never die silently
            log.exception("a tile cannot be shown")
        with self._lock:
            self._reading.discard(key)
            present = key[0] == self._serial
            if tile is None:
                self._broken.add(key)
        if tile is not None and present:
            with _cache_lock:
                _cache[key] = tile
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


def shown_space(space: ColourSpace) -> ColourSpace:
    """The space in which values of ``space`` are shown: light takes the curve of sRGB, 8 bit of it would show steps."""
    return replace(space, transfer=SRGB.transfer, icc=None) if space.is_linear else space


def shown_tile(tile: Array, space: ColourSpace = SRGB) -> ShownTile:
    """A tile (h, w, 3 or 4) of ``space``, 8 or 16 bit or floats of light, as the screen shows it."""
    if space.is_linear:
        space, light = shown_space(space), tile[..., :3]
        whole = 1.0 if tile.dtype.kind == "f" else np.float32(np.iinfo(tile.dtype).max)
        shown_part = np.rint(space.from_linear(np.clip(light / whole, 0, 1)) * 255)
        tile = np.dstack([shown_part, tile[..., 3:] / whole * 255]).astype(np.uint8)
    elif tile.dtype == np.uint16:
        tile = (tile >> 8).astype(np.uint8)
    if tile.shape[2] == 4:
        shown, tile = tile[..., 3], np.ascontiguousarray(tile[..., :3])
        if not shown.all():
            tile[shown == 0] = np.rint(space.from_linear(SRGB.to_linear(np.full(3, GAP_GREY / 255))) * 255)
    screen = screen_space()
    return ShownTile(tile, space, screen, to_qimage(tile, space))
