"""A canvas bent to another outline: where each of its pixels lies on the flat one, told on a coarse grid."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array

#: Rounds of the inverse; each leaves of the miss what the stretch differs from none.
_ROUNDS = 60
#: What the inverse may miss, in flat pixels.
_EXACT_PX = 1e-3


@dataclass(frozen=True)
class Stretch:
    """Places (R, C, 2) on the flat canvas of grid points ``origin + step * (column, row)`` of the bent one, in pixels.

    Between them runs the cubic convolution of Keys (1981), beyond them the last slope goes on. ``period_px`` is the width
    of a full circle, 0 where it is none; first and last column are then the same places, one period apart.
    """

    origin: tuple[float, float]
    step: tuple[float, float]
    at: Array = field(compare=False)
    period_px: float = 0.0

    def flat(self, pixels: Array) -> Array:
        """Flat places of bent pixels (..., 2)."""
        pixels = np.asarray(pixels, float)
        grid = (pixels - self.origin) / self.step
        if self.period_px:
            grid[..., 0] %= self.at.shape[1] - 1
        off = _cubic(self._off(), grid.reshape(-1, 2)).reshape(pixels.shape)
        return np.asarray(pixels + off)

    def bent(self, places: Array) -> Array:
        """Bent pixels of flat places (..., 2): the inverse of ``flat``, by going back what it misses.

        Beyond the grid by more than a cell it is only about there.
        """
        places = np.asarray(places, float)
        flat = places.reshape(-1, 2)
        found = self._nearly_bent(flat)
        low, high = self._reach
        todo = np.flatnonzero(((flat >= low) & (flat <= high)).all(1))
        for _ in range(_ROUNDS):
            miss = flat[todo] - self.flat(found[todo])
            found[todo] += miss
            todo = todo[np.abs(miss).max(1) > _EXACT_PX]
            if not len(todo):
                break
        return found.reshape(places.shape)

    @property
    def _reach(self) -> tuple[Array, Array]:
        """Flat places from which and to which the grid runs, a cell to spare; a full circle has no end."""
        spare = np.array([np.inf if self.period_px else 1.0, 1.0]) * self.step
        return self.at.reshape(-1, 2).min(0) - spare, self.at.reshape(-1, 2).max(0) + spare

    @cached_property
    def _way_back(self) -> tuple[Array, Array, Array]:
        """What is added to flat places on an even grid to come to bent pixels: corner, step, offsets (float32)."""
        rows, columns = (2 * n for n in self.at.shape[:2])
        low, high = self.at.reshape(-1, 2).min(0), self.at.reshape(-1, 2).max(0)
        if self.period_px:
            low[0], high[0] = self.origin[0], self.origin[0] + self.period_px
        step = (high - low) / (np.array([columns, rows]) - 1)
        places = low + np.stack(np.meshgrid(np.arange(columns), np.arange(rows)), -1) * step
        found = places.copy()
        for _ in range(_ROUNDS):
            miss = places - self.flat(found)
            found += miss
            if np.abs(miss).max() < _EXACT_PX:
                break
        return low, step, (found - places).astype(np.float32)

    def _nearly_bent(self, flat: Array) -> Array:
        low, step, off = self._way_back
        x, y = np.nan_to_num((flat - low) / step).T
        if self.period_px:
            x = x % (off.shape[1] - 1)
        x, y = np.clip(x, 0, off.shape[1] - 1.001), np.clip(y, 0, off.shape[0] - 1.001)
        i, j = x.astype(int), y.astype(int)
        fx, fy = (x - i)[:, None], (y - j)[:, None]
        upper = off[j, i] * (1 - fx) + off[j, i + 1] * fx
        lower = off[j + 1, i] * (1 - fx) + off[j + 1, i + 1] * fx
        return np.asarray(flat + upper * (1 - fy) + lower * fy)

    def scaled(self, factor: float) -> Stretch:
        """The same for a canvas with fewer pixels."""
        x, y = ((o + 0.5) * factor - 0.5 for o in self.origin)
        step = (self.step[0] * factor, self.step[1] * factor)
        return Stretch((x, y), step, (self.at + 0.5) * factor - 0.5, self.period_px * factor)

    def cut(self, left: float, top: float) -> Stretch:
        """The same for a bent canvas of which so much is cut off."""
        return replace(self, origin=(self.origin[0] - left, self.origin[1] - top))

    @property
    def largest(self) -> float:
        """By how many times something is drawn larger than on the flat canvas, where most."""
        return float(self.growth().max())

    def growth(self) -> Array:
        """How many times larger things are drawn in the way that grew most, at places a third of a cell apart, (3R - 2, 3C - 2).

        Along the sides of a cell it tells too little: what is sheared grows aslant. It is one over the lesser singular value of what
        the flat pixel changes by with the drawn one, and that between the grid's points as it is drawn there.
        """
        rows, columns = self.at.shape[:2]
        v, u = (np.linspace(0, n - 1, 3 * n - 2) for n in (rows, columns))
        places = np.stack(np.meshgrid(u, v), -1) * np.asarray(self.step) + np.asarray(self.origin)
        # a little inside, where there is something on either side
        ends = [np.asarray(self.origin), np.asarray(self.origin) + np.asarray(self.step) * (columns - 1, rows - 1)]
        half = 0.05 * np.asarray(self.step)
        places = np.clip(places, ends[0] + half, ends[1] - half)
        slopes = np.stack(
            [(self.flat(places + h) - self.flat(places - h)) / (2 * h.sum()) for h in (half * (1, 0), half * (0, 1))],
            -1,
        )
        return np.asarray(1 / np.maximum(np.linalg.svd(slopes, compute_uv=False)[..., -1], 1e-9))

    def _off(self) -> Array:
        """What is added to a bent pixel, on the grid with two more points each side."""
        rows, columns = self.at.shape[:2]
        grid = np.stack(np.meshgrid(np.arange(columns), np.arange(rows)), -1)
        off = self.at - (np.asarray(self.origin) + np.asarray(self.step) * grid)
        off = np.pad(off, ((2, 2), (0, 0), (0, 0)), mode="reflect", reflect_type="odd")
        if self.period_px:
            return np.concatenate([off[:, -3:-1], off, off[:, 1:3]], 1)
        return np.pad(off, ((0, 0), (2, 2), (0, 0)), mode="reflect", reflect_type="odd")


def _cubic(off: Array, grid: Array) -> Array:
    """Values at grid places (N, 2), by cubic convolution with a = -1/2."""
    rows, columns = off.shape[0] - 4, off.shape[1] - 4
    x = np.clip(np.nan_to_num(grid[:, 0]), -1.0, columns) + 2
    y = np.clip(np.nan_to_num(grid[:, 1]), -1.0, rows) + 2
    i = np.clip(np.floor(x).astype(int), 1, columns + 1)
    j = np.clip(np.floor(y).astype(int), 1, rows + 1)
    across, down = _weights(x - i), _weights(y - j)
    found: Array = np.zeros((len(grid), 2))
    for b in range(4):
        row = sum(across[a][:, None] * off[j + b - 1, i + a - 1] for a in range(4))
        found += down[b][:, None] * row
    return found


def _weights(t: Array) -> tuple[Array, Array, Array, Array]:
    return (
        ((-0.5 * t + 1) * t - 0.5) * t,
        (1.5 * t - 2.5) * t * t + 1,
        ((-1.5 * t + 2) * t + 0.5) * t,
        (0.5 * t - 0.5) * t * t,
    )


def resampled(picture: Array, stretch: Stretch, size: tuple[int, int]) -> Array:
    """A picture (h, w[, C]) of the flat canvas drawn on the bent one of (width, height) = ``size`` pixels."""
    u, v = np.meshgrid(np.arange(size[0], dtype=float), np.arange(size[1], dtype=float))
    places = stretch.flat(np.stack([u, v], -1)).astype(np.float32)
    border = cv2.BORDER_WRAP if stretch.period_px else cv2.BORDER_CONSTANT
    return np.asarray(cv2.remap(picture, places, None, cv2.INTER_LINEAR, borderMode=border))
