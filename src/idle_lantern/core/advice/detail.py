"""What shows at 100 % only: how soft edges are, how strong noise is, edges that are sharpened too far."""

from __future__ import annotations

import math
from collections.abc import Sequence

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.oklab import to_oklab
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.pictures.source import PictureSource, light_of, reduced

#: Gradients are taken of blurs of these sigmas: their ratio tells the blur of an edge.
_FINE_PX, _COARSE_PX = 0.8, 1.8
#: An edge counts from this lightness per pixel on, after the finer blur, where no steeper one lies within so many pixels.
_EDGE_SLOPE, _ALONE_PX = 0.035, 6
#: The difference of neighbours that tells a slope blurs by itself: the variance of a window two pixels wide.
_OWN = 1 / 3
_LEAST_EDGES = 40
#: Noise is told by blocks of this side, by the quietest of which these shares lie between.
_BLOCK_PX, _QUIET = 16, (0.05, 0.25)
#: The quietest blocks of even noise are quieter than their mean by this, by trial.
_QUIETER = 0.9
#: An edge is where lightness differs by this within the window; what goes beyond the window's own range is overshoot.
_WINDOW_PX, _RANGE = 5, 0.15


def places_to_look(source: PictureSource, count: int = 4) -> tuple[list[tuple[int, int]], list[tuple[int, int]]]:
    """Rows and columns of tiles at full size: those with most edges, and the most even ones."""
    side, (width, height) = source.tile_px, source.sizes[0]
    rows, columns = max(1, height // side), max(1, width // side)
    small = reduced(source, 1024)
    grey = small[..., :3].mean(-1).astype(np.float32)
    if small.dtype.kind == "f":
        grey = np.sqrt(np.clip(grey, 0, 1))
    else:
        grey /= np.iinfo(small.dtype).max
    slope = np.hypot(cv2.Sobel(grey, cv2.CV_32F, 1, 0), cv2.Sobel(grey, cv2.CV_32F, 0, 1))
    if small.shape[2] == 4:
        # a tile that shows nothing in parts has edges of its own
        hidden = cv2.dilate((small[..., 3] == 0).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
        slope[hidden], grey[hidden] = 0, 0
    by_tile = cv2.resize(slope, (columns, rows), interpolation=cv2.INTER_AREA)
    light = cv2.resize(grey, (columns, rows), interpolation=cv2.INTER_AREA)
    order = np.argsort(by_tile, axis=None)
    even = [k for k in order if 0.1 < light.flat[k] < 0.9]

    def tiles(chosen: Sequence[int] | Array) -> list[tuple[int, int]]:
        return [divmod(int(k), columns) for k in chosen[:count]]

    return tiles(order[::-1]), tiles(even)


def edge_blur_px(lightness: Sequence[Array]) -> float | None:
    """Sigma of the blur that sharp edges have, in pixels, of tiles of lightness (h, w) from 0 to 1; None where there are too few.

    By the ratio of an edge's slope in two blurs of known sigma (after Zhuo and Sim 2011, "Defocus map estimation from a single image"):
    its slope falls with the root of the sum of squares. The median of the edges: sharpened ones count as not blurred.
    """
    found = []
    for tile in lightness:
        fine, coarse = (slope_of(cv2.GaussianBlur(tile, (0, 0), sigma)) for sigma in (_FINE_PX, _COARSE_PX))
        alone = np.ones((2 * _ALONE_PX + 1, 2 * _ALONE_PX + 1), np.uint8)
        peak = (fine >= cv2.dilate(fine, alone)) & (fine > _EDGE_SLOPE)
        ratio = (fine[peak] / np.maximum(coarse[peak], 1e-6)) ** 2
        ratio = ratio[ratio > 1.02]
        found.append((_COARSE_PX**2 + _OWN - ratio * (_FINE_PX**2 + _OWN)) / (ratio - 1))
    squares = np.concatenate(found) if found else np.zeros(0)
    if len(squares) < _LEAST_EDGES:
        return None
    return math.sqrt(max(0.0, float(np.median(squares))))


def lightness_of(tile: Array, space: ColourSpace) -> Array:
    """Lightness (h, w) of Oklab, from 0 to 1, of a tile (h, w, 3 or 4)."""
    return np.ascontiguousarray(to_oklab(light_of(np.ascontiguousarray(tile[..., :3]), space), space)[..., 0])


def slope_of(values: Array) -> Array:
    """Change of values (h, w) a pixel, in the way in which they change most."""
    return np.asarray(
        np.hypot(cv2.Sobel(values, cv2.CV_32F, 1, 0, scale=1 / 8), cv2.Sobel(values, cv2.CV_32F, 0, 1, scale=1 / 8))
    )


def noise_of(lightness: Sequence[Array]) -> float:
    """Standard deviation of noise in tiles of lightness (h, w), by what a Laplacian leaves in the quietest blocks.

    The mask and its factor: Immerkær 1996, "Fast noise variance estimation".
    """
    mask = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32)
    blocks = []
    for tile in lightness:
        left = np.abs(cv2.filter2D(tile, cv2.CV_32F, mask))[1:-1, 1:-1]
        h, w = (n // _BLOCK_PX for n in left.shape)
        cut = left[: h * _BLOCK_PX, : w * _BLOCK_PX].reshape(h, _BLOCK_PX, w, _BLOCK_PX)
        blocks.append(cut.mean((1, 3)).ravel())
    if not blocks:
        return 0.0
    low, high = np.quantile(np.concatenate(blocks), _QUIET)
    return float(math.sqrt(math.pi / 2) * (low + high) / 2 / 6 / _QUIETER)


def overshoot_of(plain: Sequence[Array], sharpened: Sequence[Array]) -> float:
    """How far edges go beyond what lies about them, as a share of their own step; tiles of lightness (h, w) before and after sharpening.

    Of the edges a tenth goes further.
    """
    window = np.ones((_WINDOW_PX, _WINDOW_PX), np.uint8)
    beyond = []
    for before, after in zip(plain, sharpened):
        most, least = cv2.dilate(before, window), cv2.erode(before, window)
        step = most - least
        edge = step > _RANGE
        over = np.maximum(np.maximum(after - most, least - after), 0)
        # the overshoot stands beside the edge, at the ends of the window: the most of it within counts for the edge
        beyond.append(cv2.dilate(over, window)[edge] / step[edge])
    shares = np.concatenate(beyond) if beyond else np.zeros(0)
    return float(np.quantile(shares, 0.9)) if len(shares) >= _LEAST_EDGES else 0.0
