"""A solution and a canvas -> the picture, in memory or tile by tile into a file."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.picture import Picture
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.deliver.strips import write_strips
from idle_lantern.core.deliver.targets import WriteOptions, is_tiff
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.masks import Masks
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.canvas.canvas import Canvas
from idle_lantern.core.join.canvas.overview import Overview, make_overview, overview_pixels
from idle_lantern.core.join.canvas.warp import Tile
from idle_lantern.core.join.checkpoint import Checkpoint, key_of
from idle_lantern.core.join.light.carried import carried_masks
from idle_lantern.core.join.light.dust import Spot, dust_masks, with_dust
from idle_lantern.core.join.light.gains import solve_gains, told_gains
from idle_lantern.core.join.light.vignetting import Vignetting, even_overview, solve_vignetting
from idle_lantern.core.join.options import JoinOptions
from idle_lantern.core.join.render.coverage import Coverage
from idle_lantern.core.join.render.filled import FilledPicture
from idle_lantern.core.join.render.plan import (
    CACHE_BYTES,
    FilesOfFrames,
    FramesInMemory,
    RenderPlan,
    ThreadRunner,
    TileRunner,
)
from idle_lantern.core.join.render.rework import (
    EarlierPicture,
    Light,
    light_of,
    made_from,
    same_tiles,
    write_made_from,
)
from idle_lantern.core.join.render.tiles import row_by_row, there_and_back, tiles_of
from idle_lantern.core.join.rim.told import Filled, Stretched
from idle_lantern.core.join.seams.graph_cut import find_seams
from idle_lantern.core.join.solve.poses import Poses
from idle_lantern.core.join.solve.solve import Solution
from idle_lantern.core.join.workers import Clock, mapped, one_thread_each
from idle_lantern.core.pictures.pyramid import TILE, PackedTile, PyramidInfo, packed, write_pyramid

Array = NDArray[Any]

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
) -> tuple[RenderPlan, Overview]:
    """Light and seams, and the small frames on a small canvas of which they were reckoned.

    ``masks`` are by index into the frame set; ``rough`` uses the reduced frames instead of reading the full ones;
    ``light`` is that of an earlier picture, held while it is of the same frames.
    """
    clock = clock or Clock()
    poses = solution.poses
    infos = [solution.frames.infos[f] for f in poses.frames]
    painted = {poses.index(f): mask for f, mask in (masks or {}).items() if f in poses.frames}
    dust, dusty = ([], {}) if rough else dust_masks(poses, infos, solution.working)
    everywhere = options.rim == "fill" and options.invent_anything
    carried = {} if rough else carried_masks(poses, infos, solution.working, everywhere=everywhere)
    mine = with_dust(with_dust(painted, dusty), carried)
    with clock.stage("warp"):
        pixels = overview_pixels(len(poses.frames)) // (_ROUGHER if rough else 1)
        overview = make_overview(
            poses, solution.working, canvas, pixels=pixels, masks=mine, threads=options.threads, progress=progress
        )
        known = solution.known
        if light is not None and light.of == light_of(poses, solution.frames, options.profile):
            vignetting, gains = light.vignetting, light.gains
            overview = even_overview(overview, vignetting)
        else:
            own = None if known is None else known.falloff
            vignetting = own if own is not None else solve_vignetting(overview, len(poses.frames))
            overview = even_overview(overview, vignetting)
            told = told_gains([info.metadata.exposure_value for info in infos])
            gains = solve_gains(overview, len(poses.frames), told)
    with clock.stage("seams"):
        label = find_seams(overview, gains, progress)
    if rough:
        pictures = tuple(w.picture for w in solution.working)
        frames: FramesInMemory | FilesOfFrames = FramesInMemory(pictures)
        sizes = [(p.width, p.height) for p in pictures]
    else:
        reduce = _reduction(poses, canvas)
        frames = FilesOfFrames(tuple(infos), DecodedFrames(solution.frames.infos, 0, options.profile).space, reduce)
        sizes = [(-(-i.width // reduce), -(-i.height // reduce)) for i in infos]
    plan = RenderPlan(
        poses.of_size(sizes),
        canvas,
        frames,
        label,
        gains,
        vignetting,
        65535 if not rough and any(i.bits == 16 for i in infos) else 255,
        frozenset(i for i, w in enumerate(solution.working) if w.picture.alpha is not None),
        mine,
        blend=not rough,
        dust=tuple(dust),
        carried=tuple(carried),
        lateral=(known.lateral_red, known.lateral_blue) if known is not None and known.colour_shifts else None,
        cache_bytes=min(CACHE_BYTES, options.memory() // 3),
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
) -> Joined:
    """Make the picture of a solution on a canvas in memory; parameters as of ``lay_out``.

    Raises
    ------
    UnreadableFrame
        A frame is gone or damaged.
    """
    options = options or JoinOptions()
    clock = Clock()
    with one_thread_each():
        plan, _overview = lay_out(
            solution, canvas, options, progress=progress, clock=clock, masks=masks, rough=rough, light=light
        )
        with clock.stage("blend"):
            size = TILE // 2 if rough else TILE
            tiles, coverage = tiles_of(canvas, size), Coverage(canvas, size)
            result = np.zeros((canvas.height, canvas.width, 3), plan.dtype)
            alpha = np.zeros((canvas.height, canvas.width), plan.dtype)
            made = _runner(solution, plan, options, store).run(plan, tiles, lambda pixels, shown: (pixels, shown))
            for tile, (part, shown) in zip(tiles, _counted(made, len(tiles), progress)):
                at = (slice(tile.top, tile.top + tile.height), slice(tile.left, tile.left + tile.width))
                result[at], alpha[at] = part, shown
                coverage.add(tile, shown)
    space = DecodedFrames(solution.frames.infos, 0, options.profile).space
    return Joined(
        canvas,
        plan.gains,
        plan.label,
        coverage.rectangle(),
        plan.vignetting,
        clock.seconds,
        space.name,
        carried=tuple(plan.poses.frames[k] for k in plan.carried),
        picture=Picture(result, alpha, space.icc),
    )


def rough_picture(
    solution: Solution,
    canvas: Canvas,
    options: JoinOptions | None = None,
    progress: Progress = SILENT,
    masks: Masks | None = None,
    light: Light | None = None,
) -> Joined:
    """A first look at a solution: from its reduced frames, on the canvas reduced to what a window shows."""
    small = canvas.scaled(min(1.0, math.sqrt(_ROUGH_PX / (canvas.width * canvas.height))))
    return compose_picture(solution, small, options, progress, rough=True, masks=masks, light=light)


def compose_to_file(
    solution: Solution,
    canvas: Canvas,
    target: Path,
    options: JoinOptions | None = None,
    progress: Progress = SILENT,
    *,
    store: DecodedFrames | None = None,
    masks: Masks | None = None,
    checkpoint: Checkpoint | None = None,
    earlier: EarlierPicture | None = None,
    on_tile: Callable[[Tile], None] | None = None,
    before_it_stands: Callable[[RenderPlan, Overview, Sequence[Tile] | None], None] | None = None,
) -> Composed:
    """Make the picture of a solution tile by tile into a file: memory does not grow with it.

    TIFF becomes a tiled pyramid, JPEG and PNG are written in strips. Of an ``earlier`` picture of the same frames a
    pyramid takes the light, and every tile that would come out the same. ``on_tile`` is told each tile that is there,
    ``before_it_stands`` what all of them were made from and which were made, None for all, when they are there and the
    file has not taken its place yet.

    Raises
    ------
    InputError
        The file cannot be written; nothing is left of it.
    UnreadableFrame
        A frame is gone or damaged.
    """
    options = options or JoinOptions()
    clock = Clock()
    checkpoint = checkpoint or Checkpoint()
    tiff = is_tiff(target)
    with one_thread_each(), replacing(target) as part_file:
        checkpoint.note_part(part_file)
        light = None if earlier is None else earlier.made.light
        plan, overview = lay_out(solution, canvas, options, progress=progress, clock=clock, masks=masks, light=light)
        runner: TileRunner = _runner(solution, plan, options, store)
        coverage = Coverage(canvas, TILE)
        filled = None
        if options.rim == "fill":
            with clock.stage("blend"):
                filled = FilledPicture(plan, runner, part_file.parent, progress, anything=options.invent_anything)
            runner, coverage, earlier = filled, filled.coverage, None
        region = Rectangle(0, 0, canvas.width, canvas.height)
        # a bent canvas is a rectangle but for a few pixels
        cropped = options.crop or canvas.stretch is not None
        if cropped:
            if filled is None:
                with clock.stage("warp"):
                    _fill(coverage, plan, options, progress)
            region = coverage.rectangle(options.ratio if options.crop else None, holes=not options.crop)
        tiles = tiles_of(canvas, TILE, region)
        how = WriteOptions(jpeg_quality=options.jpeg_quality)
        space = DecodedFrames(solution.frames.infos, 0, options.profile).space
        info = PyramidInfo(region.width, region.height, plan.dtype, not options.crop, "display", space.icc, how.dpi)
        made_of = made_from(plan, tiles, info, light_of(plan.poses, solution.frames, options.profile)) if tiff else None
        same = frozenset() if made_of is None else same_tiles(made_of, earlier)
        full = [not info.alpha] * len(tiles)
        remade = tuple(tile for i, tile in enumerate(tiles) if i not in same)
        index = {(tile.left, tile.top): i for i, tile in enumerate(tiles)}
        with clock.stage("blend"), checkpoint.journal(_journal_name(plan, target, region, options)) as kept:
            done = 0 if kept is None else len(kept)
            skip = done if tiff else done * info.columns
            if (
                skip and not cropped and filled is None
            ):  # what a killed run made is not made again, but where it has gaps must be known
                full[:skip] = _fill(coverage, plan, options, SILENT, tiles[:skip])
            ahead = there_and_back(tiles[skip:])
            anew = tuple(tile for tile in ahead if index[tile.left, tile.top] not in same)

            def finished(pixels: Array, alpha: Array) -> tuple[PackedTile | tuple[Array, Array], Array]:
                shown = alpha if info.alpha else None
                return (packed(pixels, shown) if tiff else (pixels, alpha)), alpha

            def there() -> Iterator[Any]:
                made = runner.run(plan, anew, finished)
                for tile in ahead:
                    i = index[tile.left, tile.top]
                    if i in same and earlier is not None:
                        data = earlier.packed(0, i // info.columns, i % info.columns)
                        yield PackedTile(data, None), earlier.alpha(i, tile, info)
                    else:
                        yield next(made)

            def noted() -> Iterator[tuple[Tile, Any]]:
                for (product, alpha), tile in zip(_counted(there(), len(tiles), progress, skip), ahead):
                    full[index[tile.left, tile.top]] = bool(alpha.all())
                    if not cropped and filled is None:
                        coverage.add(tile, alpha)
                    if on_tile is not None:
                        on_tile(tile)
                    yield tile, product

            if tiff and made_of is not None:
                write_pyramid(part_file, info, row_by_row(noted()), kept=kept, earlier=earlier, threads=options.threads)
                write_made_from(part_file, info, made_of, full)
            else:
                rows = min(done * TILE, region.height)
                write_strips(
                    part_file, info, row_by_row(noted()), how, kept=kept, kept_rows=rows, threads=options.threads
                )
        if before_it_stands is not None:
            with clock.stage("suspects"):
                before_it_stands(plan, overview, remade if same else None)
    box = region if cropped else coverage.rectangle()
    return Composed(
        canvas,
        plan.gains,
        plan.label,
        box,
        plan.vignetting,
        clock.seconds,
        space.name,
        plan.dust,
        len(tiles),
        remade,
        cropped,
        None if filled is None else filled.told(region),
        tuple(plan.poses.frames[k] for k in plan.carried),
    )


def _runner(solution: Solution, plan: RenderPlan, options: JoinOptions, store: DecodedFrames | None) -> ThreadRunner:
    whole = isinstance(plan.frames, FilesOfFrames) and plan.frames.reduce == 1
    return ThreadRunner(options.threads, store if whole else None, solution.poses.frames)


def _counted(made: Iterator[Any], count: int, progress: Progress, done: int = 0) -> Iterator[Any]:
    """Things as they come, each a step of the blending."""
    progress.begin("blend", count)
    progress.advance(done)
    for thing in made:
        yield thing
        progress.advance()


def _fill(
    coverage: Coverage, plan: RenderPlan, options: JoinOptions, progress: Progress, tiles: Sequence[Tile] | None = None
) -> list[bool]:
    """Reckon where the picture has pixels without making them, and which tiles have no gap."""
    compositor = plan.compositor(plan.even_frame)

    def filled(tile: Tile) -> bool:
        alpha = compositor.covered(tile)
        coverage.add(tile, alpha)
        return bool(alpha.all())

    return mapped(filled, tiles_of(plan.canvas) if tiles is None else tiles, options.threads, progress)


def _journal_name(plan: RenderPlan, target: Path, region: Rectangle, options: JoinOptions) -> str:
    """What decides every byte: the pixels, which of them, and how they are packed."""
    key = key_of(plan.key, region, options.jpeg_quality, options.rim, options.invent_anything)
    return f"{target.suffix.lower().lstrip('.')}-{key}"


def _reduction(poses: Poses, canvas: Canvas) -> int:
    """By how much frames can be read smaller without the canvas losing detail: 1, 2, 4 or 8."""
    spare = min(lens.focal_px for lens in poses.lenses) / canvas.px_per_rad
    reduce = 1
    while reduce < 8 and 2 * reduce <= spare * 1.02:
        reduce *= 2
    return reduce
