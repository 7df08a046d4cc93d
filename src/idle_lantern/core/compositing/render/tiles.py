"""The canvas cut into tiles."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import groupby
from typing import TypeVar

from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import TILE

T = TypeVar("T")


def tiles_of(canvas: Canvas, size: int = TILE, region: Rectangle | None = None) -> list[Tile]:
    """Tiles of the canvas, or of a region of it, row by row."""
    box = region or Rectangle(0, 0, canvas.width, canvas.height)
    right, bottom = box.left + box.width, box.top + box.height
    return [
        Tile(left, top, min(size, right - left), min(size, bottom - top))
        for top in range(box.top, bottom, size)
        for left in range(box.left, right, size)
    ]


def there_and_back(tiles: Iterable[Tile]) -> list[Tile]:
    """The same tiles, every second row of them backwards: where one row ends the next finds its frames still held."""
    rows = [list(row) for _, row in groupby(tiles, key=lambda tile: tile.top)]
    return [tile for i, row in enumerate(rows) for tile in (reversed(row) if i % 2 else row)]


def row_by_row(made: Iterable[tuple[Tile, T]]) -> Iterator[T]:
    """What was made of tiles ``there_and_back``, in the order of the tiles before."""
    for i, (_, row) in enumerate(groupby(made, key=lambda pair: pair[0].top)):
        things = (thing for _, thing in row)
        yield from reversed(list(things)) if i % 2 else things
