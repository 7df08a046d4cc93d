"""The one way to run a join: a frozen request in, events out. Window, command line, batch and tests use it alike."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from msgspec import structs

from idle_lantern.core.base.atomic import check_writable, make_folder, write_text
from idle_lantern.core.base.checkpoint import checkpointed
from idle_lantern.core.base.errors import JoinError, LanternError
from idle_lantern.core.base.memory import available_bytes, is_out_of_memory
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.base.progress import SILENT, OnlyStops, Progress
from idle_lantern.core.base.runners import Runner
from idle_lantern.core.base.units import file_size
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.requested_canvas import canvas_for
from idle_lantern.core.compositing.render.compose import Composed, rough_picture
from idle_lantern.core.compositing.render.rework import EarlierPicture
from idle_lantern.core.deliver.formats import format_of
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.frames.decoded import Ahead, keeps
from idle_lantern.core.frames.frameset import FrameSet, gather
from idle_lantern.core.frames.masks import Mask, read_mask
from idle_lantern.core.inspection.find import LookedOver
from idle_lantern.core.inspection.suspect import Suspect
from idle_lantern.core.join.pipeline import join
from idle_lantern.core.join.report import Report, read_report
from idle_lantern.core.join.report_making import failure_report, report_of
from idle_lantern.core.join.report_reading import crop_of, suspects_of
from idle_lantern.core.join.request import (
    Failed,
    Finished,
    JoinRequest,
    JoinResult,
    RoughReady,
    Sink,
    Solved,
    TileDone,
)
from idle_lantern.core.join.roles import files_of, with_roles
from idle_lantern.core.merging.prepared import SCRATCH, ExposureSet, needs_preparing, prepare, prepared_folder
from idle_lantern.core.pictures.operations import OperatedPicture
from idle_lantern.core.pictures.source import PictureSource
from idle_lantern.core.pictures.tiled import open_picture
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.level import NOT_KNOWN
from idle_lantern.core.registration.solve.solve import Solution
from idle_lantern.core.registration.solve.upside_down import SENTENCE
from idle_lantern.core.request.keys import solving_key
from idle_lantern.core.request.options import JoinOptions


def run(
    request: JoinRequest,
    sink: Sink,
    progress: Progress = SILENT,
    *,
    ahead: Ahead | None = None,
    runner: Runner | None = None,
) -> None:
    """Carry a request out; the last event is ``Finished`` or ``Failed``.

    ``ahead`` hands out frames that were read whole before, each once; ``runner`` finds the points and makes the tiles, None for threads of this process. The picture and its report appear only when complete.

    Raises
    ------
    Cancelled
        Stopped by ``progress``; nothing is written, and the same request goes on from there.
    """
    begun = time.monotonic()
    ids = (request.document_id, request.request_id)
    frames: FrameSet | None = None
    try:
        outputs = [p for p in (request.target, request.report) if p is not None]
        masks_given = [f.mask for f in request.frames if f.mask is not None]
        check_outputs(outputs, [*files_of(request), *masks_given])
        frames = gather([f.path for f in request.frames], [f.id for f in request.frames if f.id])
        for path in outputs:
            check_writable(path)
        _check_memory(frames, request.options)
        result = _made_and_written(request, frames, sink, progress, begun, Helpers(ahead, runner))
    except LanternError as error:
        _tell_failure(request, frames, error, sink)
        return
    except Exception as error:
        if not is_out_of_memory(error):
            raise
        _tell_failure(request, frames, _too_little_memory(), sink)
        return
    report_error = None
    if request.report is not None:
        try:
            write_text(request.report, result.report.to_json().decode())
        except LanternError as error:
            report_error = error
    sink(Finished(*ids, result, report_error))


@dataclass(frozen=True)
class Helpers:
    """Who hands out frames that were read before, and who does the work on frames and tiles."""

    ahead: Ahead | None
    runner: Runner | None


def _made_and_written(
    request: JoinRequest, frames: FrameSet, sink: Sink, progress: Progress, begun: float, helpers: Helpers
) -> JoinResult:
    """The join; where linear light is asked for, or a format that is packed whole, its picture waits in the cache and is written from there."""
    kind = format_of(request.target)
    ready = _ready(request, frames, progress)
    light = kind.light == "always" or (kind.light == "asked" and request.light)
    if not light and not kind.packed_whole:
        return _joined(request, ready, sink, progress, begun, helpers)
    from idle_lantern.core.deliver.writing import write_source  # loaded when it is wanted

    folder = request.prepared or prepared_folder()
    make_folder(folder)
    with tempfile.TemporaryDirectory(dir=folder, prefix=SCRATCH) as scratch:
        shown = Path(scratch) / "shown.tif"
        # light is converted as light, beyond white too: display values are not what is asked for
        profile = None if light else request.options.profile
        plain = replace(request, target=shown, options=replace(request.options, profile=profile))
        result = _joined(plain, ready, sink, progress, begun, helpers)
        source: PictureSource = open_picture(shown)
        if light:
            source = OperatedPicture(source, space=request.options.profile, light=True)
        options = WriteOptions(request.options.jpeg_quality, alpha=not request.options.crop, light=light)
        write_source(source, request.target, options, progress)
    return replace(result, picture=request.target)


def _ready(request: JoinRequest, frames: FrameSet, progress: Progress) -> _Ready:
    """The frames as they are joined, under the names they came by, and what was done to them."""
    places = [ExposureSet(info, f.others) for info, f in zip(frames.infos, request.frames)]
    if not needs_preparing(places, request.options.recipe):
        return _Ready(frames)
    ready = prepare(places, request.options.recipe, request.prepared or prepared_folder(), progress)
    return _Ready(replace(frames, infos=ready.infos), ready.told)


@dataclass(frozen=True)
class _Ready:
    """Frames as they are joined, and what was done to them."""

    frames: FrameSet
    told: tuple[str, ...] = ()


def _tell_failure(request: JoinRequest, frames: FrameSet | None, error: LanternError, sink: Sink) -> None:
    report = failure_report(frames, [f.path for f in request.frames], error.sentence)
    sink(Failed(request.document_id, request.request_id, error, report))


#: What solving takes beside the frames: its libraries, a few threads, points and overview.
_BESIDE_FRAMES_BYTES = 300_000_000
#: Full-size frames that are worked on at once, with what is made of each.
_AT_ONCE = 6


def _check_memory(frames: FrameSet, options: JoinOptions) -> None:
    """Say before the work that there is too little memory for it.

    Raises
    ------
    JoinError
        With what is needed and what is free.
    """
    sizes = [i.width * i.height * 3 * i.bits // 8 for i in frames.infos]
    kept = sum(sizes) if keeps(frames.infos, options.memory() // 4) else 0
    needed, free = _BESIDE_FRAMES_BYTES + kept + _AT_ONCE * max(sizes), available_bytes()
    if needed > free:
        raise JoinError(
            f"Joining these {len(sizes)} frames needs some {file_size(needed)} of memory, and {file_size(free)} are free",
            remedy="Close other programs" + (", or join on the command line with --memory 0.5" if kept else ""),
        )


def _too_little_memory() -> JoinError:
    return JoinError(
        "The join ran out of memory",
        remedy="Close other programs, or ask for a smaller picture; what is done so far is kept",
    )


def _joined(
    request: JoinRequest, ready: _Ready, sink: Sink, progress: Progress, begun: float, helpers: Helpers
) -> JoinResult:
    frames, told = ready.frames, ready.told
    ids = (request.document_id, request.request_id)
    options = request.options
    prior = [f.prior for f in request.frames]
    masks = _masks(request, frames)
    earlier = None if request.solution is None else EarlierPicture.open(request.earlier)
    shown: list[bool] = []
    looked: list[LookedOver] = []

    def show_rough(found: Solution, working: Sequence[WorkingFrame]) -> None:
        shown.append(True)
        canvas = canvas_for(found.poses, found.seen, options)
        light = None if earlier is None else earlier.made.light
        rough = rough_picture(found, canvas, options, OnlyStops(progress), masks, light, working)
        sink(RoughReady(*ids, rough, canvas))

    def solved(found: Solution, canvas: Canvas, working: Sequence[WorkingFrame]) -> None:
        sink(Solved(*ids, found, canvas))
        if request.rough and not shown:  # another projection, or a join taken up again: nothing is shown yet
            show_rough(found, working)

    key = "" if request.checkpoints is None else solving_key(frames, options, prior)
    # another projection of the same frames is not solved again
    with checkpointed(request.checkpoints, key, fresh=request.fresh, keep="solution") as checkpoint:
        solution, made = join(
            frames,
            request.target,
            options,
            prior if any(p is not None for p in prior) else None,
            progress,
            masks=masks,
            checkpoint=checkpoint,
            ahead=helpers.ahead,
            runner=helpers.runner,
            solution=_of(frames, request.solution),
            earlier=earlier,
            known_suspects=() if earlier is None else _known_suspects(request.report, frames),
            on_rough=show_rough if request.rough else None,
            on_solved=solved,
            on_tile=lambda tile: sink(TileDone(*ids, tile)),
            on_looked=looked.append,
        )
        report = _report(request, solution, made, looked[0] if looked else None, time.monotonic() - begun)
        report = structs.replace(with_roles(report, request), prepared=told)
    return JoinResult(
        request.target,
        made.shown,
        crop_of(report),
        tuple(f.id for f in request.frames),
        time.monotonic() - begun,
        report.peak_rss_mib,
        report,
        solution,
        request.solution is None,
    )


def _of(frames: FrameSet, solution: Solution | None) -> Solution | None:
    """A solution that was given, of these very files: what was made ready may lie elsewhere by now."""
    if solution is None or solution.frames.infos == frames.infos:
        return solution
    return replace(solution, frames=frames)


def _known_suspects(report: Path | None, frames: FrameSet) -> tuple[Suspect, ...]:
    """What the report of the earlier picture suspects; nothing where it cannot be read."""
    if report is None:
        return ()
    try:
        return suspects_of(read_report(report), frames.names)
    except (LanternError, KeyError):
        return ()


def _report(
    request: JoinRequest, solution: Solution, made: Composed, looked: LookedOver | None, took_s: float
) -> Report:
    return structs.replace(
        report_of(solution, made, ratio=request.options.ratio, looked=looked),
        took_s=round(took_s, 3),
        frame_ids=tuple(f.id for f in request.frames),
        asked=request.choices,
        rail_mm=request.rail_mm,
        level_doubt=_level_doubt(request, solution),
    )


def _level_doubt(request: JoinRequest, solution: Solution) -> str:
    """That nothing tells the vertical, or that the picture may stand on its head, where it was looked for and nobody told it."""
    if request.options.level != "auto" or any(f.prior is not None for f in request.frames):
        return ""
    doubts = [NOT_KNOWN if solution.level is None else "", SENTENCE if solution.upside_down else ""]
    return " ".join(filter(None, doubts))


def _masks(request: JoinRequest, frames: FrameSet) -> dict[int, Mask]:
    found = {
        i: read_mask(f.mask, (frames.infos[i].width, frames.infos[i].height))
        for i, f in enumerate(request.frames)
        if f.mask is not None
    }
    return {i: mask for i, mask in found.items() if mask.hide.any() or mask.keep.any()}
