"""What surrounds each place, edges kept: a guided filter whose coefficients are found on the reduced picture.

In a window about a place the base is straight in the picture itself, ``base = a * value + b`` (He, Sun and Tang 2010); a and b are
smooth, so they are found on all of the picture reduced and looked up between (He and Sun 2015, "Fast guided filter"). So any tile of
any level has the same base, however far the surroundings reach.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.finish.tile_look import Ground, TileLook

#: The window as a share of the longer side, and the difference of brightness that counts as an edge.
_REACH, _EDGE = 0.02, 0.08


@dataclass(frozen=True)
class BaseLayer:
    """Coefficients over the reduced picture, (h, w, 2)."""

    coefficients: Array

    def at(self, values: Array, look: TileLook) -> Array:
        """The base of a tile's values (h, w)."""
        h, w = self.coefficients.shape[:2]
        box, (fx, fy), full = look.at.box, look.at.scale, look.at.full
        x = ((np.arange(box.left, box.left + box.width) + 0.5) * fx * w / full[0] - 0.5).clip(0, w - 1)
        y = ((np.arange(box.top, box.top + box.height) + 0.5) * fy * h / full[1] - 0.5).clip(0, h - 1)
        x0, x1 = int(x[0]), min(w, int(x[-1]) + 2)
        y0, y1 = int(y[0]), min(h, int(y[-1]) + 2)
        part = self.coefficients[y0:y1, x0:x1]
        across, down = _weights(x - x0, x1 - x0), _weights(y - y0, y1 - y0)
        a, b = (down @ part[..., k] @ across.T for k in range(2))
        return np.asarray(a * values + b)


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
    return BaseLayer(np.dstack([mean(a), mean(middle * (1 - a))]))


def brightness(light: Array, ground: Ground) -> Array:
    """The display value of the luminance of linear light (h, w, 3), (h, w)."""
    luminance = (light @ ground.space.luminance.astype(np.float32))[..., None].repeat(3, -1)
    return np.asarray(ground.changed(luminance, "linear", "display")[..., 0])


def _weights(at: Array, nodes: int) -> Array:
    """Weights (n, nodes) of places ``at`` between nodes."""
    low = np.minimum(at.astype(int), max(0, nodes - 2))
    weights = np.zeros((len(at), nodes), np.float32)
    rows = np.arange(len(at))
    weights[rows, low] = 1 - (at - low)
    weights[rows, np.minimum(low + 1, nodes - 1)] += at - low
    return weights
