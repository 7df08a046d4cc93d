"""Gaps of a picture of any size filled: completed when small, then copied at full size from where the small ones were found.

Only what borders on sky, grass or water is filled unless told otherwise, each from more of the same, and what was invented is told.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.rim.even_ground import even_gaps, kinds_of_ground
from idle_lantern.core.compositing.rim.patches import Completed, completed
from idle_lantern.core.geometry.holes import filled_holes

#: Pixels at which gaps are completed.
SMALL_PX = 160_000
#: A side stays open where so much of its gap does.
_LEFT = 0.05
_SIDES = ("the top", "the bottom", "the left", "the right")


@dataclass(frozen=True)
class Filling:
    """What gaps are filled with.

    Attributes
    ----------
    small : Completed
    open : (h, w) bool
        Gaps of the small picture that stay open; what else of a gap there is at full size is filled.
    tint : (h, w, 3) float32
        What copies miss of the completed picture, smoothly.
    left : tuple of str
        Sides that stay open.
    """

    small: Completed
    open: Array
    tint: Array
    left: tuple[str, ...]


def filling_of(picture: Array, shown: Array, up: Array, *, anything: bool = False) -> Filling | None:
    """How the gaps of a small picture (h, w, 3), shown where ``shown`` (h, w) says, are filled; None where there are none.

    ``up`` (h, w) is the sine of each pixel's altitude; ``anything`` fills also where more than even ground borders on a gap.
    """
    missing = ~shown
    if not missing.any() or not shown.any():
        return None
    nothing = Completed(picture.astype(np.float32), np.zeros((*shown.shape, 2), int), ())
    kinds: Array | None = None
    fillable, left = missing, tuple[str, ...]()
    if not anything:
        kinds = kinds_of_ground(picture, shown, up)
        gaps = even_gaps(kinds, shown)
        kinds, fillable = np.where(missing, gaps, kinds), gaps > 0
        left = _sides_left(shown, missing & ~fillable)
    if not fillable.any():
        return Filling(nothing, missing, np.zeros_like(nothing.pixels), left)
    try:
        # what stays open is completed as well, so that patches across its border find something; it is not shown
        small = completed(picture, missing, usable=shown, kinds=kinds)
    except ValueError:  # too little picture to take anything from
        return Filling(nothing, missing, np.zeros_like(nothing.pixels), (*left, "all gaps"))
    copied = small.pixels[small.source[..., 0], small.source[..., 1]]
    miss = np.where(missing[..., None], small.pixels - copied, 0).astype(np.float32)
    weight = cv2.GaussianBlur(missing.astype(np.float32), (0, 0), 4.0)
    tint = cv2.GaussianBlur(miss, (0, 0), 4.0) / np.maximum(weight, 1e-3)[..., None]
    return Filling(small, missing & ~fillable, tint, left)


def fill_tile(filling: Filling, pixels: Array, alpha: Array, tile: Tile) -> tuple[Array, Array]:
    """A tile's pixels (H, W, 3) with its gaps filled, and what of it is invented (H, W) bool.

    ``pixels`` and ``alpha`` are the whole picture as it was joined, in memory or mapped from disk.
    """
    rows, columns = slice(tile.top, tile.top + tile.height), slice(tile.left, tile.left + tile.width)
    made = np.array(pixels[rows, columns])
    gap = np.asarray(alpha[rows, columns]) == 0
    if not gap.any():
        return made, gap
    h, w = filling.open.shape
    height, width = pixels.shape[:2]
    fx, fy = width / w, height / h
    r, c = np.nonzero(gap)
    # every gap pixel in small pixels
    y, x = (r + tile.top + 0.5) / fy - 0.5, (c + tile.left + 0.5) / fx - 0.5
    nearest_y, nearest_x = np.clip(np.rint(y).astype(int), 0, h - 1), np.clip(np.rint(x).astype(int), 0, w - 1)
    wanted = ~_grown(filling.open)[nearest_y, nearest_x]
    r, c, x, y = r[wanted], c[wanted], x[wanted], y[wanted]
    scale = 255.0 if made.dtype == np.uint8 else 65535.0
    total, weight = np.zeros((len(r), 3)), np.zeros(len(r))
    tint, plain = np.zeros((len(r), 3)), np.zeros((len(r), 3))
    y0, x0 = np.floor(y).astype(int), np.floor(x).astype(int)
    for dy in (0, 1):
        for dx in (0, 1):
            yy, xx = np.clip(y0 + dy, 0, h - 1), np.clip(x0 + dx, 0, w - 1)
            share = np.abs(1 - dy - (y - y0)) * np.abs(1 - dx - (x - x0))
            tint += share[:, None] * filling.tint[yy, xx]
            plain += share[:, None] * filling.small.pixels[yy, xx]
            off = filling.small.source[yy, xx] - np.stack([yy, xx], 1)
            row = np.clip(r + tile.top + np.rint(off[:, 0] * fy).astype(int), 0, height - 1)
            column = np.clip(c + tile.left + np.rint(off[:, 1] * fx).astype(int), 0, width - 1)
            share = share * (np.asarray(alpha[row, column]) > 0)
            total += share[:, None] * np.asarray(pixels[row, column])
            weight += share
    copied = total / np.maximum(weight, 1e-6)[:, None] + tint * (scale / 255)
    made[r, c] = np.clip(np.rint(np.where(weight[:, None] > 0.05, copied, plain * (scale / 255))), 0, scale).astype(
        made.dtype
    )
    invented = np.zeros(gap.shape, bool)
    invented[r, c] = True
    return made, invented


def _grown(mask: Array) -> Array:
    return np.asarray(cv2.dilate(mask.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0)


def _sides_left(shown: Array, left: Array) -> tuple[str, ...]:
    """Sides of whose gap a part stays open that is worth telling."""
    sides = _side_of(shown)
    told = [
        side for side in np.unique(sides[left]) if left[sides == side].sum() > _LEFT * (~shown)[sides == side].sum()
    ]
    return tuple(dict.fromkeys(_SIDES[side] if side < 4 else "a hole inside" for side in told))


def _side_of(shown: Array) -> Array:
    """For each pixel the border that a gap there is shallowest from, as places in ``_SIDES``; 4 for what is enclosed."""
    h, w = shown.shape
    below, beside = np.arange(h)[:, None], np.arange(w)[None, :]
    far = h + w
    # a gap that runs from the border to the pixel, and how deep it is there
    first, last = np.where(shown.any(0), shown.argmax(0), far), np.where(shown.any(0), shown[::-1].argmax(0), far)
    left, right = np.where(shown.any(1), shown.argmax(1), far), np.where(shown.any(1), shown[:, ::-1].argmax(1), far)
    depths = np.stack(
        [
            np.where(below < first[None], first[None], far),
            np.where(h - 1 - below < last[None], last[None], far),
            np.where(beside < left[:, None], left[:, None], far),
            np.where(w - 1 - beside < right[:, None], right[:, None], far),
        ]
    )
    enclosed = filled_holes(shown) & ~shown
    return np.where(enclosed, 4, depths.argmin(0))
