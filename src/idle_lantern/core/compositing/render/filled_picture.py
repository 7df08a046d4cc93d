"""A picture whose gaps are filled: made once onto the disk, since what is invented is taken from anywhere in it."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TypeVar

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.render.coverage import CanvasCoverage
from idle_lantern.core.compositing.render.plan import Finish, RenderPlan, TileMaker, as_made
from idle_lantern.core.compositing.render.tiles import there_and_back, tiles_of
from idle_lantern.core.compositing.rim.filling import SMALL_PX, Filling, fill_tile, filling_of
from idle_lantern.core.compositing.rim.outcome import Filled, InventedArea
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import TILE

T = TypeVar("T")

#: Marks what is invented, where 1 marks what was joined and 0 a gap.
_INVENTED = 2
#: Invented areas smaller than this share of the picture are not named one by one.
_SMALL_AREA = 1e-5
#: A box of invented places is invented by so much at least, or no longer than so many places.
_MOSTLY, _LEAST_BOX = 0.5, 8


class FilledPicture:
    """The tiles of a plan with their gaps filled; a ``TileMaker`` for whoever writes them.

    The whole picture waits in a file of ``folder`` without a name, so memory does not grow with it.
    """

    def __init__(
        self, plan: RenderPlan, maker: TileMaker, folder: Path, progress: Progress, *, anything: bool = False
    ) -> None:
        canvas = self._canvas = plan.canvas
        shape = (canvas.height, canvas.width)
        with tempfile.TemporaryFile(dir=folder) as colours, tempfile.TemporaryFile(dir=folder) as alpha:
            self._pixels: Array = np.memmap(colours, plan.dtype, "w+", shape=(*shape, 3))
            self._alpha: Array = np.memmap(alpha, np.uint8, "w+", shape=shape)
        tiles = there_and_back(tiles_of(canvas, TILE))
        progress.begin("rim", len(tiles))
        for tile, (pixels, shown) in zip(tiles, maker.tiles(plan, tiles, as_made)):
            rows, columns = _within(tile)
            self._pixels[rows, columns], self._alpha[rows, columns] = pixels, shown > 0
            progress.advance()
        self._filling = self._reckoned(anything=anything)
        self.coverage = CanvasCoverage(canvas, TILE)
        self._fill(plan, tiles)

    def tiles(self, plan: RenderPlan, tiles: Sequence[Tile], finish: Finish[T]) -> Iterator[T]:
        """``finish(pixels, alpha)`` of each tile, in order."""
        for tile in tiles:
            rows, columns = _within(tile)
            alpha = np.where(self._alpha[rows, columns] > 0, plan.full_scale, 0).astype(plan.dtype)
            yield finish(np.array(self._pixels[rows, columns]), alpha)

    def told(self, box: Rectangle) -> Filled:
        """What is invented in a part of the canvas, its areas in the canvas's pixels."""
        n = self._every
        top, left = box.top // n, box.left // n
        part = self._marked[top : -(-(box.top + box.height) // n), left : -(-(box.left + box.width) // n)]
        areas = [
            InventedArea((left + x + w / 2) * n, (top + y + h / 2) * n, w * n, h * n, pixels * n**2)
            for x, y, w, h, pixels in boxes_of(part)
        ]
        named = sorted((a for a in areas if a.pixels > _SMALL_AREA * box.area), key=lambda a: -a.pixels)
        columns = slice(box.left, box.left + box.width)
        rows = range(box.top, box.top + box.height, TILE)
        end = box.top + box.height
        pixels = sum(int((self._alpha[top : min(end, top + TILE), columns] == _INVENTED).sum()) for top in rows)
        return Filled(tuple(named), pixels, box.area, () if self._filling is None else self._filling.left)

    def _reckoned(self, *, anything: bool) -> Filling | None:
        height, width = self._alpha.shape
        every = max(1, int((height * width / (4 * SMALL_PX)) ** 0.5))
        # thinned first: averaging a gigapixel for a small picture would take longer than all the rest
        pixels, shown = self._pixels[::every, ::every], self._alpha[::every, ::every] > 0
        if pixels.dtype == np.uint16:
            pixels = (pixels >> 8).astype(np.uint8)
        factor = min(1.0, (SMALL_PX / shown.size) ** 0.5)
        size = max(16, round(shown.shape[1] * factor)), max(16, round(shown.shape[0] * factor))
        weight = shown.astype(np.float32)
        share = cv2.resize(weight, size, interpolation=cv2.INTER_AREA)
        small = cv2.resize(pixels * weight[..., None], size, interpolation=cv2.INTER_AREA)
        small = np.rint(small / np.maximum(share, 1e-6)[..., None]).clip(0, 255).astype(np.uint8)
        return filling_of(small, share > 0.999, self._up(size), anything=anything)

    def _up(self, size: tuple[int, int]) -> Array:
        """Sine of the altitude of each pixel (h, w) of the picture at a smaller size (width, height)."""
        canvas, (w, h) = self._canvas, size
        u, v = (np.arange(w) + 0.5) / w * canvas.width - 0.5, (np.arange(h) + 0.5) / h * canvas.height - 0.5
        return np.nan_to_num(-canvas.directions(np.stack(np.meshgrid(u, v), -1))[..., 1])

    def _fill(self, plan: RenderPlan, tiles: Sequence[Tile]) -> None:
        """Fill all gaps; they are read from what was joined only, whatever was filled before."""
        filling, canvas = self._filling, plan.canvas
        made: list[tuple[Tile, Array]] = []  # a bit for each pixel would do, but few tiles have gaps
        #: What is invented, on a raster of every so many pixels.
        self._every = max(1, int((canvas.width * canvas.height / SMALL_PX) ** 0.5))
        self._marked = np.zeros((-(-canvas.height // self._every), -(-canvas.width // self._every)), np.uint8)
        for tile in tiles:
            rows, columns = _within(tile)
            if filling is not None and not filling.open.all() and not self._alpha[rows, columns].all():
                filled, invented = fill_tile(filling, self._pixels, self._alpha, tile)
                self._pixels[rows, columns] = filled
                made.append((tile, invented))
                r, c = np.nonzero(invented)
                self._marked[(r + tile.top) // self._every, (c + tile.left) // self._every] = 1
        for tile, invented in made:
            rows, columns = _within(tile)
            self._alpha[rows, columns][invented] = _INVENTED
        for tile in tiles:
            self.coverage.add(tile, self._alpha[_within(tile)])


def boxes_of(marked: Array) -> list[tuple[int, int, int, int, int]]:
    """Boxes (left, top, width, height) and how many places each holds, that cover what is marked (h, w) uint8 and little else.

    What runs round a picture would have a box as large as that: a box that is mostly empty is cut in two.
    """
    _count, labels, stats, _middles = cv2.connectedComponentsWithStats(marked)
    found: list[tuple[int, int, int, int, int]] = []
    waiting = [(labels[y : y + h, x : x + w] == k, int(x), int(y)) for k, (x, y, w, h, _n) in enumerate(stats) if k]
    while waiting:
        part, x, y = waiting.pop()
        rows, columns = np.flatnonzero(part.any(1)), np.flatnonzero(part.any(0))
        if not len(rows):
            continue
        part = part[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]
        x, y = x + int(columns[0]), y + int(rows[0])
        h, w = part.shape
        if part.mean() >= _MOSTLY or max(h, w) <= _LEAST_BOX:
            found.append((x, y, w, h, int(part.sum())))
        elif w >= h:
            waiting += [(part[:, : w // 2], x, y), (part[:, w // 2 :], x + w // 2, y)]
        else:
            waiting += [(part[: h // 2], x, y), (part[h // 2 :], x, y + h // 2)]
    return found


def _within(tile: Tile) -> tuple[slice, slice]:
    return slice(tile.top, tile.top + tile.height), slice(tile.left, tile.left + tile.width)
