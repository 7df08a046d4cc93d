"""What surrounds each place, edges kept: a guided filter whose coefficients are found on the reduced picture.

In a window about a place the base is straight in the picture itself, ``base = a * value + b`` (He, Sun and Tang 2010); a and b are
smooth, so they are found on all of the picture reduced and looked up between (He and Sun 2015, "Fast guided filter"). So any tile of
any level has the same base, however far the surroundings reach.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.finish.tile_look import TileLook

#: The window as a share of the longer side, and the difference of brightness that counts as an edge.
_REACH, _EDGE = 0.02, 0.08


@dataclass(frozen=True)
class BaseLayer:
    """Coefficients a and b over the reduced picture, (2, h, w)."""

    coefficients: Array

    def at(self, values: Array, look: TileLook) -> Array:
        """The base of a tile's values (h, w)."""
        h, w = self.coefficients.shape[1:]
        box, (fx, fy), full = look.at.box, look.at.scale, look.at.full
        columns, across = _between(box.left, box.width, fx * w / full[0], w)
        rows, down = _between(box.top, box.height, fy * h / full[1], h)
        part = self.coefficients[:, rows, columns]
        a, b = (down @ part[k] @ across.T for k in range(2))
        a *= values
        a += b
        return np.asarray(a)


def base_layer(values: Array, alpha: Array, reach: float = _REACH, edge: float = _EDGE) -> BaseLayer:
    """Of one value a pixel (h, w) of the reduced picture; what shows nothing (alpha 0) weighs nothing.

    ``reach`` is the window as a share of the longer side; a difference of ``edge`` counts as an edge.
    """
    radius = max(1, round(reach * max(values.shape)))
    side = (2 * radius + 1, 2 * radius + 1)
    weight = np.ascontiguousarray(alpha, np.float32)

    def mean(plane: Array) -> Array:
        summed = cv2.boxFilter(np.ascontiguousarray(plane * weight), -1, side, borderType=cv2.BORDER_REFLECT)
        return np.asarray(summed / np.maximum(share, 1e-6))

    share = np.asarray(cv2.boxFilter(weight, -1, side, borderType=cv2.BORDER_REFLECT))
    values = np.ascontiguousarray(values, np.float32)
    middle = mean(values)
    spread = np.maximum(mean(values * values) - middle * middle, 0)
    a = spread / (spread + np.float32(edge * edge))
    return BaseLayer(np.stack([mean(a), mean(middle * (1 - a))]))


@lru_cache(maxsize=256)
def _between(first: int, count: int, scale: float, nodes: int) -> tuple[slice, Array]:
    """The nodes that pixels from ``first`` on lie between, ``scale`` of them a pixel, and the weights (count, n) of those."""
    at = ((np.arange(first, first + count) + 0.5) * scale - 0.5).clip(0, nodes - 1)
    begin, end = int(at[0]), min(nodes, int(at[-1]) + 2)
    at -= begin
    low = np.minimum(at.astype(int), max(0, end - begin - 2))
    weights = np.zeros((count, end - begin), np.float32)
    rows = np.arange(count)
    weights[rows, low] = 1 - (at - low)
    weights[rows, np.minimum(low + 1, end - begin - 1)] += at - low
    return slice(begin, end), weights
