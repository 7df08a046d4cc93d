"""Frames -> their pixels on a piece of the canvas.

Where a canvas pixel lies in a frame is reckoned exactly on a coarse grid and
enlarged linearly: the mapping bends so little between grid points that the
difference stays below 0.01 px, at a fraction of the cost. Local warps have
edges and are added pixel by pixel.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.optics.known import Lateral
from idle_lantern.core.registration.solve.poses import bend_at, farthest_px

_OUTSIDE = np.float32(-1e4)
#: cv2.remap fails from 32 767 pixels a side on.
REMAP_MAX_SIDE = 32766
#: Pixels of a frame kept round the part that a tile's thinned places need.
_SPARE = 40


@dataclass(frozen=True)
class Tile:
    """A piece of the canvas: columns ``left`` to ``left + width`` (may run past a full circle's end)."""

    left: int
    top: int
    width: int
    height: int


def grid_step(canvas: Canvas) -> int:
    """Distance of exactly reckoned pixels: the error is about step^2 / (8 px_per_rad)."""
    # a bent canvas bends between the points of its own grid as well
    for step in (16, 8, 4) if canvas.stretch is None else (8, 4):
        if step * step / (8 * canvas.px_per_rad) < 0.012:
            return step
    return 2


def coarse_directions(canvas: Canvas, tile: Tile, step: int, every: int = 1) -> Array:
    """World directions at the coarse grid of a tile, one grid point beyond each side, (h, w, 3).

    Of the tile's pixels every ``every``-th counts; grid points stand ``step`` of those apart.
    """
    columns = (np.arange(-1, math.ceil(tile.width / every / step) + 1) + 0.5) * step - 0.5
    rows = (np.arange(-1, math.ceil(tile.height / every / step) + 1) + 0.5) * step - 0.5
    places = np.stack(np.meshgrid(columns * every + tile.left, rows * every + tile.top), -1)
    return canvas.directions(places, over_the_pole=True)


def frame_map(
    directions: Array,
    lens: Lens,
    world_from_camera: Array,
    size: tuple[int, int],
    step: int,
    every: int = 1,
    bend: Array | None = None,
) -> tuple[Array, Array] | None:
    """Places in the frame of (H, W) = ``size`` pixels, (H, W, 2) float32, and which of them fall on it, (H, W) bool.

    ``directions``, ``step`` and ``every`` as of ``coarse_directions``; ``bend`` is the frame's local warp.
    None when no pixel falls on the frame.
    """
    seen = np.isfinite(directions[..., 0])
    local = directions @ world_from_camera
    pixels, valid = lens.project(local if seen.all() else np.nan_to_num(local))
    valid &= seen
    margin = 2.0 * step * every + (0.0 if bend is None else farthest_px(bend))
    near = (
        valid
        & (pixels[..., 0] > -margin)
        & (pixels[..., 0] < lens.width + margin)
        & (pixels[..., 1] > -margin)
        & (pixels[..., 1] < lens.height + margin)
    )
    if not near.any():
        return None
    pixels = np.clip(pixels, -1e6, 1e6)
    full = _enlarged(pixels.astype(np.float32), step, size)
    if bend is not None:
        # edges of near things run between the points of the grid
        full = full + bend_at(bend, full, lens)
    elif near.all() and not math.isfinite(lens.circle_px) and bool(covered(pixels.astype(np.float32), lens).all()):
        # the grid lies inside the frame, so what lies between its points does
        return full, np.ones(size, bool)
    if not valid.all():
        sound = _enlarged(valid.astype(np.float32), step, size) > 0.999
        full[~sound] = _OUTSIDE
    shows = covered(full, lens)
    return (full, shows) if shows.any() else None


def _enlarged(coarse: Array, step: int, size: tuple[int, int]) -> Array:
    h, w = coarse.shape[:2]
    full = cv2.resize(coarse, (w * step, h * step), interpolation=cv2.INTER_LINEAR)
    return np.asarray(full[step : step + size[0], step : step + size[1]])


def covered(places: Array, lens: Lens) -> Array:
    """Which tile pixels fall on the frame, (H, W) bool."""
    # bounds of float32 just inside, since inRange takes them in
    low, high = -0.4999, (lens.width - 0.5001, lens.height - 0.5001)
    inside = np.asarray(cv2.inRange(places, (low, low), high).view(bool))
    if math.isfinite(lens.circle_px):
        u0, v0 = (np.float32(c) for c in lens.principal_px)
        inside &= (places[..., 0] - u0) ** 2 + (places[..., 1] - v0) ** 2 <= np.float32(lens.circle_px**2)
    return inside


def shifted(places: Array, lens: Lens, shift: Lateral, scale: float = 1.0) -> Array:
    """Where lateral colour puts what green has at ``places`` of a frame reduced by ``scale``, (H, W, 2) float32.

    The radius about the principal point grows by ``1 + a + b rho^2``, rho the share of the half diagonal.
    """
    middle = ((np.asarray(lens.principal_px) + 0.5) * scale - 0.5).astype(np.float32)
    from_middle = places - middle
    half = np.float32((lens.width**2 + lens.height**2) / 4 * scale**2)
    rho2 = (from_middle**2).sum(-1, keepdims=True) / half
    return np.asarray(middle + from_middle * (1 + np.float32(shift[0]) + np.float32(shift[1]) * rho2))


def sample(pixels: Array, places: Array, interpolation: int = cv2.INTER_CUBIC) -> Array:
    """The frame's pixels (h, w, C) at ``places`` (H, W, 2), the rim repeated outwards.

    Of frames beyond the sampler's limit only the part that the tile needs is handed on.
    """
    h, w = pixels.shape[:2]
    if max(h, w) <= REMAP_MAX_SIDE:
        return np.asarray(cv2.remap(pixels, places, None, interpolation, borderMode=cv2.BORDER_REPLICATE))
    # rim and a thinned inside tell what part is needed: places run smoothly, so little is missed between
    thin = np.concatenate([p.reshape(-1, 2) for p in (places[::16, ::16], places[[0, -1]], places[:, [0, -1]])])
    thin = thin[(thin > -64).all(1) & (thin[:, 0] < w + 64) & (thin[:, 1] < h + 64)]
    if not len(thin):
        return np.zeros((*places.shape[:2], *pixels.shape[2:]), pixels.dtype)
    low, high = thin.min(0), thin.max(0)
    left, right = max(0, int(low[0]) - _SPARE), min(w, int(high[0]) + _SPARE)
    top, bottom = max(0, int(low[1]) - _SPARE), min(h, int(high[1]) + _SPARE)
    if left >= right or top >= bottom:
        return np.zeros((*places.shape[:2], *pixels.shape[2:]), pixels.dtype)
    part = pixels[top:bottom, left:right]
    if max(part.shape[:2]) > REMAP_MAX_SIDE:
        raise ValueError("a tile needs more of a frame than can be sampled at once")
    shifted = places - np.array([left, top], np.float32) if left or top else places
    return np.asarray(cv2.remap(part, shifted, None, interpolation, borderMode=cv2.BORDER_REPLICATE))
