"""A solution and a canvas -> the picture, in memory or tile by tile into a file."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.parallel import Clock, one_thread_each
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.runners import Runner, ThreadRunner
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.profiles import common_space
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.overview import Overview, make_overview, overview_pixels, without_kept
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.light.dust import Spot, dust_masks
from idle_lantern.core.compositing.light.gains import solve_gains, told_gains
from idle_lantern.core.compositing.light.nadir_head import carried_masks
from idle_lantern.core.compositing.light.vignetting import Vignetting, even_overview, solve_vignetting
from idle_lantern.core.compositing.render.coverage import CanvasCoverage
from idle_lantern.core.compositing.render.frame_views import Levels
from idle_lantern.core.compositing.render.plan import (
    CACHE_BYTES,
    FilesOfFrames,
    FramesInMemory,
    Rendered,
    RenderPlan,
    as_made,
    frames_of,
    sharing,
)
from idle_lantern.core.compositing.render.rework import (
    Light,
    light_of,
)
from idle_lantern.core.compositing.render.tiles import tiles_of
from idle_lantern.core.compositing.rim.outcome import Filled, Stretched
from idle_lantern.core.compositing.seams.graph_cut import find_seams
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.masks import WHOLLY_HIDDEN, Masks, together
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import TILE
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.ground_plane import ground_masks
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.solve import Solution, working_of
from idle_lantern.core.request.options import JoinOptions

#: Pixels of a rough picture, and by how many times fewer its light and seams are reckoned from.
_ROUGH_PX, _ROUGHER = 1_000_000, 8


@dataclass(frozen=True)
class Composed:
    """How a picture was made of a solution; ``crop`` is the largest rectangle without gaps, to which it may be ``cropped``.

    ``carried`` are frames (by index into the set) in which the head was left out. ``made`` are those of its ``tiles`` tiles that were made for it and not taken over from an earlier picture.
    """

    canvas: Canvas
    gains: Array
    label: Array
    crop: Rectangle
    vignetting: Vignetting
    timings_s: dict[str, float]
    space: str = "sRGB"
    dust: tuple[Spot, ...] = ()
    tiles: int = 0
    made: tuple[Tile, ...] = ()
    cropped: bool = False
    rim: Stretched | Filled | None = None
    carried: tuple[int, ...] = ()

    @property
    def shown(self) -> Canvas:
        """The canvas of the pixels that there are."""
        return self.canvas.cut(self.crop) if self.cropped else self.canvas


@dataclass(frozen=True)
class Joined(Composed):
    """A joined picture in memory and how it came to be."""

    picture: Picture = Picture(np.zeros((1, 1, 3), np.uint8))  # noqa: RUF009 a picture is frozen


def lay_out(
    solution: Solution,
    canvas: Canvas,
    options: JoinOptions,
    *,
    progress: Progress = SILENT,
    clock: Clock | None = None,
    masks: Masks | None = None,
    rough: bool = False,
    light: Light | None = None,
    working: Sequence[WorkingFrame] | None = None,
) -> tuple[RenderPlan, Overview]:
    """Light and seams, and the small frames on a small canvas of which they were reckoned.

    ``masks`` are by index into the frame set; ``rough`` uses the reduced frames instead of reading the full ones;
    ``light`` is that of an earlier picture, held while it is of the same frames; ``working`` are the reduced frames of the poses,
    None where they are to be read.

    Raises
    ------
    InputError
        Every frame is switched off.
    """
    clock = clock or Clock()
    poses = solution.poses
    infos = [solution.frames.infos[f] for f in poses.frames]
    painted = {poses.index(f): mask for f, mask in (masks or {}).items() if f in poses.frames}
    off = solution.frames.places(options.off) & set(poses.frames)
    painted |= {poses.index(f): WHOLLY_HIDDEN for f in off}
    if len(off) == len(poses.frames):
        raise InputError("Every frame is switched off", remedy="Switch one on again")
    working = working_of(solution) if working is None else working
    dust, dusty = ([], {}) if rough else dust_masks(poses, infos, working)
    space = options.profile or common_space([i.space for i in solution.frames.infos])
    shown = [replace(w, picture=w.picture.in_space(space)) for w in working]
    everywhere = options.rim == "fill-all"
    carried = {} if rough else carried_masks(poses, infos, working, everywhere=everywhere)
    ground = ground_masks(poses, solution.placed_by)
    mine = together(together(together(painted, dusty), carried), ground)
    with clock.stage("warp"):
        pixels = overview_pixels(len(poses.frames)) // (_ROUGHER if rough else 1)
        overview = make_overview(
            poses, shown, canvas, pixels=pixels, masks=mine, threads=options.threads, progress=progress
        )
        known = solution.known
        if light is not None and light.of == light_of(poses, solution.frames, options.profile):
            vignetting, gains = light.vignetting, light.gains
            overview = even_overview(overview, vignetting)
        else:
            own = None if known is None else known.falloff
            vignetting = own if own is not None else solve_vignetting(without_kept(overview, ground), len(poses.frames))
            overview = even_overview(overview, vignetting)
            told = told_gains([info.metadata.exposure_value for info in infos])
            gains = solve_gains(without_kept(overview, ground), len(poses.frames), told)
    with clock.stage("seams"):
        label = find_seams(overview, gains, progress)
    if rough:
        pictures = tuple(w.picture for w in shown)
        frames: FramesInMemory | FilesOfFrames = FramesInMemory(pictures)
        sizes = [(p.width, p.height) for p in pictures]
    else:
        reduce = _reduction(poses, canvas)
        frames = FilesOfFrames.of(infos, space, reduce)
        sizes = [(-(-i.width // reduce), -(-i.height // reduce)) for i in infos]
    plan = RenderPlan(
        poses.of_size(sizes),
        canvas,
        frames,
        label,
        gains,
        vignetting,
        65535 if not rough and any(i.bits == 16 for i in infos) else 255,
        frozenset(i for i, w in enumerate(working) if w.picture.alpha is not None),
        mine,
        blend=not rough,
        dust=tuple(dust),
        carried=tuple(carried),
        lateral=(known.lateral_red, known.lateral_blue) if known is not None and known.colour_shifts else None,
        cache_bytes=min(CACHE_BYTES, options.memory() // 3),
        space=space,
    )
    return plan, overview


def compose_picture(
    solution: Solution,
    canvas: Canvas,
    options: JoinOptions | None = None,
    progress: Progress = SILENT,
    *,
    rough: bool = False,
    store: DecodedFrames | None = None,
    masks: Masks | None = None,
    light: Light | None = None,
    working: Sequence[WorkingFrame] | None = None,
    runner: Runner | None = None,
) -> Joined:
    """Make the picture of a solution on a canvas in memory; parameters as of ``lay_out``. ``runner`` makes the tiles, None for threads.

    Raises
    ------
    UnreadableFrame
        A frame is gone or damaged.
    """
    options = options or JoinOptions()
    clock = Clock()
    with one_thread_each():
        plan, _overview = lay_out(
            solution,
            canvas,
            options,
            progress=progress,
            clock=clock,
            masks=masks,
            rough=rough,
            light=light,
            working=working,
        )
        with clock.stage("blend"):
            size = TILE // 2 if rough else TILE
            tiles, coverage = tiles_of(canvas, size), CanvasCoverage(canvas, size)
            result = np.zeros((canvas.height, canvas.width, 3), plan.dtype)
            alpha = np.zeros((canvas.height, canvas.width), plan.dtype)
            with sharing(plan, frames_for(plan, store)):
                made = Rendered(runner or ThreadRunner(options.threads)).tiles(plan, tiles, as_made)
                for tile, (part, shown) in zip(tiles, counted(made, len(tiles), progress)):
                    at = (slice(tile.top, tile.top + tile.height), slice(tile.left, tile.left + tile.width))
                    result[at], alpha[at] = part, shown
                    coverage.add(tile, shown)
    return Joined(
        canvas,
        plan.gains,
        plan.label,
        coverage.rectangle(),
        plan.vignetting,
        clock.seconds,
        plan.space.name,
        carried=tuple(plan.poses.frames[k] for k in plan.carried),
        picture=Picture(result, alpha, plan.space),
    )


def rough_picture(
    solution: Solution,
    canvas: Canvas,
    options: JoinOptions | None = None,
    progress: Progress = SILENT,
    masks: Masks | None = None,
    light: Light | None = None,
    working: Sequence[WorkingFrame] | None = None,
) -> Joined:
    """A first look at a solution: from its reduced frames (``working``, None where they are to be read), on the canvas reduced to what a window shows."""
    small = canvas.scaled(min(1.0, math.sqrt(_ROUGH_PX / (canvas.width * canvas.height))))
    return compose_picture(solution, small, options, progress, rough=True, masks=masks, light=light, working=working)


def frames_for(plan: RenderPlan, store: DecodedFrames | None) -> SizedCache[int, Levels]:
    """The plan's frames on demand, taken from ``store`` where it holds them already."""
    whole = isinstance(plan.frames, FilesOfFrames) and plan.frames.reduce == 1
    return frames_of(plan, store if whole else None)


def counted(made: Iterator[Any], count: int, progress: Progress, done: int = 0) -> Iterator[Any]:
    """Things as they come, each a step of the blending."""
    progress.begin("blend", count)
    progress.advance(done)
    for thing in made:
        yield thing
        progress.advance()


def _reduction(poses: Poses, canvas: Canvas) -> int:
    """By how much frames can be read smaller without the canvas losing detail: 1, 2, 4 or 8."""
    spare = min(lens.focal_px for lens in poses.lenses) / canvas.px_per_rad
    reduce = 1
    while reduce < 8 and 2 * reduce <= spare * 1.02:
        reduce *= 2
    return reduce
