"""Pictures drawn onto the map of the sphere (azimuth across, altitude up)."""

from __future__ import annotations

import math

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Directions, Rotations
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.warp import covered
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import direction

MAP_SIZE = (1440, 720)
#: A sheet is drawn in so many rows at a time, which stay in the fast memory.
_ROWS = 48


def map_directions(size: tuple[int, int] = MAP_SIZE, rows: slice = slice(None)) -> Directions:
    """World directions of the map's pixels in some of its rows, (rows, W, 3): azimuth -180..180, altitude 90..-90."""
    width, height = size
    azimuth = ((np.arange(width) + 0.5) / width * 2 - 1) * math.pi
    altitude = (0.5 - (np.arange(height)[rows] + 0.5) / height) * math.pi
    return direction(azimuth[None, :], altitude[:, None])


def unroll_frame(target: Array, pixels: Array, lens: Lens, world_from_camera: Rotations) -> None:
    """Draw a frame (h, w, 3) into the map ``target`` (H, W, 4) uint8; ``lens`` is the full-size one."""
    local = map_directions((target.shape[1], target.shape[0])) @ world_from_camera
    places, valid = lens.project(local)
    inside = valid & covered(places, lens)
    scale = np.array([pixels.shape[1] / lens.width, pixels.shape[0] / lens.height])
    _draw(target, pixels, (places + 0.5) * scale - 0.5, inside)


def unroll_canvas(pixels: Array, alpha: Array | None, canvas: Canvas, size: tuple[int, int] = MAP_SIZE) -> Array:
    """The joined picture on a map of its own, (H, W, 4) uint8; ``pixels`` may be a reduced copy."""
    target = np.zeros((size[1], size[0], 4), np.uint8)
    scale = np.array([pixels.shape[1] / canvas.width, pixels.shape[0] / canvas.height])
    for top in range(0, size[1], _ROWS):
        rows = slice(top, top + _ROWS)
        places = canvas.pixels(map_directions(size, rows))
        u, v = places[..., 0], places[..., 1]
        with np.errstate(invalid="ignore"):
            inside = (u >= -0.5) & (v >= -0.5) & (u < canvas.width - 0.5) & (v < canvas.height - 0.5)
        if not inside.any():
            continue
        on_pixels = np.where(inside[..., None], (places + 0.5) * scale - 0.5, 0).astype(np.float32)
        if alpha is not None:
            inside &= cv2.remap(alpha, on_pixels, None, cv2.INTER_NEAREST) > 0
        _draw(target[rows], pixels, on_pixels, inside)
    return target


def _draw(target: Array, pixels: Array, places: Array, inside: Array) -> None:
    if pixels.dtype == np.uint16:
        pixels = (pixels >> 8).astype(np.uint8)
    drawn = cv2.remap(
        np.ascontiguousarray(pixels), places.astype(np.float32), None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
    )
    target[inside, :3] = drawn[inside]
    target[inside, 3] = 255
