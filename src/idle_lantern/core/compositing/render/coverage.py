"""Where a picture has pixels, gathered while its tiles are made or reckoned before; the crop follows from it."""

from __future__ import annotations

from threading import Lock

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.geometry.holes import filled_holes
from idle_lantern.core.geometry.rectangles import Rectangle, inner_rectangle

#: Places at which coverage is told, at most; below that every pixel is.
_PLACES = 8_000_000


class CanvasCoverage:
    """Blocks of the canvas that are covered whole; filled by several threads.

    ``every`` is the side of a block in pixels. Tiles must begin at multiples of it.
    """

    def __init__(self, canvas: Canvas, tile_px: int) -> None:
        every = 1
        while canvas.width * canvas.height / every**2 > _PLACES and every < tile_px:
            every *= 2
        self.every, self._size = every, (canvas.width, canvas.height)
        self._covered = np.zeros((-(-canvas.height // every), -(-canvas.width // every)), bool)
        self._lock = Lock()

    def add(self, tile: Tile, alpha: Array) -> None:
        """Note the alpha (h, w) of a tile."""
        n = self.every
        h, w = alpha.shape
        rows, columns = -(-h // n), -(-w // n)
        blocks = np.ones((rows * n, columns * n), bool)
        blocks[:h, :w] = alpha > 0
        while len(blocks) > rows:  # blocks are powers of two
            blocks = blocks[::2] & blocks[1::2]
            blocks = blocks[:, ::2] & blocks[:, 1::2]
        top, left = tile.top // n, tile.left // n
        with self._lock:
            self._covered[top : top + rows, left : left + columns] = blocks

    @property
    def complete(self) -> bool:
        """Whether nothing is missing anywhere."""
        return bool(self._covered.all())

    def rectangle(self, ratio: float | None = None, *, holes: bool = False) -> Rectangle:
        """The largest rectangle without gaps, of a width by height where one is asked for; all where there are none.

        With ``holes`` gaps that picture encloses may lie in it.
        """
        if self.complete and ratio is None:
            return Rectangle(0, 0, *self._size)
        covered = filled_holes(self._covered) if holes else self._covered
        found = inner_rectangle((covered * 255).astype(np.uint8), ratio=ratio)
        n = self.every
        if ratio is not None:
            return _of_ratio(
                Rectangle(found.left * n, found.top * n, found.width * n, found.height * n), ratio, self._size
            )
        right, bottom = ((found.left + found.width) * n, (found.top + found.height) * n)
        return Rectangle(
            found.left * n,
            found.top * n,
            max(1, min(right, self._size[0]) - found.left * n),
            max(1, min(bottom, self._size[1]) - found.top * n),
        )


def _of_ratio(box: Rectangle, ratio: float, size: tuple[int, int]) -> Rectangle:
    """The box inside the canvas, its sides exactly in the ratio, about its own middle."""
    width = min(box.width, size[0] - box.left)
    height = min(box.height, size[1] - box.top)
    fitted_width, fitted_height = min(width, round(height * ratio)), min(height, round(width / ratio))
    return Rectangle(
        box.left + (width - fitted_width) // 2,
        box.top + (height - fitted_height) // 2,
        max(1, fitted_width),
        max(1, fitted_height),
    )
