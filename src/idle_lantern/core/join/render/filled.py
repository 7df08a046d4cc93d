"""A picture whose gaps are filled: made once onto the disk, since what is invented is taken from anywhere in it."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any, TypeVar

import cv2
import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.progress import Progress
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.canvas.warp import Tile
from idle_lantern.core.join.render.coverage import Coverage
from idle_lantern.core.join.render.plan import RenderPlan, TileRunner
from idle_lantern.core.join.render.tiles import there_and_back, tiles_of
from idle_lantern.core.join.rim.filling import SMALL_PX, Filling, fill_tile, filling_of
from idle_lantern.core.join.rim.told import Area, Filled
from idle_lantern.core.pictures.pyramid import TILE

Array = NDArray[Any]
T = TypeVar("T")

#: Marks what is invented, where 1 marks what was joined and 0 a gap.
_INVENTED = 2
#: Invented areas smaller than this share of the picture are not named one by one.
_SMALL_AREA = 1e-5


class FilledPicture:
    """The tiles of a plan with their gaps filled; a ``TileRunner`` for whoever writes them.

    The whole picture waits in a file of ``folder`` without a name, so memory does not grow with it.
    """

    def __init__(
        self, plan: RenderPlan, runner: TileRunner, folder: Path, progress: Progress, *, anything: bool = False
    ) -> None:
        canvas = plan.canvas
        shape = (canvas.height, canvas.width)
        with tempfile.TemporaryFile(dir=folder) as colours, tempfile.TemporaryFile(dir=folder) as alpha:
            self._pixels: Array = np.memmap(colours, plan.dtype, "w+", shape=(*shape, 3))
            self._alpha: Array = np.memmap(alpha, np.uint8, "w+", shape=shape)
        tiles = there_and_back(tiles_of(canvas, TILE))
        progress.begin("rim", len(tiles))
        for tile, (pixels, shown) in zip(tiles, runner.run(plan, tiles, lambda pixels, shown: (pixels, shown > 0))):
            rows, columns = _within(tile)
            self._pixels[rows, columns], self._alpha[rows, columns] = pixels, shown
            progress.advance()
        self._filling = self._reckoned(anything=anything)
        self.coverage = Coverage(canvas, TILE)
        self._areas = self._fill(plan, tiles)

    def run(self, plan: RenderPlan, tiles: Sequence[Tile], finish: Callable[[Array, Array], T]) -> Iterator[T]:
        """``finish(pixels, alpha)`` of each tile, in order."""
        for tile in tiles:
            rows, columns = _within(tile)
            alpha = np.where(self._alpha[rows, columns] > 0, plan.full_scale, 0).astype(plan.dtype)
            yield finish(np.array(self._pixels[rows, columns]), alpha)

    def told(self, box: Rectangle) -> Filled:
        """What is invented in a part of the canvas, its areas in the canvas's pixels."""
        areas = []
        for a in self._areas:
            left, right = max(box.left, a.u - a.width / 2), min(box.left + box.width, a.u + a.width / 2)
            top, bottom = max(box.top, a.v - a.height / 2), min(box.top + box.height, a.v + a.height / 2)
            if left < right and top < bottom:
                share = (right - left) * (bottom - top) / (a.width * a.height)
                u, v = (left + right) / 2, (top + bottom) / 2
                areas.append(Area(u, v, right - left, bottom - top, round(a.pixels * share)))
        columns = slice(box.left, box.left + box.width)
        rows = range(box.top, box.top + box.height, TILE)
        end = box.top + box.height
        pixels = sum(int((self._alpha[top : min(end, top + TILE), columns] == _INVENTED).sum()) for top in rows)
        return Filled(tuple(areas), pixels, box.area, () if self._filling is None else self._filling.left)

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
        return filling_of(small, share > 0.999, anything=anything)

    def _fill(self, plan: RenderPlan, tiles: Sequence[Tile]) -> list[Area]:
        """Fill all gaps; they are read from what was joined only, whatever was filled before."""
        filling, canvas = self._filling, plan.canvas
        of_pixels = canvas.width * canvas.height
        made: list[tuple[Tile, Array]] = []  # a bit for each pixel would do, but few tiles have gaps
        scale = max(1, int((of_pixels / SMALL_PX) ** 0.5))
        marked = np.zeros((-(-canvas.height // scale), -(-canvas.width // scale)), np.uint8)
        for tile in tiles:
            rows, columns = _within(tile)
            if filling is not None and not filling.open.all() and not self._alpha[rows, columns].all():
                filled, invented = fill_tile(filling, self._pixels, self._alpha, tile)
                self._pixels[rows, columns] = filled
                made.append((tile, invented))
                r, c = np.nonzero(invented)
                marked[(r + tile.top) // scale, (c + tile.left) // scale] = 1
        for tile, invented in made:
            rows, columns = _within(tile)
            self._alpha[rows, columns][invented] = _INVENTED
        for tile in tiles:
            self.coverage.add(tile, self._alpha[_within(tile)])
        count, _labels, stats, _middles = cv2.connectedComponentsWithStats(marked)
        areas = [
            Area((x + w / 2) * scale, (y + h / 2) * scale, w * scale, h * scale, int(area) * scale**2)
            for x, y, w, h, area in stats[1:count]
        ]
        return sorted((a for a in areas if a.pixels > _SMALL_AREA * of_pixels), key=lambda a: -a.pixels)


def _within(tile: Tile) -> tuple[slice, slice]:
    return slice(tile.top, tile.top + tile.height), slice(tile.left, tile.left + tile.width)
