"""Rectangles in masks: the crop that wastes least."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Rectangle:
    """Pixels ``left <= u < left + width``, ``top <= v < top + height``."""

    left: int
    top: int
    width: int
    height: int

    @property
    def area(self) -> int:
        """Pixels inside."""
        return self.width * self.height

    def scaled(self, factor: float) -> Rectangle:
        """The same rectangle on a picture larger by ``factor``, shrunk to whole pixels inside."""
        left, top = -int(-self.left * factor // 1), -int(-self.top * factor // 1)
        right, bottom = int((self.left + self.width) * factor), int((self.top + self.height) * factor)
        return Rectangle(left, top, max(0, right - left), max(0, bottom - top))


def largest_rectangle(mask: NDArray[Any]) -> Rectangle:
    """Largest axis-parallel rectangle of true pixels in ``mask`` (H, W), the first of equals."""
    left, top, width, height = largest_rectangles(np.asarray(mask, dtype=bool)[None])[0].tolist()
    return Rectangle(left, top, width, height)


def largest_rectangles(masks: NDArray[Any]) -> NDArray[Any]:
    """Largest axis-parallel rectangle of true pixels in each of ``masks`` (N, H, W): left, top, width and height, (N, 4).

    Row by row every column carries the height of true pixels above it and how far left and
    right a bar of that height reaches; linear in the pixels.
    """
    count, _, width = masks.shape
    best = np.zeros((count, 4), int)
    if not width:
        return best
    largest, columns, each = np.zeros(count, int), np.arange(width), np.arange(count)
    heights, left, right = (np.full((count, width), v) for v in (0, 0, width))
    for bottom, row in enumerate(np.moveaxis(masks, 1, 0)):
        # the run of true pixels in this row that holds each column
        run_left = np.maximum.accumulate(np.where(row, 0, columns + 1), axis=1)
        run_right = np.minimum.accumulate(np.where(row, width, columns)[:, ::-1], axis=1)[:, ::-1]
        heights = np.where(row, heights + 1, 0)
        left = np.where(row, np.maximum(left, run_left), 0)
        right = np.where(row, np.minimum(right, run_right), width)
        areas = heights * (right - left)
        at = areas.argmax(1)
        larger = np.flatnonzero(areas[each, at] > largest)
        if len(larger):
            k = at[larger]
            largest[larger] = areas[larger, k]
            tall, first = heights[larger, k], left[larger, k]
            best[larger] = np.stack([first, bottom - tall + 1, right[larger, k] - first, tall], -1)
    return best


def largest_of_ratio(mask: NDArray[Any], ratio: float) -> Rectangle:
    """Largest rectangle of true pixels in ``mask`` whose width is ``ratio`` times its height, to a pixel.

    If one of some size fits anywhere, a smaller one does too: the size is found by halving, each tried everywhere at
    once by sums over the mask.
    """
    mask = np.asarray(mask, dtype=bool)
    rows, columns = mask.shape
    sums = np.zeros((rows + 1, columns + 1), np.int64)
    sums[1:, 1:] = mask.cumsum(0).cumsum(1)

    def fits(height: int) -> Rectangle | None:
        width = max(1, round(height * ratio))
        if height < 1 or height > rows or width > columns:
            return None
        inside = sums[height:, width:] - sums[:-height, width:] - sums[height:, :-width] + sums[:-height, :-width]
        at = np.argwhere(inside == width * height)
        if not len(at):
            return None
        # of all places the one nearest to the middle of the mask
        middle = at + np.array([(height - rows) / 2, (width - columns) / 2])
        top, left = at[int((middle**2).sum(1).argmin())]
        return Rectangle(int(left), int(top), width, height)

    low, high, best = 0, rows, Rectangle(0, 0, 0, 0)
    while low < high:
        tried = (low + high + 1) // 2
        found = fits(tried)
        if found is None:
            high = tried - 1
        else:
            low, best = tried, found
    return best


def inner_rectangle(alpha: NDArray[Any], working_px: int = 600, ratio: float | None = None) -> Rectangle:
    """Largest rectangle without gaps of a picture's alpha (H, W).

    Searched on a reduced mask whose pixels count only where every full pixel below
    them is opaque, so the result never holds a gap; it is at most one reduced pixel
    smaller on each side than the best. ``ratio`` asks for a width by height.
    """
    h, w = alpha.shape
    step = max(1, -(-max(h, w) // working_px))
    rows, columns = h // step, w // step
    find = largest_rectangle if ratio is None else partial(largest_of_ratio, ratio=ratio)
    full = np.iinfo(alpha.dtype).max if alpha.dtype.kind in "ui" else 1
    if rows == 0 or columns == 0:
        return find(alpha >= full)
    # first down, then across: many times as fast as both at once
    bands = alpha[: rows * step, : columns * step].reshape(rows, step, columns * step).min(axis=1)
    return find(bands.reshape(rows, columns, step).min(axis=2) >= full).scaled(step)


def size_within(width: int, height: int, long_side_px: int | None) -> tuple[int, int]:
    """Width and height of a picture whose longer side is at most so long; none makes it larger, None leaves it."""
    factor = 1.0 if long_side_px is None else min(1.0, long_side_px / max(width, height))
    return max(1, round(width * factor)), max(1, round(height * factor))
