"""The canvas cut into tiles."""

from __future__ import annotations

from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.canvas.canvas import Canvas
from idle_lantern.core.join.canvas.warp import Tile
from idle_lantern.core.pictures.pyramid import TILE


def tiles_of(canvas: Canvas, size: int = TILE, region: Rectangle | None = None) -> list[Tile]:
    """Tiles of the canvas, or of a region of it, row by row."""
    box = region or Rectangle(0, 0, canvas.width, canvas.height)
    right, bottom = box.left + box.width, box.top + box.height
    return [
        Tile(left, top, min(size, right - left), min(size, bottom - top))
        for top in range(box.top, bottom, size)
        for left in range(box.left, right, size)
    ]
