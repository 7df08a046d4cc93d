"""``idle-lantern join``: frames in, one picture out, exactly as the join contract says."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from idle_lantern.cli.ends import BAD_INPUT, CANNOT, DONE, give, say, stopping
from idle_lantern.cli.join_arguments import (
    angles_of,
    crop_of,
    known_lens_of,
    level_of,
    named,
    profile_of,
    share_of,
)
from idle_lantern.cli.progress import TerminalProgress
from idle_lantern.cli.schedulers import add_scheduler, runner_at
from idle_lantern.core.base import units
from idle_lantern.core.base.atomic import check_writable, write_text
from idle_lantern.core.base.checkpoint import checkpoints_folder
from idle_lantern.core.base.errors import InputError, JoinError, LanternError
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.deliver.formats import check_target, format_of
from idle_lantern.core.frames.ahead import ReadAhead
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.masks import mask_path
from idle_lantern.core.frames.two_circles import circles_of, split
from idle_lantern.core.geometry.projections import PROJECTIONS
from idle_lantern.core.join.report import Report, SuspectRow
from idle_lantern.core.join.report_making import failure_report
from idle_lantern.core.join.request import STAGE_WEIGHTS, Aside, Event, Failed, Finished, JoinFrame, JoinRequest
from idle_lantern.core.join.service import run as run_request
from idle_lantern.core.merging.development import Development, read_development
from idle_lantern.core.merging.film import KINDS as FILMS
from idle_lantern.core.merging.film import measure_film
from idle_lantern.core.merging.prepared import prepared_folder
from idle_lantern.core.merging.recipe import BRACKETS, REPEATS, BracketExposure
from idle_lantern.core.outing import document
from idle_lantern.core.outing.joining import request_beside
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.registration.match.points_file import read_points
from idle_lantern.core.registration.solve.placing import placing_in_words
from idle_lantern.core.registration.solve.prior import prior_for, read_prior
from idle_lantern.core.request.choices import MaskRef
from idle_lantern.core.request.eased import read_eased
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.core.sorting.card import Card
from idle_lantern.core.sorting.grouped import TOO_SMALL, Grouped, files_in, grouped, without_tiny

ENDS = (Finished, Failed)
#: What may be told of the join of an outing.
_BESIDE_OUTING = {"command", "frames", "out", "report", "scheduler", "fresh", "run", "default_of"}


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser("join", help="join frames into one picture", description=__doc__)
    parser.add_argument(
        "frames",
        nargs="+",
        metavar="FRAME",
        type=Path,
        help="picture files in any order, or folders; or an outing, which is joined by its own choices",
    )
    parser.add_argument(
        "--out", required=True, type=Path, help="the picture to write: .tif, .png or .jpg, or .exr for linear light"
    )
    parser.add_argument("--projection", default="auto", choices=("auto", *PROJECTIONS))
    parser.add_argument("--width", type=int, metavar="PX", help="width of the canvas; default: the frames' own scale")
    parser.add_argument("--report", type=Path, metavar="REPORT.json", help="write how it was joined")
    parser.add_argument("--prior", type=Path, metavar="FILE", help="planned or logged directions of the frames")
    parser.add_argument(
        "--masks",
        type=Path,
        metavar="FOLDER",
        help="painted NAME.mask.png: dark paint hides, light paint keeps parts of a frame",
    )
    parser.add_argument(
        "--no-groups",
        action="store_true",
        help="every file for itself: brackets and raw beside JPEG are not looked for",
    )
    parser.add_argument(
        "--run",
        dest="only_run",
        default="",
        metavar="NAME",
        help="of files of several runs the one to join, as 'frames' names it (default: the one with most positions)",
    )
    parser.add_argument(
        "--brackets",
        default="merge",
        choices=BRACKETS,
        help="exposures of one place: merged to linear light and shown by one curve (default), fused, or only the middle one",
    )
    parser.add_argument(
        "--repeats",
        default="sharpest",
        choices=REPEATS,
        help="frames of one place taken again: the sharpest one (default), or the mean of all sharp ones",
    )
    parser.add_argument(
        "--twins", default="raw", choices=("raw", "jpeg"), help="which of raw and JPEG of one name is used"
    )
    parser.add_argument("--develop", type=Path, metavar="RECIPE.json", help="one basic development for all frames")
    parser.add_argument(
        "--lens",
        default="",
        metavar="LENS",
        help="distortion, lateral colour and fall-off as known: 'database' (by the frames' metadata), the name of a measured "
        "lens in the gear library, or a file of calibrate lens --json; without it the join finds them",
    )
    parser.add_argument(
        "--shift-lens", action="store_true", help="the camera stood still, its lens was shifted across the sensor"
    )
    parser.add_argument(
        "--film",
        choices=FILMS,
        help="the frames are scans of film: borders are cut, and negatives turned, alike for all of them",
    )
    parser.add_argument(
        "--light", action="store_true", help="with .tif: linear light as 32-bit floats, beyond white too"
    )
    add_scheduler(parser)
    parser.add_argument("--fresh", action="store_true", help="do not go on from where a killed run of this join ended")
    parser.add_argument(
        "--crop",
        default="none",
        metavar="none|largest|W:H",
        help="cut to the largest rectangle without gaps, or to the largest of a ratio like 3:1",
    )
    parser.add_argument(
        "--rim",
        default="none",
        choices=("none", "stretch", "fill"),
        help="gaps at the rim: left (default), taken up by a warp, or filled with what is invented and told in the report",
    )
    parser.add_argument(
        "--invent-anything",
        action="store_true",
        help="with --rim fill: also where more than sky, grass or water reaches the rim",
    )
    parser.add_argument(
        "--level",
        default="auto",
        metavar="auto|none|YAW,PITCH,ROLL",
        help="upright by itself (default), as the first frame stands, or turned by so many degrees from upright",
    )
    parser.add_argument(
        "--turn",
        default="0,0,0",
        metavar="YAW,PITCH,ROLL",
        help="turn the picture by so many degrees after it was levelled",
    )
    parser.add_argument(
        "--distance",
        type=share_of("a distance", 0, 10),
        default=1.0,
        metavar="D",
        help="panini: how far the eye stands behind the middle, 0 flat, 1 usual",
    )
    parser.add_argument(
        "--straighten",
        type=share_of("a share", 0, 100),
        default=0.0,
        metavar="PERCENT",
        help="panini: how far lines across are made straight",
    )
    parser.add_argument(
        "--cut",
        nargs=2,
        action="append",
        metavar=("FRAME", "FRAME"),
        help="do not match these two: what they show alike is not the same",
    )
    parser.add_argument(
        "--off", action="append", metavar="FRAME", help="a frame that ties the others but shows nowhere"
    )
    parser.add_argument(
        "--use",
        action="append",
        metavar="FRAME",
        help="a frame to use whatever speaks against it: doubles stay, what nothing ties is placed",
    )
    parser.add_argument(
        "--quality",
        type=share_of("a quality", 40, 100, whole=True),
        default=92,
        help="of a JPEG, 40 to 100 (default 92)",
    )
    parser.add_argument(
        "--points",
        type=Path,
        metavar="POINTS.json",
        help="tie points set by hand, believed whatever features say (docs/formats/points.md)",
    )
    parser.add_argument(
        "--ease",
        type=Path,
        metavar="EASED.json",
        help="lines drawn straight and round things drawn round, whatever the projection does (docs/formats/eased.md)",
    )
    parser.add_argument(
        "--profile",
        default="keep",
        metavar="keep|srgb|p3|FILE.icc",
        help="colour space of the picture (default: the frames')",
    )
    parser.add_argument(
        "--memory", type=float, metavar="GIB", help="most memory for pictures; default: a quarter of the machine"
    )
    parser.set_defaults(run=run, default_of=parser.get_default)


#: Suspicion from which a place is told, and how many places at most.
_LIKELY, _TOLD = 0.5, 5


def _masks(folder: Path | None, names: Sequence[str]) -> dict[str, Path]:
    """The painted masks of a folder, by the name of their frame."""
    if folder is None:
        return {}
    if not folder.is_dir():
        raise InputError("Is no folder", where=str(folder), remedy="Give the folder with the masks")
    found = {name: mask_path(folder, name) for name in names if mask_path(folder, name).is_file()}
    if not found:
        raise InputError(
            "Holds no painted mask for these frames",
            where=str(folder),
            remedy=f"Name them like {mask_path(folder, names[0]).name}, dark paint to hide, light paint to keep",
        )
    return found


def run(args: argparse.Namespace) -> int:
    """Carry the command out; returns the exit code."""
    progress = TerminalProgress(STAGE_WEIGHTS)
    ended: list[Event] = []
    with stopping(progress.ask_to_stop):
        try:
            request, ahead = _request(args, progress)
            with runner_at(args.scheduler) as runner:
                run_request(
                    request,
                    lambda event: ended.append(event) if isinstance(event, ENDS) else None,
                    progress,
                    ahead=None if ahead is None else ahead.take,
                    runner=runner,
                )
        except LanternError as error:  # before the join could begin
            return _failed(args, error, failure_report(None, args.frames, error.sentence))
    end = ended[-1]
    if isinstance(end, Failed):
        return _failed(args, end.error, end.report)
    assert isinstance(end, Finished)
    report = end.result.report
    for sentence in report.prepared:
        say(sentence)
    if report.head_left_out:
        say(f"the tripod head was left out of {', '.join(report.head_left_out)}")
    if report.rim is not None:
        say(report.rim.sentence)
    if args.lens and not report.known_lens:
        say("The lens that was given does not fit the frames: its distortion was found anew.")
    solution = end.result.solution
    if solution is not None:
        for sentence in placing_in_words(solution.frames.names, solution.poses, solution.placed_by).splitlines():
            say(sentence)
    _tell_left_out(report, request)
    if report.level_doubt:
        say(f"{report.level_doubt} --level YAW,PITCH,ROLL turns it.")
    known = {row.reason for row in report.frames}
    for sentence in dict.fromkeys(tie.sentence for tie in report.ties if tie.sentence and tie.sentence not in known):
        say(sentence)
    _tell_suspects(report.suspects or ())
    if end.report_error is not None:
        say(f"{end.report_error.sentence} The picture is there: {args.out}.")
        return BAD_INPUT
    try:
        give(f"{args.out}\n")
    except LanternError as error:
        say(f"{error.sentence} The picture is there: {args.out}.")
        return BAD_INPUT
    return DONE


def _tell_left_out(report: Report, request: JoinRequest) -> None:
    """Each file that is not in the picture and why; a line for each other run of the card."""
    runs: dict[str, list[str]] = {}
    for aside in request.asides:
        if aside.run:
            runs.setdefault(aside.reason, []).append(aside.path.name)
    for row in report.frames:
        as_it_should_be = row.role in ("twin", "bracket")  # these are many
        if row.reason and not as_it_should_be and row.reason not in runs:
            say(f"left out {row.file}: {row.reason}")
    for reason, names in runs.items():
        which = names[0] if len(names) == 1 else f"{units.counted(len(names), 'file')}, {names[0]} to {names[-1]}"
        say(f"left out {which}: {reason}")


def _tell_suspects(suspects: Sequence[SuspectRow]) -> None:
    """The places to look at first; all of them are in the report."""
    # what is invented the rim's own sentence tells
    likely = [s for s in suspects if s.suspicion >= _LIKELY and s.kind != "invented"]
    for s in likely[:_TOLD]:
        frames = f" ({', '.join(s.frames[:2])})" if s.frames else ""
        say(f"look at {s.u:.0f}, {s.v:.0f}: {s.sentence}{frames}")
    if len(likely) > _TOLD:
        say(f"and at {len(likely) - _TOLD} places more: --report tells them all")


def _request(args: argparse.Namespace, progress: Progress) -> tuple[JoinRequest, ReadAhead | None]:
    """The arguments as a request, and what was read whole to group the frames.

    Raises
    ------
    InputError
        An argument cannot be.
    """
    if args.width is not None and not 16 <= args.width <= 1_000_000:
        raise InputError(f"A width of {args.width} pixels makes no picture", remedy="Give 16 to 1000000")
    if args.memory is not None and not 0.1 <= args.memory <= 100_000:
        raise InputError(f"{args.memory:g} GiB of memory is not possible", remedy="Give 0.1 or more")
    outing = _outing(args)
    crop, ratio = crop_of(args.crop)
    check_target(args.out)
    if args.light and format_of(args.out).light == "never":
        raise InputError("Light as floats needs .tif or .exr", where=str(args.out), remedy="Name the picture so")
    if args.report is not None:
        check_writable(args.report)
    outputs = [p for p in (args.out, args.report) if p is not None]
    check_outputs(outputs, _inputs(args))
    if outing is not None:
        request = request_beside(outing, args.frames[0], args.out, args.report)
        return replace(request, fresh=args.fresh), None
    memory = None if args.memory is None else round(args.memory * 2**30)
    found, asides, ahead = _positions(args, progress, JoinOptions(memory_bytes=memory).memory() // 4)
    frames = gather([f.path for f in found])
    names = frames.names
    prior = prior_for(frames.names, read_prior(args.prior)) if args.prior else [None] * len(frames)
    masks = _masks(args.masks, names)
    lens = known_lens_of(args.lens, frames)
    development = read_development(args.develop) if args.develop else Development()
    if args.film is not None:
        development = replace(development, film=measure_film([f.path for f in found], args.film, progress))
    request = JoinRequest(
        tuple(
            replace(frame, id=name, prior=known, mask=masks.get(name))
            for frame, known, name in zip(found, prior, names)
        ),
        args.out,
        JoinOptions(
            projection=args.projection,
            width_px=args.width,
            crop=crop != "none",
            ratio=ratio,
            turn_deg=angles_of("turn", args.turn),
            distance=args.distance,
            straighten=args.straighten / 100,
            eased=read_eased(args.ease) if args.ease else (),
            rim="fill-all" if args.rim == "fill" and args.invent_anything else args.rim,
            level=level_of(args.level),
            profile=profile_of(args.profile),
            memory_bytes=memory,
            lens=lens,
            lens_shift=args.shift_lens,
            points=read_points(args.points, frames) if args.points else (),
            cut_links=tuple((named(a, names), named(b, names)) for a, b in args.cut or ()),
            off=tuple(named(f, names) for f in args.off or ()),
            put_back=tuple(named(f, names) for f in args.use or ()),
            masks=tuple(MaskRef(name, sha256_of(file)) for name, file in masks.items()),
            brackets=args.brackets,
            repeats=args.repeats,
            twins=args.twins,
            development=development,
            jpeg_quality=args.quality,
        ),
        report=args.report,
        checkpoints=checkpoints_folder(),
        fresh=args.fresh,
        asides=asides,
        light=args.light,
    )
    return request, None if any(f.others for f in found) else ahead


def _outing(args: argparse.Namespace) -> Outing | None:
    """The outing that is named instead of frames.

    Raises
    ------
    InputError
        It cannot be read, or choices are given beside it.
    """
    if len(args.frames) != 1 or not (args.frames[0] / document.DOCUMENT).is_file():
        return None
    for name, value in vars(args).items():
        if name not in _BESIDE_OUTING and value != args.default_of(name):
            raise InputError(
                f"An outing is joined by its own choices: --{name.replace('_', '-')} cannot be given beside it",
                remedy="Change it in the outing, or give its frames",
            )
    return document.load(args.frames[0])


def _positions(
    args: argparse.Namespace, progress: Progress, keep_bytes: int
) -> tuple[list[JoinFrame], tuple[Aside, ...], ReadAhead | None]:
    """What stands for each place, with its other exposures, what is no part of the picture, and what was read whole for it.

    Raises
    ------
    InputError
        A folder is empty, a file is given twice or cannot be read.
    """
    if args.only_run and args.no_groups:
        raise InputError("--no-groups looks for no runs", remedy="Leave it or --run away")
    paths, too_small = without_tiny(files_in(args.frames))
    asides = [Aside(path, "single", TOO_SMALL) for path in too_small]
    circles = circles_of(paths[0]) if len(paths) == 1 and paths[0].is_file() else None
    if circles is not None:
        return [JoinFrame(half) for half in split(paths[0], circles, prepared_folder())], tuple(asides), None
    found = (
        Grouped(tuple(paths))
        if args.no_groups
        else grouped(
            paths,
            progress,
            prefer_raw=args.twins == "raw",
            repeats=args.repeats == "stack",
            runs=bool(args.only_run),
            keep_bytes=keep_bytes,
        )
    )
    if found.positions is None or found.card is None:
        return [JoinFrame(path) for path in found.files], tuple(asides), found.ahead
    chosen = {p.base.path for p in found.positions}
    if len(found.card.runs) > 1 or args.only_run:
        chosen, of_others = _of_one_run(found.card, args.only_run, progress)
        asides += of_others
    asides += [Aside(look.path, "bookend", "A bookend: hand or cap before the lens.") for look in found.card.bookends]
    asides += [Aside(other, "twin", f"The same exposure as {used.name}.") for used, other in found.card.twins]
    frames = []
    for position in found.positions:
        if position.base.path not in chosen:
            continue
        beside = [
            (look.path, ev) for i, (look, ev) in enumerate(zip(position.looks, position.ev)) if i != position.chosen
        ]
        kind = position.role
        frames.append(
            JoinFrame(
                position.base.path,
                others=tuple(BracketExposure(path, ev, kind) for path, ev in beside if kind != "single"),
            )
        )
    return frames, tuple(asides), found.ahead


def _of_one_run(card: Card, name: str, progress: Progress) -> tuple[set[Path], list[Aside]]:
    """The frames that stand for the positions of the run that is joined, and the files of the others with the reason.

    Raises
    ------
    InputError
        No run has that name.
    """
    from idle_lantern.core.audit.one_run import one_run  # loaded for cards of several runs alone

    one = one_run(card, prepared_folder(), progress, name=name)
    asides = [
        Aside(look.path, "base" if i == p.chosen and len(p.looks) > 1 else p.role, run.reason, run.name)
        for run in one.others
        for p in run.positions
        for i, look in enumerate(p.looks)
    ]
    return {p.base.path for p in one.positions}, asides


def _inputs(args: argparse.Namespace) -> list[Path]:
    """Every file that the command reads."""
    painted = list(args.masks.glob("*")) if args.masks is not None and args.masks.is_dir() else []
    frames = [p for path in args.frames for p in (sorted(path.iterdir()) if path.is_dir() else [path])]
    told = [p for p in (args.prior, args.develop, args.points, args.ease) if p]
    told += [Path(args.profile)] if args.profile not in ("keep", "srgb", "p3") else []
    told += [Path(args.lens)] if args.lens.lower().endswith(".json") else []
    return [*frames, *told, *painted]


def _failed(args: argparse.Namespace, error: LanternError, report: Report) -> int:
    """Tell why, and write it where a report was asked for and nothing else would be lost by it."""
    say(error.sentence)
    if args.report is not None:
        try:
            check_writable(args.report)
            check_outputs([args.out, args.report], _inputs(args))
            write_text(args.report, report.to_json().decode())
        except LanternError as second:
            if second.sentence != error.sentence:
                say(second.sentence)
    return CANNOT if isinstance(error, JoinError) else BAD_INPUT
