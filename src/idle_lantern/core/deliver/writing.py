"""Pictures of any size into files to hand on: TIFF, PNG and JPEG, a few tiles at a time, whole or not at all."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.picture import Picture
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.deliver.strips import write_strips
from idle_lantern.core.deliver.targets import WriteOptions, check_target, is_tiff
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.pyramid import TILE, PackedTile, PyramidInfo, in_order, packed, write_pyramid
from idle_lantern.core.pictures.source import HeldPicture, PictureSource, region

Array = NDArray[Any]

_THREADS = 2


def deliver(
    source: PictureSource,
    target: Path,
    options: WriteOptions | None = None,
    *,
    box: Rectangle | None = None,
    keep_alpha: bool = True,
    progress: Progress = SILENT,
) -> None:
    """Write a picture, or the ``box`` of it, in the format of ``target``'s ending.

    TIFF keeps depth and alpha as a tiled pyramid, in the big variant beyond 4 GiB; PNG keeps 8 or 16 bit and
    alpha; JPEG is 8 bit, transparent parts black. The colour profile goes along. ``keep_alpha`` False leaves
    alpha away, for what has no gaps.

    Raises
    ------
    InputError
        The target cannot be written, or the source no longer read; nothing is left half-written.
    Cancelled
        Stopped; nothing is left.
    """
    options = options or WriteOptions()
    width, height = source.sizes[0]
    box = box or Rectangle(0, 0, width, height)
    check_target(target, box.width, box.height)
    corners = [(top, left) for top in range(0, box.height, TILE) for left in range(0, box.width, TILE)]
    first = source.tile(0, box.top // source.tile_px, box.left // source.tile_px)
    alpha = keep_alpha and first.shape[2] == 4
    info = PyramidInfo(box.width, box.height, first.dtype, alpha, source.encoding, source.icc, options.dpi)
    tiff = is_tiff(target)

    def cut(corner: tuple[int, int]) -> tuple[Array, Array | None]:
        top, left = corner
        part = Rectangle(box.left + left, box.top + top, min(TILE, box.width - left), min(TILE, box.height - top))
        tile = region(source, part)
        if not alpha:
            return _on_black(tile), None
        return np.ascontiguousarray(tile[..., :3]), np.ascontiguousarray(tile[..., 3])

    progress.begin("write", len(corners))
    with replacing(target) as part_file, ThreadPoolExecutor(_THREADS) as pool:
        if tiff:
            made = in_order(lambda c: packed(*cut(c)), corners, pool, _THREADS + 2)
            write_pyramid(part_file, info, _told(made, progress), threads=_THREADS)
        else:
            write_strips(part_file, info, _told_parts(in_order(cut, corners, pool, _THREADS + 2), progress), options)


def write(picture: Picture, target: Path, options: WriteOptions | None = None) -> None:
    """Write a picture that is held in memory, in the format of ``target``'s ending.

    See ``deliver`` for what each format keeps.

    Raises
    ------
    InputError
        The file cannot be written; nothing is left of it.
    """
    deliver(HeldPicture(picture), target, options or WriteOptions(), keep_alpha=picture.alpha is not None)


def _told(made: Iterator[PackedTile], progress: Progress) -> Iterator[PackedTile]:
    for thing in made:
        yield thing
        progress.advance()


def _told_parts(made: Iterator[tuple[Array, Array | None]], progress: Progress) -> Iterator[tuple[Array, Array | None]]:
    for thing in made:
        yield thing
        progress.advance()


def _on_black(tile: Array) -> Array:
    """The colours of a tile, black where it shows nothing."""
    pixels = np.ascontiguousarray(tile[..., :3])
    if tile.shape[2] == 4 and not tile[..., 3].all():
        pixels[tile[..., 3] == 0] = 0
    return pixels
