"""Frames read whole for a first look, which the join that follows need not read again."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from threading import Lock

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.frames.decoded import keeps
from idle_lantern.core.frames.reading import FrameInfo, read_again, sound_jpeg


class ReadAhead:
    """Plain JPEGs of a small set, kept from the first look on; other files are looked at by the quickest way.

    Most of a JPEG's decoding is spent before its size matters, so a small look costs nearly as much as the whole.
    """

    def __init__(self, infos: Sequence[FrameInfo], most_bytes: int) -> None:
        self._infos = {i.path: i for i in infos if i.plain_jpeg} if keeps(infos, most_bytes) else {}
        self._kept: dict[Path, Picture] = {}
        self._lock = Lock()

    def whole(self, path: Path) -> Picture | None:
        """A frame, which is kept; None where it is not to be read whole.

        Raises
        ------
        UnreadableFrame
            Its pixels are damaged.
        """
        info = self._infos.get(path)
        if info is None or not sound_jpeg(info):
            return None
        picture = read_again(info)
        with self._lock:
            self._kept[path] = picture
        return picture

    def take(self, path: Path) -> Picture | None:
        """A frame that was read; it is kept no longer."""
        with self._lock:
            return self._kept.pop(path, None)
