"""A solution and a canvas -> the picture, in memory or tile by tile into a file."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.base.picture import Picture
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.deliver.jpeg_strips import strips_of, write_jpeg_strips
from idle_lantern.core.deliver.streaming import write_tiles
from idle_lantern.core.deliver.writing import WriteOptions
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.masks import Masks
from idle_lantern.core.geometry.rectangles import Rectangle, inner_rectangle, largest_rectangle
from idle_lantern.core.join.canvas.canvas import Canvas
from idle_lantern.core.join.canvas.overview import make_overview, overview_pixels
from idle_lantern.core.join.checkpoint import Checkpoint, key_of
from idle_lantern.core.join.light.gains import solve_gains
from idle_lantern.core.join.light.vignetting import Vignetting, even_overview, solve_vignetting, without_vignetting
from idle_lantern.core.join.options import JoinOptions
from idle_lantern.core.join.render.compositor import Compositor
from idle_lantern.core.join.render.tiles import TILE, compose
from idle_lantern.core.join.render.views import Levels
from idle_lantern.core.join.seams.graph_cut import find_seams
from idle_lantern.core.join.solve.poses import Poses
from idle_lantern.core.join.solve.solve import Solution
from idle_lantern.core.join.workers import Clock, one_thread_each

Array = NDArray[Any]

_CACHE_BYTES = 600_000_000
#: Pixels of a rough picture, and by how many times fewer its light and seams are reckoned from.
_ROUGH_PX, _ROUGHER = 1_000_000, 8


@dataclass(frozen=True)
class Composed:
    """How a picture was made of a solution; ``crop`` is the largest rectangle without gaps."""

    canvas: Canvas
    gains: Array
    label: Array
    crop: Rectangle
    vignetting: Vignetting
    timings_s: dict[str, float]


@dataclass(frozen=True)
class Joined(Composed):
    """A joined picture in memory and how it came to be."""

    picture: Picture


@dataclass(frozen=True)
class _Prepared:
    """Light and seams reckoned: all that tiles are made from."""

    compositor: Compositor
    gains: Array
    label: Array
    vignetting: Vignetting


def compose_picture(
    solution: Solution,
    canvas: Canvas,
    options: JoinOptions | None = None,
    progress: Progress = SILENT,
    *,
    rough: bool = False,
    store: DecodedFrames | None = None,
    masks: Masks | None = None,
) -> Joined:
    """Make the picture of a solution on a canvas.

    ``masks`` are by index into the frame set; ``rough`` uses the reduced frames instead of reading the full ones: a first look
    within seconds, for canvases of a few megapixels.
    """
    options = options or JoinOptions()
    clock = Clock()
    with one_thread_each():
        ready = _prepared(solution, canvas, options, progress, clock, store, masks, rough=rough)
        with clock.stage("blend"):
            dtype = ready.compositor.dtype
            result = np.zeros((canvas.height, canvas.width, 3), dtype)
            alpha = np.zeros((canvas.height, canvas.width), dtype)
            for tile, part, shown in compose(ready.compositor, options.threads, progress, TILE // 2 if rough else TILE):
                at = (slice(tile.top, tile.top + tile.height), slice(tile.left, tile.left + tile.width))
                result[at], alpha[at] = part, shown
    picture = Picture(result, alpha, solution.working[0].picture.icc)
    return Joined(canvas, ready.gains, ready.label, inner_rectangle(alpha), ready.vignetting, clock.seconds, picture)


def rough_picture(
    solution: Solution,
    canvas: Canvas,
    options: JoinOptions | None = None,
    progress: Progress = SILENT,
    masks: Masks | None = None,
) -> Joined:
    """A first look at a solution: from its reduced frames, on the canvas reduced to what a window shows."""
    small = canvas.scaled(min(1.0, math.sqrt(_ROUGH_PX / (canvas.width * canvas.height))))
    return compose_picture(solution, small, options, progress, rough=True, masks=masks)


def compose_to_file(
    solution: Solution,
    canvas: Canvas,
    target: Path,
    options: JoinOptions | None = None,
    progress: Progress = SILENT,
    store: DecodedFrames | None = None,
    masks: Masks | None = None,
    checkpoint: Checkpoint | None = None,
) -> Composed:
    """Make the picture of a solution tile by tile into a tiled pyramid TIFF or a JPEG: memory does not grow with it."""
    options = options or JoinOptions()
    clock = Clock()
    checkpoint = checkpoint or Checkpoint()
    with one_thread_each(), replacing(target) as part_file:
        checkpoint.note_part(part_file)
        ready = _prepared(solution, canvas, options, progress, clock, store, masks, rough=False)
        box = _safe_rectangle(ready.label, canvas)
        region = box if options.crop else Rectangle(0, 0, canvas.width, canvas.height)
        with clock.stage("blend"):
            size, icc = (region.width, region.height), solution.working[0].picture.icc
            how = WriteOptions(jpeg_quality=options.jpeg_quality)
            jpeg = target.suffix.lower() in (".jpg", ".jpeg")
            name = "jpeg" if jpeg else "tiff"
            with checkpoint.journal(f"{name}-{_picture_key(ready, canvas, region, options)}") as kept:
                done = 0 if kept is None else len(kept)
                skip = done * -(-region.width // TILE) if jpeg else done
                made = compose(ready.compositor, options.threads, progress, region=region, skip=skip)
                tiles = ((p, a) for _tile, p, a in made)
                if jpeg:
                    rows = min(done * TILE, region.height)
                    write_jpeg_strips(part_file, *size, strips_of(tiles, region.width), how, icc, kept, rows)
                else:
                    write_tiles(part_file, *size, tiles, ready.compositor.dtype, how, icc, kept)
    return Composed(canvas, ready.gains, ready.label, box, ready.vignetting, clock.seconds)


def _picture_key(ready: _Prepared, canvas: Canvas, region: Rectangle, options: JoinOptions) -> str:
    """What decides every pixel: geometry, seams, gains, fall-off, masks, and how it is packed."""
    shape = (canvas.projection, canvas.width, canvas.height, canvas.px_per_rad, canvas.canvas_from_world.tobytes())
    poses = ready.compositor.poses
    turned = (poses.world_from_camera.tobytes(), poses.lenses, [b.tobytes() for b in poses.bends if b is not None])
    masks = [(k, m.hide.tobytes()) for k, m in sorted(ready.compositor.masks.items())]
    light = (ready.gains.tobytes(), ready.vignetting, ready.label.tobytes())
    return key_of(shape, turned, masks, light, region, options.jpeg_quality)


def _safe_rectangle(label: Array, canvas: Canvas) -> Rectangle:
    """Largest rectangle without gaps, from the reduced canvas and two reduced pixels inside it."""
    shown = cv2.erode((label >= 0).astype(np.uint8), np.ones((5, 5), np.uint8), borderValue=0)
    h, w = label.shape
    small = largest_rectangle(shown > 0)
    fx, fy = canvas.width / w, canvas.height / h
    left, top = math.ceil(small.left * fx), math.ceil(small.top * fy)
    right, bottom = int((small.left + small.width) * fx), int((small.top + small.height) * fy)
    return Rectangle(left, top, max(1, right - left), max(1, bottom - top))


def _prepared(
    solution: Solution,
    canvas: Canvas,
    options: JoinOptions,
    progress: Progress,
    clock: Clock,
    store: DecodedFrames | None,
    masks: Masks | None,
    *,
    rough: bool,
) -> _Prepared:
    poses = solution.poses
    mine = {poses.index(f): mask for f, mask in (masks or {}).items() if f in poses.frames}
    with clock.stage("warp"):
        pixels = overview_pixels(len(poses.frames)) // (_ROUGHER if rough else 1)
        overview = make_overview(
            poses, solution.working, canvas, pixels=pixels, masks=mine, threads=options.threads, progress=progress
        )
        vignetting = solve_vignetting(overview, len(poses.frames))
        overview = even_overview(overview, vignetting)
        gains = solve_gains(overview, len(poses.frames))
    with clock.stage("seams"):
        label = find_seams(overview, gains, progress)
    if rough:
        pictures = [w.picture for w in solution.working]
        poses = _of_size(poses, [(p.width, p.height) for p in pictures])
        evened = [
            Levels.of(replace(picture, pixels=without_vignetting(picture.pixels, lens, vignetting)))
            for picture, lens in zip(pictures, poses.lenses)
        ]
        load: Callable[[int], Levels] = evened.__getitem__
        full_scale = 255
    else:
        infos = [solution.frames.infos[f] for f in poses.frames]
        frames = store or DecodedFrames(solution.frames.infos, 0)
        reduce = _reduction(poses, canvas)
        poses = _of_size(poses, [(-(-i.width // reduce), -(-i.height // reduce)) for i in infos])

        def even_frame(k: int) -> Levels:
            picture = frames.take(solution.poses.frames[k], reduce)
            return Levels.of(replace(picture, pixels=without_vignetting(picture.pixels, poses.lenses[k], vignetting)))

        most = min(_CACHE_BYTES, options.memory() // 3)
        load = SizedCache(even_frame, len(infos), lambda p: p.nbytes, most).load
        full_scale = 65535 if any(i.bits == 16 for i in infos) else 255
    with_alpha = frozenset(i for i, w in enumerate(solution.working) if w.picture.alpha is not None)
    compositor = Compositor(poses, canvas, load, label, gains, full_scale, with_alpha, mine, blend=not rough)
    return _Prepared(compositor, gains, label, vignetting)


def _reduction(poses: Poses, canvas: Canvas) -> int:
    """By how much frames can be read smaller without the canvas losing detail: 1, 2, 4 or 8."""
    spare = min(lens.focal_px for lens in poses.lenses) / canvas.px_per_rad
    reduce = 1
    while reduce < 8 and 2 * reduce <= spare * 1.02:
        reduce *= 2
    return reduce


def _of_size(poses: Poses, sizes: Sequence[tuple[int, int]]) -> Poses:
    """The same poses for frames resized to (width, height) each."""
    lenses = tuple(
        replace(lens.scaled(width / lens.width), width=width, height=height)
        for lens, (width, height) in zip(poses.lenses, sizes)
    )
    bends = tuple(
        None if bend is None else bend * np.float32(small.width / lens.width)
        for bend, small, lens in zip(poses.bends, lenses, poses.lenses)
    )
    return replace(poses, lenses=lenses, bends=bends)
