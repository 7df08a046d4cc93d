"""Rectangles in masks: the crop that wastes least."""

from __future__ import annotations

from dataclasses import dataclass
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
    """Largest axis-parallel rectangle of true pixels in ``mask`` (H, W).

    Row by row over the histogram of true pixels above, with a stack of rising
    bars; linear in the pixels (largest rectangle under a histogram).
    """
    best = Rectangle(0, 0, 0, 0)
    heights = np.zeros(mask.shape[1], dtype=np.int64)
    for bottom, row in enumerate(np.asarray(mask, dtype=bool)):
        heights = np.where(row, heights + 1, 0)
        if heights.max(initial=0) * mask.shape[1] <= best.area:
            continue
        stack: list[tuple[int, int]] = []
        for right, height in enumerate([*heights.tolist(), 0]):
            left = right
            while stack and stack[-1][1] >= height:
                left, tall = stack.pop()
                if tall * (right - left) > best.area:
                    best = Rectangle(left, bottom - tall + 1, right - left, tall)
            stack.append((left, height))
    return best


def inner_rectangle(alpha: NDArray[Any], working_px: int = 600) -> Rectangle:
    """Largest rectangle without gaps of a picture's alpha (H, W).

    Searched on a reduced mask whose pixels count only where every full pixel below
    them is opaque, so the result never holds a gap; it is at most one reduced pixel
    smaller on each side than the best.
    """
    h, w = alpha.shape
    step = max(1, -(-max(h, w) // working_px))
    rows, columns = h // step, w // step
    if rows == 0 or columns == 0:
        return largest_rectangle(alpha > 0)
    full = np.iinfo(alpha.dtype).max if alpha.dtype.kind in "ui" else 1
    blocks = alpha[: rows * step, : columns * step].reshape(rows, step, columns, step)
    return largest_rectangle(blocks.min(axis=(1, 3)) >= full).scaled(step)
