"""What a picture that knows its directions shows in any of them: the ground of cube faces and of looking around."""

from __future__ import annotations

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Directions
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.directions import CanvasDirections
from idle_lantern.core.pictures.source import PictureSource, region

#: OpenCV samples from no longer side than 32 767.
_MOST_SIDE_PX = 32_000
#: Places beyond the outermost ones that a cubic kernel reads.
_REACH_PX = 3
#: Pieces that span too much of the picture are halved down to this side; what still does is read from a coarser level.
_SMALLEST_PX = 32


class SeenFrom:
    """A picture seen from its middle point.

    ``canvas`` tells where its pixels look, at ``size`` (the picture may be smaller); ``full_circle`` says that its width closes on itself.
    """

    def __init__(
        self, source: PictureSource, canvas: CanvasDirections, size: tuple[int, int], *, full_circle: bool
    ) -> None:
        self._source, self._canvas, self._size, self._full_circle = source, canvas, size, full_circle

    def pixels(self, rays: Directions, level: int = 0) -> Array:
        """Pixels (h, w, 4) of the picture's type in directions (h, w, 3) of any length, from one of its levels; alpha 0 where it shows nothing."""
        with np.errstate(invalid="ignore"):
            places = self._canvas.pixels(rays)
        return self._at(places, level)

    def _at(self, places: Array, level: int) -> Array:
        """The same at places (h, w, 2) of the canvas."""
        (full_width, full_height), (width, height) = self._size, self._source.sizes[level]
        like = self._source.tile(len(self._source.sizes) - 1, 0, 0).dtype
        finite = np.isfinite(places).all(-1)
        made = np.zeros((*places.shape[:2], 4), like)
        if not finite.any():
            return made
        u, v = np.nan_to_num(places[..., 0], nan=-1e9), np.nan_to_num(places[..., 1], nan=-1e9)
        if self._full_circle:
            # told about the first place, so that what lies across the seam stays together
            first = u[finite][0]
            u = np.where(finite, (u - first + full_width / 2) % full_width + first - full_width / 2, u)
            inside = finite & (v > -0.5 - 1e-6) & (v < full_height - 0.5 + 1e-6)
        else:
            inside = finite & (u >= -0.5) & (v >= -0.5) & (u < full_width - 0.5) & (v < full_height - 0.5)
        if not inside.any():
            return made
        x = (u + 0.5) * (width / full_width) - 0.5
        y = (v + 0.5) * (height / full_height) - 0.5
        left, top = (int(np.floor(a[inside].min())) - _REACH_PX for a in (x, y))
        right, bottom = (int(np.ceil(a[inside].max())) + _REACH_PX + 1 for a in (x, y))
        rows, columns = places.shape[:2]
        if right - left > min(_MOST_SIDE_PX, max(4 * columns, 2_000)) and min(rows, columns) > _SMALLEST_PX:
            for upper in (slice(rows // 2), slice(rows // 2, rows)):
                for side in (slice(columns // 2), slice(columns // 2, columns)):
                    made[upper, side] = self._at(places[upper, side], level)
            return made
        if max(right - left, bottom - top) > _MOST_SIDE_PX and level + 1 < len(self._source.sizes):
            return self._at(places, level + 1)
        part = self._part(level, left, max(0, top), right, min(height, bottom))
        at = np.dstack([x - left, y - max(0, top)]).astype(np.float32)
        seen = _sampled(part, at)
        made[inside] = seen[inside]
        return made

    def _part(self, level: int, left: int, top: int, right: int, bottom: int) -> Array:
        """Pixels (h, w, 4) between those bounds of a level; across the seam of a full circle, else its rim repeated."""
        width, _height = self._source.sizes[level]

        def cut(x0: int, x1: int) -> Array:
            return _with_alpha(region(self._source, Rectangle(x0, top, x1 - x0, bottom - top), level))

        if not self._full_circle:
            x0, x1 = min(max(0, left), width - 1), max(1, min(width, right))
            return np.pad(cut(x0, x1), ((0, 0), (x0 - left, right - x1), (0, 0)), mode="edge")
        if right - left >= width:
            whole = cut(0, width)
            return np.asarray(np.take(whole, np.arange(left, right) % width, axis=1))
        start, end = left % width, left % width + (right - left)
        if end <= width:
            return cut(start, end)
        return np.concatenate([cut(start, width), cut(0, end - width)], 1)


def _with_alpha(pixels: Array) -> Array:
    if pixels.shape[2] == 4:
        return pixels
    full = 1 if pixels.dtype.kind == "f" else np.iinfo(pixels.dtype).max
    return np.dstack([pixels, np.full(pixels.shape[:2], full, pixels.dtype)])


def _sampled(part: Array, at: Array) -> Array:
    """Pixels (H, W, 4) of ``part`` (h, w, 4) at places (H, W, 2), by a cubic kernel; colours are weighted by alpha where there are gaps."""
    full = np.float32(1 if part.dtype.kind == "f" else np.iinfo(part.dtype).max)
    whole = bool((part[..., 3] == full).all())
    if whole and part.dtype.kind != "f":
        return np.asarray(cv2.remap(part, at, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE))
    values = part.astype(np.float32)
    values[..., :3] *= values[..., 3:] / full
    seen = cv2.remap(values, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    seen[..., :3] /= np.maximum(seen[..., 3:] / full, 1e-6)
    seen[..., 3] = np.where(seen[..., 3] > full / 2, full, 0)
    seen[seen[..., 3] == 0] = 0
    if part.dtype.kind == "f":
        return np.asarray(seen)
    return np.asarray(np.rint(np.clip(seen, 0, full)), part.dtype)
