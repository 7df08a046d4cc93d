"""Tiled pyramid TIFF read by level and tile: a gigapixel opens as fast as a small picture."""

from __future__ import annotations

import contextlib
import json
import os
from pathlib import Path
from typing import Any

import numpy as np
import tifffile

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.profiles import space_of
from idle_lantern.core.frames.boundary import is_tiff_file
from idle_lantern.core.frames.reading import read
from idle_lantern.core.pictures.source import HeldPicture, PictureSource

#: Our own tiles are of 512 pixels.
_MOST_TILE_PX = 4096


class TiledPicture:
    """A picture on disk; only its table of contents is held.

    Raises
    ------
    InputError
        The file is missing, damaged, or no tiled RGB TIFF.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._file: int | None = None
        try:
            with tifffile.TiffFile(path) as tiff:
                page: Any = tiff.pages[0]
                self._pages = [page, *(page.pages or ())]
                for level in self._pages:
                    _ = level.dataoffsets, level.decode  # reads the tables while the file is open
                icc = page.tags.get(34675)
                self.told = _told_in(page.description)
                self.tile_px, self.channels = int(page.tilewidth), int(page.samplesperpixel)
                self.dtype = np.dtype(page.dtype)
                space = space_of(None if icc is None else bytes(icc.value))
                white = self.told.get("white", 1.0)
                space = space.up_to(float(white)) if isinstance(white, (int, float)) and 1 < white < 1e6 else space
                self.space = space.in_light if self.dtype.kind == "f" else space
                self.sizes = tuple((int(p.imagewidth), int(p.imagelength)) for p in self._pages)
                sound = all(self._is_sound(level, size) for level, size in zip(self._pages, self.sizes))
            self._file = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
        except FileNotFoundError as error:
            raise InputError("Is missing", where=str(path)) from error
        except Exception as error:  # whatever a damaged file makes the reader do
            raise InputError("Is damaged or no tiled picture", where=str(path)) from error
        if not sound:
            raise InputError("Is no tiled picture", where=str(path))

    def _is_sound(self, page: Any, size: tuple[int, int]) -> bool:
        """Whether a level is laid out as all are, with no tile larger than what is read without asking for memory."""
        tiles = -(-size[0] // self.tile_px) * -(-size[1] // self.tile_px) if 0 < self.tile_px <= _MOST_TILE_PX else 0
        return (
            tiles == len(page.dataoffsets) == len(page.databytecounts)
            and page.is_tiled
            and self.channels in (3, 4)
            and (page.samplesperpixel, page.dtype) == (self.channels, self.dtype)
            and page.tilewidth == page.tilelength == self.tile_px
        )

    def __reduce__(self) -> tuple[Any, ...]:
        return TiledPicture, (self.path,)

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile (h, w, 3 or 4), cut at the rim.

        Raises
        ------
        InputError
            It is damaged.
        """
        page = self._pages[level]
        width, height = self.sizes[level]
        index = row * -(-width // self.tile_px) + column
        try:
            assert self._file is not None
            # asked for by place, so that threads share one file
            data = os.pread(self._file, page.databytecounts[index], page.dataoffsets[index])
            made = page.decode(data, index)[0]
            tile = made.reshape(made.shape[-3:])
        except Exception as error:
            raise InputError("A part of the picture is damaged", where=str(self.path), remedy="Join again") from error
        h, w = min(self.tile_px, height - row * self.tile_px), min(self.tile_px, width - column * self.tile_px)
        return np.asarray(tile[:h, :w])

    def packed(self, level: int, row: int, column: int) -> bytes:
        """A tile as it is packed in the file.

        Raises
        ------
        InputError
            It cannot be read.
        """
        page = self._pages[level]
        index = row * -(-self.sizes[level][0] // self.tile_px) + column
        try:
            assert self._file is not None
            data = os.pread(self._file, page.databytecounts[index], page.dataoffsets[index])
        except OSError as error:
            raise InputError("A part of the picture is damaged", where=str(self.path), remedy="Join again") from error
        if len(data) != page.databytecounts[index]:
            raise InputError("A part of the picture is cut off", where=str(self.path), remedy="Join again")
        return data

    def __del__(self) -> None:
        # whoever still reads a tile holds the picture, so the file is closed when nobody does
        if self._file is not None:
            os.close(self._file)


def open_picture(path: Path) -> PictureSource:
    """Any picture as a source: tiled ones are read by tile, others whole.

    Raises
    ------
    InputError
        It cannot be read.
    """
    with contextlib.suppress(InputError):
        if is_tiff_file(path):
            return TiledPicture(path)
    return HeldPicture(read(path))


def _told_in(description: str) -> dict[str, Any]:
    """What a picture of ours tells of itself; nothing where it is somebody else's."""
    try:
        told = json.loads(description)
    except (ValueError, RecursionError):
        return {}
    return told if isinstance(told, dict) else {}
