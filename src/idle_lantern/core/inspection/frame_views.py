"""The frames of a picture as they lie under it, at the size at which it is looked over."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.base.parallel import mapped
from idle_lantern.core.base.progress import SILENT
from idle_lantern.core.base.reducing import halved
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.warp import Tile, coarse_directions, frame_map, grid_step, sample
from idle_lantern.core.compositing.light.gains import gain_table, with_gain
from idle_lantern.core.compositing.light.vignetting import without_vignetting
from idle_lantern.core.compositing.render.frame_views import Levels
from idle_lantern.core.compositing.render.plan import FilesOfFrames, RenderPlan
from idle_lantern.core.geometry.lenses import Lens

#: Frames of more pixels are looked at by halves: a fault of a pixel and a half still shows there.
_LARGE = 1_500_000
#: Blur of the windows: the grids of two frames fall differently on the finest edges, which is no fault.
_SMOOTHED_PX = 0.6
#: Of the memory that tiles took for frames: seams are read frame by frame, so that two rows of them are enough.
_SHARE = 0.7


@dataclass(frozen=True)
class ShownFrame:
    """A frame on a window of the canvas: colours (h, w, 3) uint8 with even light, and where it shows anything, bool."""

    pixels: Array
    inside: Array


class FrameViews:
    """Frames with even light, on the canvas reduced by ``shrink``."""

    def __init__(self, plan: RenderPlan, even: SizedCache[int, Levels] | None = None) -> None:
        largest = max(lens.width * lens.height for lens in plan.poses.lenses)
        self.shrink = 2 if largest > _LARGE else 1
        self.plan, self._even = plan, even
        self.poses = plan.poses.halved() if self.shrink > 1 else plan.poses
        self.canvas: Canvas = plan.canvas.scaled(1 / self.shrink) if self.shrink > 1 else plan.canvas
        self._tables = [gain_table(g, 255, plan.space) for g in plan.gains]
        self._frames = SizedCache(self._load, lambda p: int(p.nbytes), plan.cache_bytes * _SHARE)
        self._step = grid_step(self.canvas)

    def take_over(self, threads: int) -> None:
        """Bring the frames that the tiles left in memory to the size of the look, which needs so much less of it."""
        if self._even is not None:
            mapped(self.colours, self._even.keys(), threads, SILENT)

    def colours(self, k: int) -> Array:
        """The k-th frame, (H, W, 3) uint8, fall-off and gain evened."""
        return self._frames.load(k)

    def grey(self, k: int) -> Array:
        """Its brightness, (h, w) 8 bit."""
        return np.asarray(cv2.cvtColor(self.colours(k), cv2.COLOR_RGB2GRAY))

    def windows(self, frames: Sequence[int], tile: Tile) -> list[ShownFrame] | None:
        """Several frames on a tile of the reduced canvas; None where one of them shows nothing."""
        directions = coarse_directions(self.canvas, tile, self._step)
        shown = []
        for k in frames:
            found = self._window(k, tile, directions)
            if found is None:
                return None
            shown.append(found)
        return shown

    def _window(self, k: int, tile: Tile, directions: Array) -> ShownFrame | None:
        lens = self.poses.lenses[k]
        found = frame_map(
            directions,
            lens,
            self.poses.world_from_camera[k],
            (tile.height, tile.width),
            self._step,
            bend=self.poses.bend(k),
        )
        if found is None:
            return None
        places, inside = found
        mask = self.plan.masks.get(k)
        if mask is not None:
            inside &= ~mask.hidden_at(places, lens)
        if not inside.any():
            return None
        seen = sample(self.colours(k), places, cv2.INTER_LINEAR)
        return ShownFrame(np.asarray(cv2.GaussianBlur(seen, (3, 3), _SMOOTHED_PX)), inside)

    def _load(self, k: int) -> Array:
        lens, kept = self.poses.lenses[k], None if self._even is None else self._even.take(k)
        if kept is not None:
            pixels = kept.half if self.shrink > 1 else kept.picture.pixels
            return with_gain(_as_seen(pixels, lens), self._tables[k])
        frames, whole = self.plan.frames, self.plan.poses.lenses[k]
        even = whole.width % 2 == 0 and whole.height % 2 == 0  # else a half that is read is none to the pixel
        if self.shrink > 1 and even and isinstance(frames, FilesOfFrames):
            frames = replace(frames, reduce=frames.reduce * self.shrink)
        pixels = _as_seen(frames.load(k).pixels, lens)
        return with_gain(without_vignetting(pixels, lens, self.plan.vignetting, self.plan.space), self._tables[k])


def _as_seen(pixels: Array, lens: Lens) -> Array:
    """8 bit, at the size of the look."""
    if pixels.dtype == np.uint16:
        pixels = (pixels >> 8).astype(np.uint8)
    if pixels.shape[:2] != (lens.height, lens.width):
        pixels = halved(pixels)
    return pixels
