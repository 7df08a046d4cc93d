"""One frame alone where it lies on the canvas: to be looked at, and to be let show there."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.picture import Picture
from idle_lantern.core.frames.masks import Mask
from idle_lantern.core.join.canvas.canvas import Canvas
from idle_lantern.core.join.canvas.warp import Tile, coarse_directions, frame_map, grid_step, sample
from idle_lantern.core.join.light.gains import gain_table, with_gain
from idle_lantern.core.join.light.vignetting import NONE, Vignetting, evened_at
from idle_lantern.core.join.solve.poses import Poses

Array = NDArray[Any]

#: Masks that are made here: seams follow no finer outline.
_MASK_PX = 1200


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
    seen = with_gain(sample(part, places - np.array([left, top], np.float32)), gain_table(np.asarray(gain), 255))
    if vignetting != NONE:
        lens = poses.lenses[i]
        off = places - np.asarray(lens.principal_px, np.float32)
        seen = evened_at(seen, 4 * (off**2).sum(-1) / np.float32(lens.width**2 + lens.height**2), vignetting)
    return np.dstack([seen, (inside * 255).astype(np.uint8)])


def frames_showing(poses: Poses, canvas: Canvas, u: float, v: float) -> list[int]:
    """Places in the poses of the frames that show a pixel of the canvas, the one that has it nearest its middle first."""
    ray = canvas.directions(np.array([u, v]))
    if not np.isfinite(ray).all():
        return []
    found = []
    for i, lens in enumerate(poses.lenses):
        if lens.sees(ray @ poses.world_from_camera[i]):
            pixel, _valid = lens.project(ray @ poses.world_from_camera[i])
            off = np.abs(pixel / np.array([lens.width, lens.height]) - 0.5).max()
            found.append((float(off), i))
    return [i for _off, i in sorted(found)]


def let_show(
    poses: Poses, canvas: Canvas, i: int, area: tuple[float, float, float, float], masks: Mapping[int, Mask]
) -> dict[int, Mask]:
    """The masks of all frames that show an ellipse of the canvas, changed so that the i-th shows there.

    ``area`` is its middle and half axes (u, v, a, b), ``masks`` what is painted so far, by place in the poses.
    """
    changed = {}
    for k in sorted({i, *masks}):  # the others have nothing painted, and need nothing
        lens, before = poses.lenses[k], masks.get(k)
        shape = _mask_shape(lens.width, lens.height) if before is None else (len(before.hide), before.hide.shape[1])
        inside = _ellipse_in_frame(poses, canvas, k, area, shape)
        if not inside.any():
            continue
        nothing = np.zeros(shape, np.uint8)
        hide, keep = (nothing, nothing) if before is None else (before.hide, before.keep)
        kept = np.where(inside, 255 if k == i else 0, keep).astype(np.uint8)
        after = Mask(np.where(inside & (k == i), 0, hide).astype(np.uint8), kept)
        if before is None or not _same(after, before):
            changed[k] = after
    return changed


def _same(one: Mask, other: Mask) -> bool:
    return np.array_equal(one.hide, other.hide) and np.array_equal(one.keep, other.keep)


def _mask_shape(width: int, height: int) -> tuple[int, int]:
    scale = min(1.0, _MASK_PX / max(width, height))
    return max(1, round(height * scale)), max(1, round(width * scale))


def _ellipse_in_frame(
    poses: Poses, canvas: Canvas, k: int, area: tuple[float, float, float, float], shape: tuple[int, int]
) -> Array:
    lens = poses.lenses[k]
    u, v, a, b = area
    x = (np.arange(shape[1]) + 0.5) * lens.width / shape[1] - 0.5
    y = (np.arange(shape[0]) + 0.5) * lens.height / shape[0] - 0.5
    rays = lens.unproject(np.stack(np.meshgrid(x, y), -1))
    places = canvas.pixels(np.nan_to_num(rays) @ poses.world_from_camera[k].T)
    across = places[..., 0] - u
    if canvas.full_circle:
        across = (across + canvas.width / 2) % canvas.width - canvas.width / 2
    with np.errstate(invalid="ignore"):
        return np.asarray((across / a) ** 2 + ((places[..., 1] - v) / b) ** 2 <= 1)
