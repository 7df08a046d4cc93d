"""Frames decoded once for all stages, where all of them fit into the memory allowed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from threading import Lock

import cv2
import numpy as np
from cachetools import LRUCache

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.base.reducing import reduced_to
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.profiles import common_space
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.frames.reading import FrameInfo, read, read_again, sound_jpeg

#: Sets beyond this are read again by each stage: three readings cost less than a full memory.
MOST_BYTES = 600_000_000
#: A frame that was read whole before, by its file; it is handed out once.
Ahead = Callable[[Path], Picture | None]


#: Small frames of the last sets, for pictures that are made again.
_SMALL_BYTES = 150_000_000
_SMALL: LRUCache[object, Picture] = LRUCache(_SMALL_BYTES, getsizeof=lambda p: p.pixels.nbytes)
_SMALL_LOCK = Lock()


def file_identity(path: Path) -> tuple[str, int, int]:
    """What tells a file as it is now from another, or from what it was: name, size and time.

    Raises
    ------
    UnreadableFrame
        It is gone.
    """
    try:
        stat = path.stat()
    except OSError as error:
        raise UnreadableFrame("Is missing", where=path.name) from error
    return str(path), stat.st_size, stat.st_mtime_ns


def reduced_picture(picture: Picture, width: int, height: int) -> Picture:
    """A picture of 8 bit at that size."""
    pixels, alpha = picture.pixels, picture.alpha
    if pixels.dtype == np.uint16:
        pixels = (pixels >> 8).astype(np.uint8)
        alpha = None if alpha is None else (alpha >> 8).astype(np.uint8)
    alpha = None if alpha is None else reduced_to(alpha, width, height)
    return Picture(reduced_to(pixels, width, height), alpha, picture.space)


def keeps(infos: Sequence[FrameInfo], most_bytes: int = MOST_BYTES) -> bool:
    """Whether a set is kept decoded, where frames may take so much memory."""
    return sum(i.width * i.height * 3 * i.bits // 8 for i in infos) <= min(most_bytes, MOST_BYTES)


class DecodedFrames:
    """Full-size frames of a set, all in one working space of colour.

    Small sets are decoded once and kept until ``take`` hands each to its last user;
    of large ones each stage gets the quickest reading that serves it. ``ahead`` hands out what was read whole before.
    """

    def __init__(
        self,
        infos: Sequence[FrameInfo],
        most_bytes: int = MOST_BYTES,
        space: ColourSpace | None = None,
        *,
        ahead: Ahead | None = None,
    ) -> None:
        self.infos = infos
        self.space = space or common_space([i.space for i in infos])
        self.keeps = keeps(infos, most_bytes)
        self._ahead = ahead
        self._kept: dict[int, Picture] = {}
        self._small: dict[tuple[int, int, int], Picture] = {}
        self._lock = Lock()

    def first(self, f: int) -> Picture:
        """Frame ``f``, checked as it is read for the first time.

        Whole even where it is not kept: half of a JPEG's decoding is spent before its size matters.

        Raises
        ------
        UnreadableFrame
            Its pixels are truncated or damaged.
        """
        info = self.infos[f]
        with self._lock:
            kept = self._kept.get(f)
        if kept is not None:
            return kept
        ahead = None if self._ahead is None else self._ahead(info.path)
        picture = (ahead or (read_again(info) if sound_jpeg(info) else read(info.path))).in_space(self.space)
        if self.keeps:
            with self._lock:
                self._kept[f] = picture
        return picture

    def keep(self, f: int, picture: Picture) -> None:
        """Take a frame that was read elsewhere."""
        with self._lock:
            self._kept[f] = picture.in_space(self.space)

    def small(self, f: int, width: int, height: int) -> Picture:
        """Frame ``f`` of 8 bit at that size, kept for all stages and, as many as fit, for the next picture of the same files.

        Raises
        ------
        UnreadableFrame
            Its pixels are truncated or damaged, or it is gone.
        """
        kept = self._small.get((f, width, height))
        if kept is None:
            key = (file_identity(self.infos[f].path), width, height, self.space)
            with _SMALL_LOCK:
                kept = _SMALL.get(key)
            if kept is None:
                kept = reduced_picture(self.first(f), width, height)
                with _SMALL_LOCK:
                    _SMALL[key] = kept
            self._small[f, width, height] = kept
        return kept

    def reduced(self, f: int, reduce: int) -> Picture:
        """Frame ``f`` decoded at a fraction of its size, for a first glance; it is not kept.

        Raises
        ------
        UnreadableFrame
            Its pixels are truncated or damaged.
        """
        return read(self.infos[f].path, reduce).in_space(self.space)

    def grey(self, f: int) -> Array:
        """Full-size brightness (H, W), 8 bit."""
        with self._lock:
            picture = self._kept.get(f)
        if picture is None:  # its small form came from an earlier set
            picture = self.first(f) if self.keeps else read_again(self.infos[f]).in_space(self.space)
        # always from the colours, so that what is kept makes no difference to the result
        pixels = picture.pixels if picture.full_scale == 255 else (picture.pixels >> 8).astype(np.uint8)
        return np.asarray(cv2.cvtColor(pixels, cv2.COLOR_RGB2GRAY))

    def held(self, f: int) -> Picture | None:
        """Frame ``f`` for the picture, where it is in memory or was read ahead; it is not kept any longer."""
        with self._lock:
            picture = self._kept.pop(f, None)
        if picture is None and self._ahead is not None:
            ahead = self._ahead(self.infos[f].path)
            picture = None if ahead is None else ahead.in_space(self.space)
        return picture

    def take(self, f: int, reduce: int = 1) -> Picture:
        """Frame ``f`` for the picture; it is not kept any longer."""
        picture = self.held(f)
        if picture is not None and reduce == 1:
            return picture
        return read_again(self.infos[f], reduce).in_space(self.space)
