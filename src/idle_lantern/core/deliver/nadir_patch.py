"""What stands under the tripod covered as the picture is written: by a blur of what lies round it, or by a mark of one's own.

The joined picture stays as it is; the patch is laid over its tiles wherever they are shown or written.
"""

from __future__ import annotations

import hashlib
import math
from pathlib import Path
from threading import Lock
from typing import Literal

import cv2
import numpy as np
from PIL import Image

from idle_lantern.core.base.arrays import Array, Float32Image
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.directions import CanvasDirections
from idle_lantern.core.pictures.operations import Operation, TilePlace
from idle_lantern.core.pictures.source import PictureSource, region

Cover = Literal["blur", "mark"]

#: A mark is kept no larger than this.
_MARK_PX = 1600
#: Directions round the nadir, and steps from its middle to the rim, at which the blur is reckoned.
_ROUND, _STEPS = 720, 48
#: The rim is softened over this share of the radius; the ring that the blur is made of is as wide.
_SOFT = 0.12
#: Towards the middle colours are evened over so many radians at most.
_EVEN_RAD = 2.4
#: The ring is looked at in a picture no larger than this.
_LOOKED_PX = 4000
#: What is covered is counted in one of this size.
_COUNTED_PX = 1500
#: Places are looked up in rows of so many.
_ROW = 1024


def read_mark(path: Path) -> Array:
    """A mark as (h, w, 4) uint8, no larger than it is ever seen.

    Raises
    ------
    InputError
        It is no picture that can be read.
    """
    try:
        with Image.open(path) as image:
            image.thumbnail((_MARK_PX, _MARK_PX))
            return np.asarray(image.convert("RGBA"))
    except (OSError, ValueError, Image.DecompressionBombError) as error:
        raise InputError("Is no picture", where=str(path), remedy="Choose a PNG or JPEG as the mark") from error


class NadirPatch(Operation):
    """The nadir of ``source`` covered up to ``radius_deg``; ``mark`` is (h, w, 4) uint8, laid with its upper edge to yaw 0."""

    name = "cover-nadir"

    def __init__(
        self,
        source: PictureSource,
        canvas: CanvasDirections,
        how: Cover,
        radius_deg: float,
        mark: Array | None = None,
    ) -> None:
        self._source, self._canvas, self._radius = source, canvas, math.radians(radius_deg)
        self._how, self._mark = how, mark
        self._blurred: Array | None = None
        self._one = Lock()

    @property
    def key(self) -> str:
        """How, how far and by which mark."""
        mark = b"" if self._mark is None else self._mark.tobytes()
        return f"{self.name} {self._how} {self._radius} {hashlib.sha256(mark).hexdigest()}"

    def covers(self) -> tuple[Rectangle, int]:
        """What of the picture is covered: a rectangle about it, and how many pixels."""
        level = self._looked(_COUNTED_PX)
        inside = self._within(self._all(level))[0]
        if not inside.any():
            return Rectangle(0, 0, 0, 0), 0
        fx, fy = (whole / part for whole, part in zip(self._source.sizes[0], self._source.sizes[level]))
        rows, columns = np.flatnonzero(inside.any(1)), np.flatnonzero(inside.any(0))
        left, top = round(columns[0] * fx), round(rows[0] * fy)
        wide, high = round((columns[-1] + 1) * fx) - left, round((rows[-1] + 1) * fy) - top
        return Rectangle(left, top, wide, high), round(float(inside.sum()) * fx * fy)

    def touches(self, at: TilePlace) -> bool:
        """Whether any of a coarse grid of a tile comes near the nadir: most tiles of a picture do not."""
        box = at.box
        u, v = np.meshgrid(
            np.linspace(box.left, box.left + box.width, 9), np.linspace(box.top, box.top + box.height, 9)
        )
        down = self._canvas.directions((np.stack([u, v], -1) + 0.5) * np.asarray(at.scale) - 0.5)[..., 1]
        if not np.isfinite(down).any():
            return False
        angles = np.arccos(np.clip(down[np.isfinite(down)], -1, 1))
        return bool(angles.min() < self._radius + float(np.ptp(angles)) / 4 + 0.05)

    def apply(self, tile: Float32Image, at: TilePlace) -> Float32Image:
        """The cover where it lies near the nadir; what is covered shows, though no frame showed it."""
        inside, share, azimuth = self._within(at)
        if not inside.any():
            return tile
        colour, cover = self._colours(share[inside], azimuth[inside])
        tile = tile.copy()
        part = tile[inside]
        part[:, :3] += cover[:, None] * (colour - part[:, :3])
        part[:, 3] = np.maximum(part[:, 3], cover)
        tile[inside] = part
        return tile

    # --- parts --------------------------------------------------------------------

    def _looked(self, longest_px: int) -> int:
        return next(
            (i for i, size in enumerate(self._source.sizes) if max(size) <= longest_px), len(self._source.sizes) - 1
        )

    def _all(self, level: int) -> TilePlace:
        sizes = self._source.sizes
        return TilePlace(Rectangle(0, 0, *sizes[level]), sizes[level], sizes[0])

    def _within(self, at: TilePlace) -> tuple[Array, Array, Array]:
        """Of the pixels of a tile: whether the cover reaches them, how far from the nadir as a share of the radius, in which
        direction (radians)."""
        rays = self._canvas.directions(at.full_pixels())
        # by the sine where it is small: an arc cosine there knows nothing
        aside = np.hypot(rays[..., 0], rays[..., 2])
        share = np.arctan2(aside, rays[..., 1]) / self._radius
        inside = np.isfinite(share) & (share < 1)
        return inside, share, np.arctan2(rays[..., 0], rays[..., 2])

    def _colours(self, share: Array, azimuth: Array) -> tuple[Array, Array]:
        """Colours (N, 3) from 0 to 1 and how much they cover (N,)."""
        soft = np.clip((1 - share) / _SOFT, 0, 1)
        soft = soft * soft * (3 - 2 * soft)
        if self._how == "blur":
            with self._one:  # reckoned once, by whoever draws the first tile there
                if self._blurred is None:
                    self._blurred = self._blur()
            wide = np.concatenate([self._blurred, self._blurred[:, :1]], 1)
            return _sampled(wide, azimuth / (2 * math.pi) % 1 * _ROUND, share * (_STEPS - 1)), soft
        assert self._mark is not None
        h, w = self._mark.shape[:2]
        # seen from above, yaw 0 up and yaw 90 to the right
        x = (0.5 + 0.5 * share * np.sin(azimuth)) * w - 0.5
        y = (0.5 - 0.5 * share * np.cos(azimuth)) * h - 0.5
        seen = _sampled(self._mark, x, y).astype(np.float32)
        return seen[:, :3] / 255, seen[:, 3] / 255

    def _blur(self) -> Array:
        """Colours (steps, round, 3) from 0 to 1: those of the ring round the cover, evened more and more towards the middle."""
        level = self._looked(_LOOKED_PX)
        width, height = self._source.sizes[level]
        angles = np.arange(_ROUND) * 2 * math.pi / _ROUND
        ring = np.zeros((_ROUND, 3))
        seen = np.zeros(_ROUND)
        picture = region(self._source, Rectangle(0, 0, width, height), level)
        full = 1 if picture.dtype.kind == "f" else np.iinfo(picture.dtype).max
        for share in (1.02, 1.06, 1.10):
            out = math.sin(self._radius * share)
            rays = np.stack(
                [out * np.sin(angles), np.full(_ROUND, math.cos(self._radius * share)), out * np.cos(angles)], 1
            )
            places = self._canvas.pixels(rays)
            places = (places + 0.5) * np.array([width, height]) / np.array(self._source.sizes[0]) - 0.5
            at = np.rint(np.nan_to_num(places, nan=-1)).astype(int)
            there = (at >= 0).all(1) & (at[:, 0] < width) & (at[:, 1] < height)
            pixels = picture[at[there, 1], at[there, 0]].astype(float) / full
            shown = pixels[:, 3] > 0.5 if pixels.shape[1] == 4 else np.ones(len(pixels), bool)
            where = np.flatnonzero(there)[shown]
            ring[where] += pixels[shown, :3]
            seen[where] += 1
        spectrum, weight = np.fft.rfft(ring, axis=0), np.fft.rfft(seen)
        rows = []
        for step in range(_STEPS):
            spread = 0.01 + _EVEN_RAD * (1 - step / (_STEPS - 1)) ** 1.5
            keep = np.exp(-0.5 * (np.arange(len(weight)) * spread) ** 2)
            total, times = np.fft.irfft(spectrum * keep[:, None], _ROUND, axis=0), np.fft.irfft(weight * keep, _ROUND)
            rows.append(total / np.maximum(times, 1e-3)[:, None])
        return np.maximum(np.stack(rows), 0).astype(np.float32)


def _sampled(image: Array, x: Array, y: Array) -> Array:
    """An image (h, w, C) at places (N,) between its pixels, (N, C)."""
    count = len(x)
    rows = -(-count // _ROW)  # OpenCV takes no longer side than 32 767
    across, down = (np.pad(v.astype(np.float32), (0, rows * _ROW - count)).reshape(rows, _ROW) for v in (x, y))
    found = cv2.remap(image, across, down, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(found.reshape(rows * _ROW, -1)[:count])
