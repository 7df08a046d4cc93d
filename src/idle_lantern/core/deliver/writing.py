"""Pictures of any size into files to hand on, a few tiles at a time, whole or not at all."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TypeVar

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.runners import Runner, ThreadRunner
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.formats import AVIF, JXL, WEBP, check_target, format_of
from idle_lantern.core.deliver.light_files import write_exr, write_float_tiff
from idle_lantern.core.deliver.strips import write_strips
from idle_lantern.core.deliver.whole_files import write_whole
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.frames.metadata import in_ascii
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.pyramid import PackedTile, PyramidInfo, packed, write_pyramid
from idle_lantern.core.pictures.source import TILE, HeldPicture, PictureSource, region

T = TypeVar("T")

_THREADS = 2


def write_source(
    source: PictureSource,
    target: Path,
    options: WriteOptions | None = None,
    progress: Progress = SILENT,
    runner: Runner | None = None,
) -> None:
    """Write a picture in the format of ``target``'s ending, whatever its size.

    TIFF keeps depth and alpha as a tiled pyramid, in the big variant beyond 4 GiB; PNG keeps 8 or 16 bit and
    alpha; JPEG is 8 bit, transparent parts black; WebP, AVIF and JPEG XL are 8 bit, with alpha; OpenEXR, and TIFF where the options ask for
    it, hold linear light. What the colours mean goes along as a profile, or as chromaticities. ``runner`` makes the tiles of TIFF, PNG
    and JPEG, None for threads of this process.

    Raises
    ------
    InputError
        The target cannot be written, or the source no longer read; nothing is left half-written.
    Cancelled
        Stopped; nothing is left.
    """
    check_target(target, *source.sizes[0])
    with replacing(target) as part:
        write_part(source, part, options or WriteOptions(), progress, runner)


def write_part(
    source: PictureSource, part: Path, options: WriteOptions, progress: Progress, runner: Runner | None = None
) -> None:
    """Write a picture into a file that takes its place later, in the format of its ending; as ``write_source``.

    Raises
    ------
    OSError
        It cannot be written.
    Cancelled
        Stopped.
    """
    kind = format_of(part)
    light = kind.light == "asked" and options.light
    if light or kind.name not in _BY_TILES:
        (write_float_tiff if light else _WHOLE[kind.name])(source, part, options, progress)
    else:
        _BY_TILES[kind.name](source, part, options, progress, runner or ThreadRunner(_THREADS, _THREADS + 2))


def write(picture: Picture, target: Path, options: WriteOptions | None = None) -> None:
    """Write a picture that is held in memory, in the format of ``target``'s ending; as ``write_source``.

    Raises
    ------
    InputError
        The file cannot be written; nothing is left of it.
    """
    write_source(HeldPicture(picture), target, options)


def _write_tiff(source: PictureSource, part: Path, options: WriteOptions, progress: Progress, runner: Runner) -> None:
    info, corners = _laid_out(source, options)
    progress.begin("write", len(corners))
    made = runner.run(_PackedTiles(source, info, corners), range(len(corners)))
    meta = options.metadata
    write_pyramid(
        part,
        info,
        _counted(made, progress),
        threads=_THREADS,
        author=in_ascii(meta.author or ""),
        rights=in_ascii(meta.rights or ""),
    )


def _write_jpeg(source: PictureSource, part: Path, options: WriteOptions, progress: Progress, runner: Runner) -> None:
    _write_strips(source, part, replace(options, alpha=False), progress, runner)


def _write_strips(source: PictureSource, part: Path, options: WriteOptions, progress: Progress, runner: Runner) -> None:
    info, corners = _laid_out(source, options)
    progress.begin("write", len(corners))
    tiles = runner.run(_Tiles(source, info, corners), range(len(corners)))
    write_strips(part, info, _counted(tiles, progress), options)


@dataclass(frozen=True)
class _Tiles:
    """Tiles of a picture as a task: colours and alpha of each."""

    source: PictureSource
    info: PyramidInfo
    corners: Sequence[tuple[int, int]]

    def work(self, index: int) -> tuple[Array, Array | None]:
        return _cut(self.source, self.info, self.corners[index])


@dataclass(frozen=True)
class _PackedTiles(_Tiles):
    """The same, packed as they go into a pyramid."""

    def work(self, index: int) -> PackedTile:  # type: ignore[override]
        return packed(*_cut(self.source, self.info, self.corners[index]))


#: Who writes each format, by tiles that others may make.
_BY_TILES: dict[str, Callable[[PictureSource, Path, WriteOptions, Progress, Runner], None]] = {
    "tiff": _write_tiff,
    "png": _write_strips,
    "jpeg": _write_jpeg,
}
#: Who writes the others.
_WHOLE: dict[str, Callable[[PictureSource, Path, WriteOptions, Progress], None]] = {
    "exr": write_exr,
    "webp": partial(write_whole, WEBP),
    "avif": partial(write_whole, AVIF),
    "jxl": partial(write_whole, JXL),
}


def _laid_out(source: PictureSource, options: WriteOptions) -> tuple[PyramidInfo, list[tuple[int, int]]]:
    """What is written, and the corners (top, left) of its tiles."""
    width, height = source.sizes[0]
    first = source.tile(0, 0, 0)
    alpha = options.alpha and first.shape[2] == 4
    corners = [(top, left) for top in range(0, height, TILE) for left in range(0, width, TILE)]
    return PyramidInfo(width, height, first.dtype, alpha, source.space, options.dpi), corners


def _cut(source: PictureSource, info: PyramidInfo, corner: tuple[int, int]) -> tuple[Array, Array | None]:
    """Colours and alpha of a tile; without alpha what shows nothing is black."""
    top, left = corner
    tile = region(source, Rectangle(left, top, min(TILE, info.width - left), min(TILE, info.height - top)))
    pixels = np.ascontiguousarray(tile[..., :3])
    if info.alpha:
        return pixels, np.ascontiguousarray(tile[..., 3])
    if tile.shape[2] == 4 and not tile[..., 3].all():
        pixels[tile[..., 3] == 0] = 0
    return pixels, None


def _counted(made: Iterator[T], progress: Progress) -> Iterator[T]:
    for thing in made:
        yield thing
        progress.advance()
