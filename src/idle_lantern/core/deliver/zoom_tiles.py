"""A picture of any size as small JPEG files that a page loads as it is zoomed: in numbered levels with an XML file, or as an IIIF image of level 0.

Each level is half the one above it, rounded up, down to one pixel; a tile is made from the four below it, depth first, so that no more
than a few tiles a level are held at once. (The first layout as published with its XML schema; IIIF Image API 3.0, level 0.)
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import math
import os
import re
import secrets
import shutil
from collections.abc import Callable, Generator, Iterator
from dataclasses import dataclass
from pathlib import Path
from xml.sax.saxutils import quoteattr

import cv2
import numpy as np
from PIL import Image

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.runners import Runner, ThreadRunner
from idle_lantern.core.colour.convert import eight_bit
from idle_lantern.core.colour.profiles import told_profile
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import PictureSource, region

TILE_PX = 512
_THREADS = 2
#: Namespace of the layout's XML, as published.
_NAMESPACE = "http://schemas.microsoft.com/deepzoom/2008"
_IIIF = "http://iiif.io/api/image/3/context.json"
_PART = ".lantern-part"
Place = tuple[int, int, int]
Keep = Callable[[Place, Array], None]


def write_xml_tiles(
    source: PictureSource,
    target: Path,
    options: WriteOptions,
    progress: Progress = SILENT,
    runner: Runner | None = None,
) -> Path:
    """Write tiles into the folder ``NAME_files`` and their XML beside it; returns the XML's path, which is ``target`` ending in ``.xml``.
    ``runner`` makes the tiles of the full picture, None for threads of this process.

    Raises
    ------
    InputError
        It cannot be written, or something else stands there; nothing is left half-written.
    Cancelled
        Stopped; nothing is left.
    """
    told, folder = files_of_xml_tiles(target)
    width, height = source.sizes[0]
    write_tile_folder(source, folder, options, progress, runner)
    write_text(
        told,
        f'<?xml version="1.0" encoding="UTF-8"?>\n<Image xmlns={quoteattr(_NAMESPACE)} Format="jpg" Overlap="0" TileSize="{TILE_PX}">'
        f'<Size Width="{width}" Height="{height}"/></Image>\n',
    )
    return told


def write_tile_folder(
    source: PictureSource,
    folder: Path,
    options: WriteOptions,
    progress: Progress = SILENT,
    runner: Runner | None = None,
) -> None:
    """Write the tiles of every level as ``LEVEL/COLUMN_ROW.jpg``; raises as ``write_xml_tiles``."""
    with _made_whole(folder, r"\d+") as part:

        def keep(place: Place, pixels: Array) -> None:
            level, row, column = place
            (part / str(level)).mkdir(exist_ok=True)
            _save(part / str(level) / f"{column}_{row}.jpg", pixels, source, options)

        walk_tiles(source, keep, progress, runner)


def files_of_xml_tiles(target: Path) -> tuple[Path, Path]:
    """The XML file and the folder of tiles that are written for a target."""
    told = target if target.suffix.lower() == ".xml" else target.with_name(target.name + ".xml")
    return told, told.with_name(f"{told.stem}_files")


def write_iiif(
    source: PictureSource,
    target: Path,
    options: WriteOptions,
    progress: Progress = SILENT,
    runner: Runner | None = None,
) -> Path:
    """Write a folder with ``info.json`` and tiles by their canonical addresses; raises as ``write_xml_tiles``.

    Its ``id`` is the folder's name, to be set where it is served.
    """
    width, height = source.sizes[0]
    top = levels_of(width, height)
    # levels of more than one tile, and the first that is one
    factors = [2**k for k in range(top + 1) if max(width, height) / 2**k > TILE_PX / 2] or [1]
    with _made_whole(target, r"info\.json|full|\d+,\d+,\d+,\d+") as part:

        def keep(place: Place, pixels: Array) -> None:
            level, row, column = place
            factor = 2 ** (top - level)
            if factor not in factors:
                return
            h, w = pixels.shape[:2]
            left, upper = column * TILE_PX * factor, row * TILE_PX * factor
            wide, high = min(TILE_PX * factor, width - left), min(TILE_PX * factor, height - upper)
            names = [f"{left},{upper},{wide},{high}"]
            if (wide, high) == (width, height):
                names.append("full")
            addresses = [f"{name}/{w},{h}" for name in names]
            if factor == 1 and "full" in names:
                addresses.append("full/max")
            for address in addresses:
                file = part / address / "0" / "default.jpg"
                file.parent.mkdir(parents=True)
                _save(file, pixels, source, options)

        walk_tiles(source, keep, progress, runner)
        sizes = [(_size(width, top - k, top), _size(height, top - k, top)) for k in range(len(factors))]
        info = {
            "@context": _IIIF,
            "id": target.name,
            "type": "ImageService3",
            "protocol": "http://iiif.io/api/image",
            "profile": "level0",
            "width": width,
            "height": height,
            "sizes": [{"width": w, "height": h} for w, h in reversed(sizes) if max(w, h) <= TILE_PX],
            "tiles": [{"width": TILE_PX, "height": TILE_PX, "scaleFactors": factors}],
        }
        (part / "info.json").write_text(json.dumps(info, indent=1) + "\n", encoding="utf-8")
    return target


def levels_of(width: int, height: int) -> int:
    """The number of the full picture's level; level 0 is one pixel."""
    return max(0, math.ceil(math.log2(max(width, height))))


def _size(side: int, level: int, top: int) -> int:
    step: int = 2 ** (top - level)
    return -(-side // step)


def walk_tiles(source: PictureSource, keep: Keep, progress: Progress, runner: Runner | None = None) -> None:
    """Hand every tile (h, w, 3) uint8 of every level to ``keep``, those of a level before the one above them."""
    width, height = source.sizes[0]
    top = levels_of(width, height)

    def below(level: int, row: int, column: int) -> list[list[tuple[int, int]]]:
        """Rows of the up to four tiles of the level below that lie in a tile."""
        wide, high = _size(width, level + 1, top), _size(height, level + 1, top)
        columns = [c for c in (2 * column, 2 * column + 1) if c * TILE_PX < wide]
        return [[(r, c) for c in columns] for r in (2 * row, 2 * row + 1) if r * TILE_PX < high]

    def places(level: int, row: int, column: int) -> Iterator[tuple[int, int]]:
        """Tiles of the full picture, in the order in which ``made`` asks for them."""
        if level == top:
            yield row, column
        else:
            for line in below(level, row, column):
                for r, c in line:
                    yield from places(level + 1, r, c)

    def made(level: int, row: int, column: int) -> Array:
        if level == top:
            pixels = next(full)
            progress.advance()
        else:
            lines = [np.concatenate([made(level + 1, r, c) for r, c in line], 1) for line in below(level, row, column)]
            pixels = _halved(np.concatenate(lines, 0))
        keep((level, row, column), pixels)
        return pixels

    corners = tuple(places(0, 0, 0))
    progress.begin("write", len(corners))
    found = (runner or ThreadRunner(_THREADS, _THREADS + 2)).run(_FullTiles(source, corners), range(len(corners)))
    full = iter(found)
    try:
        made(0, 0, 0)
    finally:  # the workers end with the walk, however it ends
        if isinstance(full, Generator):
            full.close()


@dataclass(frozen=True)
class _FullTiles:
    """Tiles of the full picture as a task, as they are shown."""

    source: PictureSource
    corners: tuple[tuple[int, int], ...]

    def work(self, index: int) -> Array:
        (width, height), (row, column) = self.source.sizes[0], self.corners[index]
        left, upper = column * TILE_PX, row * TILE_PX
        box = Rectangle(left, upper, min(TILE_PX, width - left), min(TILE_PX, height - upper))
        return _shown(region(self.source, box))


def _halved(pixels: Array) -> Array:
    """Half of it, rounded up: an odd side has its last row or column twice."""
    h, w = pixels.shape[:2]
    even = cv2.copyMakeBorder(pixels, 0, h % 2, 0, w % 2, cv2.BORDER_REPLICATE)
    return np.asarray(cv2.resize(even, (even.shape[1] // 2, even.shape[0] // 2), interpolation=cv2.INTER_AREA))


def _shown(pixels: Array) -> Array:
    shown = eight_bit(pixels)
    if shown.shape[2] == 4:
        shown = np.where(shown[..., 3:] > 0, shown[..., :3], 0)
    return np.ascontiguousarray(shown, np.uint8)


def _save(path: Path, pixels: Array, source: PictureSource, options: WriteOptions) -> None:
    Image.fromarray(pixels).save(path, "JPEG", quality=options.jpeg_quality, icc_profile=told_profile(source.space))


@contextlib.contextmanager
def _made_whole(folder: Path, ours: str) -> Iterator[Path]:
    """A folder beside ``folder`` that takes its place when all of it is there; what was written there before goes then.

    Raises
    ------
    InputError
        Something else stands there (names in it that ``ours`` does not match), or it cannot be written.
    """
    if folder.exists() and not (folder.is_dir() and all(re.fullmatch(ours, p.name) for p in folder.iterdir())):
        raise InputError(
            "Something else stands there already", where=str(folder), remedy="Take another name, or move it away"
        )
    with _told_errors(folder):
        _remove_leftovers(folder)
        part = folder.with_name(f".{folder.name}.{secrets.token_hex(4)}{_PART}")
        part.mkdir()
    try:
        with _told_errors(folder), _locked(part):
            yield part
            old = part.with_name(part.name + "-old")
            if folder.exists():
                os.replace(folder, old)
            os.replace(part, folder)
            shutil.rmtree(old, ignore_errors=True)
    finally:
        shutil.rmtree(part, ignore_errors=True)


@contextlib.contextmanager
def _locked(part: Path) -> Iterator[bool]:
    """Hold a folder while it is written; False where another writer holds it."""
    handle = os.open(part, os.O_RDONLY)
    try:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            yield False
        else:
            yield True
    finally:
        os.close(handle)


def _remove_leftovers(folder: Path) -> None:
    """Remove what writers left that were killed."""
    for left in folder.parent.glob(f".{folder.name}.*{_PART}*"):
        with _locked(left) as free:
            if free:
                shutil.rmtree(left, ignore_errors=True)


@contextlib.contextmanager
def _told_errors(where: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise InputError(
            f"Cannot write here ({error.strerror or error})",
            where=str(where),
            remedy="Choose a folder that exists and has room",
        ) from error
