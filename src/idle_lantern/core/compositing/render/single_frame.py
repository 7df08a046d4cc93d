"""One frame alone where it lies on the canvas: to be looked at, and to be let show there."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.warp import Tile, coarse_directions, frame_map, grid_step, sample
from idle_lantern.core.compositing.light.gains import gain_table, with_gain
from idle_lantern.core.compositing.light.vignetting import NONE, Vignetting, evened_at
from idle_lantern.core.frames.masks import Mask
from idle_lantern.core.registration.solve.poses import Poses

#: Masks that are made here: seams follow no finer outline.
_MASK_PX = 1200
#: Areas are held no finer than so many pixels to the half.
_AREA_PX = 700


def frame_alone(
    poses: Poses, canvas: Canvas, i: int, picture: Picture, gain: Array, vignetting: Vignetting, tile: Tile
) -> Array | None:
    """The i-th frame on a tile of the canvas with even light, (h, w, 4) uint8; None where it shows nothing there."""
    step = grid_step(canvas)
    found = frame_map(
        coarse_directions(canvas, tile, step),
        poses.lenses[i],
        poses.world_from_camera[i],
        (tile.height, tile.width),
        step,
        bend=poses.bend(i),
    )
    if found is None:
        return None
    places, inside = found
    pixels = picture.pixels if picture.full_scale == 255 else (picture.pixels >> 8).astype(np.uint8)
    # only the part that is needed is evened: a whole frame would take longer than all the rest
    x, y = places[inside].T
    reach = 8
    left, top = max(0, int(x.min()) - reach), max(0, int(y.min()) - reach)
    part = pixels[top : int(y.max()) + reach, left : int(x.max()) + reach]
    seen = with_gain(
        sample(part, places - np.array([left, top], np.float32)), gain_table(np.asarray(gain), 255, picture.space)
    )
    if vignetting != NONE:
        lens = poses.lenses[i]
        off = places - np.asarray(lens.principal_px, np.float32)
        seen = evened_at(
            seen, 4 * (off**2).sum(-1) / np.float32(lens.width**2 + lens.height**2), vignetting, picture.space
        )
    return np.dstack([seen, (inside * 255).astype(np.uint8)])


def frames_showing(poses: Poses, canvas: Canvas, u: float, v: float) -> list[int]:
    """Places in the poses of the frames that show a pixel of the canvas, the one that has it nearest its middle first."""
    ray = canvas.directions(np.array([u, v]))
    if not np.isfinite(ray).all():
        return []
    found = []
    for i, lens in enumerate(poses.lenses):
        if lens.sees(ray @ poses.world_from_camera[i]):
            pixel, _valid = poses.pixels(i, ray)
            off = np.abs(pixel / np.array([lens.width, lens.height]) - 0.5).max()
            found.append((float(off), i))
    return [i for _off, i in sorted(found)]


@dataclass(frozen=True)
class FrameArea:
    """A part of the canvas: ``raster`` (h, w) uint8 is set where it is, ``scale`` canvas pixels for each of its own, from
    (``left``, ``top``) on."""

    left: float
    top: float
    scale: float
    raster: Array

    @staticmethod
    def ellipse(u: float, v: float, a: float, b: float) -> FrameArea:
        """About (u, v) with half axes a and b."""
        scale = max(1.0, max(a, b) / _AREA_PX)
        size = math.ceil(2 * a / scale) + 1, math.ceil(2 * b / scale) + 1
        x, y = np.meshgrid(np.arange(size[0]) - (size[0] - 1) / 2, np.arange(size[1]) - (size[1] - 1) / 2)
        inside = (x * scale / a) ** 2 + (y * scale / b) ** 2 <= 1
        left, top = u - (size[0] - 1) / 2 * scale, v - (size[1] - 1) / 2 * scale
        return FrameArea(left, top, scale, inside.astype(np.uint8))

    @staticmethod
    def stroke(points: Sequence[tuple[float, float]], radius_px: float) -> FrameArea:
        """A brush of that radius drawn from point to point."""
        at = np.asarray(points, float)
        low, high = at.min(0) - radius_px, at.max(0) + radius_px
        scale = max(1.0, float((high - low).max()) / (2 * _AREA_PX))
        size = np.ceil((high - low) / scale).astype(int) + 1
        raster = np.zeros((size[1], size[0]), np.uint8)
        drawn = np.rint((at - low) / scale).astype(np.int32)
        cv2.polylines(raster, [drawn.reshape(-1, 1, 2)], False, 1, max(1, round(2 * radius_px / scale)))
        for x, y in drawn:
            cv2.circle(raster, (int(x), int(y)), max(1, round(radius_px / scale)), 1, -1)
        return FrameArea(float(low[0]), float(low[1]), scale, raster)

    def holds(self, places: Array, period_px: float = 0.0) -> Array:
        """Whether canvas pixels (..., 2) lie in it, bool; a full circle repeats after ``period_px``."""
        x, y = places[..., 0] - self.left, places[..., 1] - self.top
        if period_px:
            x = x % period_px
        h, w = self.raster.shape
        with np.errstate(invalid="ignore"):
            column, row = np.rint(np.nan_to_num(x / self.scale, nan=-1)), np.rint(np.nan_to_num(y / self.scale, nan=-1))
        inside = (column >= 0) & (row >= 0) & (column < w) & (row < h)
        found = self.raster[np.clip(row, 0, h - 1).astype(int), np.clip(column, 0, w - 1).astype(int)] > 0
        return np.asarray(found & inside)


def let_show(poses: Poses, canvas: Canvas, i: int, area: FrameArea, masks: Mapping[int, Mask]) -> dict[int, Mask]:
    """The masks of all frames that show an area of the canvas, changed so that the i-th shows there.

    ``masks`` is what is painted so far, by place in the poses.
    """
    changed = {}
    for k in sorted({i, *masks}):  # the others have nothing painted, and need nothing
        after = _painted(poses, canvas, k, area, masks.get(k), keep=k == i, hide=False)
        if after is not None:
            changed[k] = after
    return changed


def hide_there(
    poses: Poses, canvas: Canvas, frames: Collection[int], area: FrameArea, masks: Mapping[int, Mask]
) -> dict[int, Mask]:
    """The masks of some frames, changed so that none of them shows in an area; parameters as of ``let_show``."""
    changed = {}
    for k in sorted(frames):
        after = _painted(poses, canvas, k, area, masks.get(k), keep=False, hide=True)
        if after is not None:
            changed[k] = after
    return changed


def _painted(
    poses: Poses, canvas: Canvas, k: int, area: FrameArea, before: Mask | None, *, keep: bool, hide: bool
) -> Mask | None:
    """A frame's mask with an area of the canvas painted; None where that changes nothing. Keeping also unhides."""
    lens = poses.lenses[k]
    shape = _mask_shape(lens.width, lens.height) if before is None else before.hide.shape
    inside = _in_frame(poses, canvas, k, area, shape)
    if not inside.any():
        return None
    nothing = np.zeros(shape, np.uint8)
    hidden, kept = (nothing, nothing) if before is None else (before.hide, before.keep)
    new_hidden = np.where(inside & (hide | keep), 255 if hide else 0, hidden).astype(np.uint8)
    after = Mask(new_hidden, np.where(inside, 255 if keep else 0, kept).astype(np.uint8))
    return after if before is None or not _same(after, before) else None


def _same(one: Mask, other: Mask) -> bool:
    return np.array_equal(one.hide, other.hide) and np.array_equal(one.keep, other.keep)


def _mask_shape(width: int, height: int) -> tuple[int, int]:
    scale = min(1.0, _MASK_PX / max(width, height))
    return max(1, round(height * scale)), max(1, round(width * scale))


def _in_frame(poses: Poses, canvas: Canvas, k: int, area: FrameArea, shape: tuple[int, ...]) -> Array:
    places = canvas.pixels(np.nan_to_num(poses.directions(k, poses.lenses[k].places_px(shape[1], shape[0]))))
    return area.holds(places, canvas.width if canvas.full_circle else 0.0)
