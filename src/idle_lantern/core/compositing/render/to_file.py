"""The picture of a solution into a file, tile by tile: memory does not grow with it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.base.checkpoint import Checkpoint, TileJournal, key_of
from idle_lantern.core.base.parallel import Clock, mapped, one_thread_each
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.runners import Runner, ThreadRunner
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.overview import Overview
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.compositing.render.compose import Composed, counted, frames_for, lay_out
from idle_lantern.core.compositing.render.coverage import CanvasCoverage
from idle_lantern.core.compositing.render.filled_picture import FilledPicture
from idle_lantern.core.compositing.render.frame_views import Levels
from idle_lantern.core.compositing.render.plan import Rendered, RenderPlan, TileMaker, sharing
from idle_lantern.core.compositing.render.rework import (
    EarlierPicture,
    MadeFrom,
    light_of,
    made_from,
    same_tiles,
    write_made_from,
)
from idle_lantern.core.compositing.render.tiles import row_by_row, there_and_back, tiles_of
from idle_lantern.core.deliver.formats import TIFF, format_of
from idle_lantern.core.deliver.strips import write_strips
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.masks import Masks
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.pyramid import PackedTile, PyramidInfo, packed, write_pyramid
from idle_lantern.core.pictures.source import TILE
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.solve import Solution
from idle_lantern.core.request.options import JoinOptions


@dataclass(frozen=True)
class JustMade:
    """What a picture was made from: its plan, what the seams were cut on, the frames that are still in memory, and the tiles that were
    made anew, None for all."""

    plan: RenderPlan
    overview: Overview
    frames: SizedCache[int, Levels]
    remade: Sequence[Tile] | None


def compose_to_file(
    solution: Solution,
    canvas: Canvas,
    target: Path,
    options: JoinOptions | None = None,
    progress: Progress = SILENT,
    *,
    runner: Runner | None = None,
    store: DecodedFrames | None = None,
    working: Sequence[WorkingFrame] | None = None,
    masks: Masks | None = None,
    checkpoint: Checkpoint | None = None,
    earlier: EarlierPicture | None = None,
    on_tile: Callable[[Tile], None] | None = None,
    before_it_stands: Callable[[JustMade], None] | None = None,
) -> Composed:
    """Make the picture of a solution and write it as it is made.

    ``runner`` makes the tiles, None for threads; ``working`` are the reduced frames of the poses, None where they are to be read. TIFF becomes a tiled pyramid, JPEG and PNG are written in strips. Of an ``earlier`` picture of the same frames a
    pyramid takes the light, and every tile that would come out the same. ``on_tile`` is told each tile that is there,
    ``before_it_stands`` what all of them were made from, when they are there and the file has not taken its place yet.

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
    with one_thread_each(), replacing(target) as part_file, ExitStack() as stack:
        checkpoint.note_part(part_file)
        light = None if earlier is None else earlier.made.light
        plan, overview = lay_out(
            solution, canvas, options, progress=progress, clock=clock, masks=masks, light=light, working=working
        )
        frames = frames_for(plan, store)
        stack.enter_context(sharing(plan, frames))
        making = _begun(
            plan, runner or ThreadRunner(options.threads), options, progress, clock, part_file.parent, plan.space
        )
        if format_of(target) == TIFF:
            making.made_from = made_from(
                plan,
                making.tiles,
                making.info,
                light_of(plan.poses, solution.frames, options.profile),
                # tiles that are filled are made from others: none of them is taken over, now or later
                alone=making.filled is None,
            )
            making.take_over(earlier)
        with clock.stage("blend"), checkpoint.journal(_journal_name(plan, target, making.region, options)) as kept:
            making.write(part_file, kept, options, on_tile)
        if before_it_stands is not None:
            with clock.stage("suspects"):
                before_it_stands(JustMade(plan, overview, frames, making.remade if making.same else None))
    return Composed(
        canvas,
        plan.gains,
        plan.label,
        making.region if making.cropped else making.coverage.rectangle(),
        plan.vignetting,
        clock.seconds,
        plan.space.name,
        plan.dust,
        len(making.tiles),
        making.remade,
        making.cropped,
        None if making.filled is None else making.filled.told(making.region),
        tuple(plan.poses.frames[k] for k in plan.carried),
    )


def _begun(
    plan: RenderPlan,
    runner: Runner,
    options: JoinOptions,
    progress: Progress,
    clock: Clock,
    folder: Path,
    space: ColourSpace,
) -> _Making:
    """What part of the canvas is made, and by what; gaps are filled first, and a crop is known before its pixels are."""
    canvas = plan.canvas
    maker: TileMaker = Rendered(runner)
    coverage, filled = CanvasCoverage(canvas, TILE), None
    if options.fills_rim:
        with clock.stage("blend"):
            filled = FilledPicture(plan, maker, folder, progress, anything=options.rim == "fill-all")
        maker, coverage = filled, filled.coverage
    region = Rectangle(0, 0, canvas.width, canvas.height)
    # a canvas whose rim was bent straight is a rectangle but for a few pixels
    cropped = options.crop or (options.rim == "stretch" and canvas.stretch is not None)
    if cropped:
        if filled is None:
            with clock.stage("warp"):
                _fill(coverage, plan, options, tiles_of(plan.canvas), progress)
        region = coverage.rectangle(_shape(options.ratio) if options.crop else None, holes=not options.crop)
    how = WriteOptions(jpeg_quality=options.jpeg_quality, alpha=not options.crop)
    info = PyramidInfo(region.width, region.height, plan.dtype, how.alpha, space, how.dpi)
    return _Making(plan, maker, region, info, how, coverage, filled, cropped, progress)


@dataclass
class _Making:
    """What a picture is made by and from, and what becomes known while its tiles come.

    ``same`` are places of the tiles that are those of an ``earlier`` picture, ``full`` tells which tiles have no gap.
    """

    plan: RenderPlan
    maker: TileMaker
    region: Rectangle
    info: PyramidInfo
    how: WriteOptions
    coverage: CanvasCoverage
    filled: FilledPicture | None
    cropped: bool
    progress: Progress
    made_from: MadeFrom | None = None
    earlier: EarlierPicture | None = None
    same: frozenset[int] = frozenset()
    tiles: list[Tile] = field(init=False)
    full: list[bool] = field(init=False)

    def __post_init__(self) -> None:
        self.tiles = tiles_of(self.plan.canvas, TILE, self.region)
        self.full = [not self.info.alpha] * len(self.tiles)
        self._index = {(tile.left, tile.top): i for i, tile in enumerate(self.tiles)}

    @property
    def remade(self) -> tuple[Tile, ...]:
        """The tiles that are not taken over."""
        return tuple(tile for i, tile in enumerate(self.tiles) if i not in self.same)

    def take_over(self, earlier: EarlierPicture | None) -> None:
        """Let tiles be those of an earlier picture where they would come out the same."""
        if self.made_from is not None:
            self.same = same_tiles(self.made_from, earlier)
            self.earlier = earlier if self.same else None

    def write(
        self,
        part_file: Path,
        kept: TileJournal | None,
        options: JoinOptions,
        on_tile: Callable[[Tile], None] | None,
    ) -> None:
        """Make the tiles and write them; ``kept`` holds what a killed run made, which is not made again."""
        done = 0 if kept is None else len(kept)
        skip = done * (1 if self.made_from is not None else self.info.columns)
        if skip and not self.cropped and self.filled is None:  # where it has gaps must be known all the same
            self.full[:skip] = _fill(self.coverage, self.plan, options, self.tiles[:skip])
        come = row_by_row(self._come(there_and_back(self.tiles[skip:]), skip, on_tile))
        if self.made_from is not None:
            write_pyramid(part_file, self.info, come, kept=kept, earlier=self.earlier, threads=options.threads)
            write_made_from(part_file, self.info, self.made_from, self.full)
            return
        rows = min(done * TILE, self.region.height)
        write_strips(part_file, self.info, come, self.how, kept=kept, kept_rows=rows, threads=options.threads)

    def _come(
        self, ahead: Sequence[Tile], skip: int, on_tile: Callable[[Tile], None] | None
    ) -> Iterator[tuple[Tile, Any]]:
        """Tiles ready to be written, in order."""
        for (product, alpha), tile in zip(counted(self._made(ahead), len(self.tiles), self.progress, skip), ahead):
            self.full[self._index[tile.left, tile.top]] = bool(alpha.all())
            if not self.cropped and self.filled is None:
                self.coverage.add(tile, alpha)
            if on_tile is not None:
                on_tile(tile)
            yield tile, product

    def _made(self, ahead: Sequence[Tile]) -> Iterator[tuple[Any, Array]]:
        """Products with their alpha: packed already where they are taken over."""
        ready = _Ready(packs=self.made_from is not None, alpha=self.info.alpha)
        wanted = [t for t in ahead if self._index[t.left, t.top] not in self.same]
        made = self.maker.tiles(self.plan, wanted, ready)
        for tile in ahead:
            i = self._index[tile.left, tile.top]
            if self.earlier is not None and i in self.same:
                data = self.earlier.packed(0, i // self.info.columns, i % self.info.columns)
                yield PackedTile(data, None), self.earlier.alpha(i, tile, self.info)
            else:
                yield next(made)


@dataclass(frozen=True)
class _Ready:
    """What becomes of a tile where it is made: packed for a pyramid, with alpha or without, or left as it is for strips."""

    packs: bool
    alpha: bool

    def __call__(self, pixels: Array, alpha: Array) -> tuple[PackedTile | tuple[Array, Array], Array]:
        return (packed(pixels, alpha if self.alpha else None) if self.packs else (pixels, alpha)), alpha


def _fill(
    coverage: CanvasCoverage, plan: RenderPlan, options: JoinOptions, tiles: Sequence[Tile], progress: Progress = SILENT
) -> list[bool]:
    """Reckon where the picture has pixels without making them, and which tiles have no gap."""
    compositor = plan.compositor(plan.even_frame)

    def filled(tile: Tile) -> bool:
        alpha = compositor.covered(tile)
        coverage.add(tile, alpha)
        return bool(alpha.all())

    return mapped(filled, tiles, options.threads, progress)


def _shape(ratio: tuple[float, float] | None) -> float | None:
    return None if ratio is None else ratio[0] / ratio[1]


def _journal_name(plan: RenderPlan, target: Path, region: Rectangle, options: JoinOptions) -> str:
    """What decides every byte: the pixels, which of them, and how they are packed."""
    key = key_of(plan.key, region, options.jpeg_quality, options.rim)
    return f"{target.suffix.lower().lstrip('.')}-{key}"
