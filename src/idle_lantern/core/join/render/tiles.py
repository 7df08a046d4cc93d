"""The canvas cut into tiles, and all of them made in order by a few workers."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from numpy.typing import NDArray

from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.canvas.canvas import Canvas
from idle_lantern.core.join.canvas.warp import Tile
from idle_lantern.core.join.render.compositor import Compositor

Array = NDArray[Any]

TILE = 512


def tiles_of(canvas: Canvas, size: int = TILE, region: Rectangle | None = None) -> list[Tile]:
    """Tiles of the canvas, or of a region of it, row by row."""
    box = region or Rectangle(0, 0, canvas.width, canvas.height)
    right, bottom = box.left + box.width, box.top + box.height
    return [
        Tile(left, top, min(size, right - left), min(size, bottom - top))
        for top in range(box.top, bottom, size)
        for left in range(box.left, right, size)
    ]


def compose(
    compositor: Compositor,
    threads: int,
    progress: Progress = SILENT,
    size: int = TILE,
    region: Rectangle | None = None,
    skip: int = 0,
) -> Iterator[tuple[Tile, Array, Array]]:
    """All tiles in order but the first ``skip``, made by ``threads`` workers, a few ahead of the reader."""
    tiles = tiles_of(compositor.canvas, size, region)
    progress.begin("blend", len(tiles))
    progress.advance(skip)
    tiles = tiles[skip:]
    with ThreadPoolExecutor(threads) as pool:
        ahead = threads + 1
        waiting = [pool.submit(compositor.tile, t) for t in tiles[:ahead]]
        try:
            for i, tile in enumerate(tiles):
                pixels, alpha = waiting.pop(0).result()
                if i + ahead < len(tiles):
                    waiting.append(pool.submit(compositor.tile, tiles[i + ahead]))
                yield tile, pixels, alpha
                progress.advance()
        finally:
            for future in waiting:
                future.cancel()
