"""``idle-lantern deliver``: a joined picture as a file to hand on, its nadir covered and what is invented told below, as asked."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import msgspec

from idle_lantern.cli.ends import say
from idle_lantern.cli.progress import write_by
from idle_lantern.cli.schedulers import add_scheduler, runner_at
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.figures import figure, figures
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.deliver.delivery import Delivery
from idle_lantern.core.deliver.formats import FORMATS, format_of
from idle_lantern.core.deliver.job import CoverNadir, DeliverJob, OnPaper, Step, TellInvented
from idle_lantern.core.deliver.kinds import KINDS, LAYERS, PRINT, SPHERE, SPHERE_PAGE, TILES_PAGE, Kind, kind_named
from idle_lantern.core.deliver.known import Known, shows_nadir
from idle_lantern.core.deliver.layers import FrameLayer
from idle_lantern.core.deliver.presets import preset_named, presets_folder
from idle_lantern.core.deliver.service import deliver
from idle_lantern.core.deliver.zoom_page import read_captions
from idle_lantern.core.finish.recipe import Recipe, read_recipe
from idle_lantern.core.finish.recipe_files import files_beside, paths_of
from idle_lantern.core.finish.tile_look import no_assets
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.known_picture import known_from, metadata_of
from idle_lantern.core.pictures.tiled import open_picture

#: Arguments that only prints have, as fields of their paper.
_PAPER_ARGUMENTS = ("paper", "border_mm", "bleed_mm", "wrap_mm", "sheets", "strip", "overlap_mm", "width_mm")
#: Kinds that are told by their ending.
_FILES = tuple(f.name for f in FORMATS)
#: Arguments that are fields of the job by their own names.
_JOB_ARGUMENTS = ("quality", "dpi", "long_side_px", "light", "sharpen_for", "heading_deg")
STAGES = {"write": 1.0}


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser("deliver", help="write a joined picture to hand on", description=__doc__)
    parser.add_argument("picture", metavar="IN", type=Path, help="the joined picture")
    parser.add_argument("--out", required=True, type=Path, metavar="PATH", help="the file to write")
    parser.add_argument(
        "--as",
        dest="kind",
        choices=[k.name for k in KINDS],
        help="what to write; default: by the ending of PATH. "
        + "; ".join(f"{k.name}: {k.title}" for k in KINDS if k.format is None or k.name != k.format.name),
    )
    parser.add_argument(
        "--preset",
        metavar="NAME",
        help="begin with one of those that ship (web, archive, print, sphere), of your own, or in a file; what is given beside it goes before",
    )
    parser.add_argument("--quality", type=int, help="of a JPEG, WebP, AVIF or JPEG XL, 40 to 100 (default 92)")
    parser.add_argument("--dpi", type=float, help="the print resolution noted in the file (default 300)")
    parser.add_argument(
        "--profile",
        metavar="keep|srgb|p3|FILE.icc",
        help="colours of the file (default: the picture's)",
    )
    parser.add_argument(
        "--long-side",
        dest="long_side_px",
        type=int,
        metavar="PX",
        help="the longer side of the file, where it is to be smaller",
    )
    parser.add_argument(
        "--light", action="store_true", default=None, help="with .tif: linear light as 32-bit floats, beyond white too"
    )
    parser.add_argument(
        "--report", type=Path, metavar="REPORT.json", help="the report of its join, which tells where things lie in it"
    )
    parser.add_argument("--author", metavar="NAME", help="whose picture it is, as the file says")
    parser.add_argument("--rights", metavar="WORDS", help="who may do what with it, as the file says")
    parser.add_argument("--recipe", type=Path, metavar="RECIPE.json", help="finish it by these steps first")
    parser.add_argument(
        "--nadir", metavar="blur|MARK.png", help="cover what stands under the tripod, by a blur or a mark of your own"
    )
    parser.add_argument(
        "--nadir-deg",
        type=float,
        metavar="DEG",
        help="how far from straight down it is covered (default 12)",
    )
    parser.add_argument(
        "--sharpen-for",
        choices=["none", "screen", "glossy", "matte"],
        help="sharpen by what that will blur, at the size that is written and --dpi (default none)",
    )
    parser.add_argument(
        "--heading",
        dest="heading_deg",
        type=float,
        metavar="DEG",
        help="with --as sphere and sphere-page: compass bearing of azimuth 0, the sphere's middle",
    )
    parser.add_argument(
        "--frames",
        type=Path,
        metavar="FOLDER",
        help="with --as layers: where the frames lie (default: beside the report)",
    )
    parser.add_argument(
        "--captions",
        type=Path,
        metavar="FILE.json",
        help='with --as tiles-page: words on it, as [{"x": 1200, "y": 340, "text": "Salt house"}] in pixels of IN',
    )
    printed = parser.add_argument_group("with --as print")
    printed.add_argument(
        "--paper",
        metavar="NAME|WxH|roll:MM|own",
        help="A3, 420x297 (mm), roll:610, or own: cut to the picture (default A3)",
    )
    printed.add_argument("--border", dest="border_mm", type=float, metavar="MM", help="white about it (default 10)")
    printed.add_argument(
        "--bleed", dest="bleed_mm", type=float, metavar="MM", help="beyond the cut, mirrored (default 0)"
    )
    printed.add_argument(
        "--wrap", dest="wrap_mm", type=float, metavar="MM", help="round the edges of a frame, mirrored (default 0)"
    )
    printed.add_argument(
        "--sheets", action="store_true", default=None, help="on as many sheets as it takes, by --dpi or --print-width"
    )
    printed.add_argument(
        "--strip", action="store_true", default=None, help="only a test strip: the most demanding places of that print"
    )
    parser.add_argument(
        "--overlap", dest="overlap_mm", type=float, metavar="MM", help="of neighbouring sheets (default 10)"
    )
    printed.add_argument(
        "--print-width", dest="width_mm", type=float, metavar="MM", help="how wide the picture is printed"
    )
    parser.add_argument("--tell-invented", action="store_true", help="tell in a margin below what of it is invented")
    add_scheduler(parser)
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Carry the command out; returns the exit code."""
    return write_by(args.out, STAGES, lambda progress: _deliver(args, progress))


def _deliver(args: argparse.Namespace, progress: Progress) -> Path:
    plain = DeliverJob() if args.preset is None else preset_named(args.preset, presets_folder()).job
    kind = _kind(args, plain)
    if kind.format is not None and kind.name == kind.format.name and args.out.suffix.lower() not in kind.endings:
        raise InputError(f"A {kind.name} is not named so", where=str(args.out), remedy=f"End it in {kind.ending}")
    _check_asked(args, kind)
    if args.report is None and (args.nadir or args.tell_invented):
        asks = "--nadir" if args.nadir else "--tell-invented"
        raise InputError(f"{asks} needs the report of the join", remedy="Give --report REPORT.json")
    files = {sha256_of(path): path for path in _named_files(args)}
    job = _job(args, plain, kind.name, {path: name for name, path in files.items()})
    recipe, beside = (
        (Recipe(), no_assets) if args.recipe is None else (read_recipe(args.recipe), files_beside(args.recipe))
    )
    read = [path for path in (args.report, args.recipe, args.captions) if path is not None]
    inputs = [args.picture, *files.values(), *read, *paths_of(recipe, beside)]
    picture = open_picture(args.picture)
    box = Rectangle(0, 0, *picture.sizes[0])
    known = Known() if args.report is None else known_from(args.report, box)
    if job.nadir is not None and (known.canvas is None or not shows_nadir(known.canvas, box.width, box.height)):
        raise InputError("This picture does not reach straight down", remedy="Leave --nadir away")
    delivery = Delivery(
        job,
        picture,
        known,
        lambda asset, _ending: files[asset],
        recipe,
        beside,
        frames=lambda: _frame_layers(args.picture, args.report, args.frames),
    )
    if args.captions is not None:
        delivery = replace(delivery, job=replace(job, captions=True), captions=read_captions(args.captions))
    told = metadata_of(args.picture)
    told = replace(told, author=args.author or told.author, rights=args.rights or told.rights)
    delivery = replace(delivery, told=told)
    with runner_at(args.scheduler) as runner:
        written = deliver(delivery, args.out, box, inputs=inputs, progress=progress, runner=runner)
    for line in written.proof:
        say(f"  {line.text}")
    return written.path


def _frame_layers(picture: Path, report: Path | None, folder: Path | None) -> Sequence[FrameLayer]:
    """The frames of the join as layers; none where no report tells of them.

    Raises
    ------
    InputError
        A frame is not found, neither in ``folder`` nor beside the picture or its report.
    """
    if report is None:
        return ()
    # the engine, which other deliveries do not need
    from idle_lantern.core.join.frame_layers import frame_layers
    from idle_lantern.core.join.reopening import load_result

    places = [folder] if folder is not None else [report.parent, picture.parent]
    missing: list[str] = []

    def path_of(frame: str) -> Path | None:
        found = next((p for place in places if (p := place / frame).is_file()), None)
        if found is None:
            missing.append(frame)
        return found

    joined = load_result(picture, report, path_of)
    if missing:
        raise InputError(
            f"{len(missing)} frames of the join are not there, such as {missing[0]}",
            where=str(places[0]),
            remedy="Give their folder with --frames",
        )
    return frame_layers(joined)


def _kind(args: argparse.Namespace, plain: DeliverJob) -> Kind:
    """What is asked for: by name, else as the preset has it, else by the ending; raises InputError."""
    if args.kind:
        return kind_named(args.kind)
    if args.preset is not None and kind_named(plain.format).name not in _FILES:
        return kind_named(plain.format)
    return kind_named(format_of(args.out).name)


def _check_asked(args: argparse.Namespace, kind: Kind) -> None:
    """Refuse what belongs to another kind; raises InputError."""
    if args.heading_deg is not None and kind not in (SPHERE, SPHERE_PAGE):
        raise InputError("--heading is told with a sphere only", remedy="Add --as sphere, or leave it away")
    if args.captions is not None and kind != TILES_PAGE:
        raise InputError("--captions is for pages to zoom into", remedy="Add --as tiles-page, or leave it away")
    if args.frames is not None and kind != LAYERS:
        raise InputError("--frames is for layers", remedy="Add --as layers, or leave it away")
    if kind != PRINT:
        given = [name for name in _PAPER_ARGUMENTS if getattr(args, name) is not None]
        if given:
            raise InputError(f"--{given[0].replace('_', '-')} is for prints", remedy="Add --as print, or leave it away")


def _named_files(args: argparse.Namespace) -> list[Path]:
    """Files that the job names as assets."""
    found = [] if args.nadir in (None, "blur") else [Path(args.nadir)]
    return found + ([] if args.profile in (None, "keep", "srgb", "p3") else [Path(args.profile)])


def _job(args: argparse.Namespace, plain: DeliverJob, kind: str, assets: dict[Path, str]) -> DeliverJob:
    """The arguments as a job; ``plain`` is what holds where nothing is given.

    Raises
    ------
    InputError
        A figure lies outside its limits.
    """
    given = {name: getattr(args, name) for name in _JOB_ARGUMENTS if getattr(args, name) is not None}
    paper = {name: getattr(args, name) for name in _PAPER_ARGUMENTS if getattr(args, name) is not None}
    for of, values in ((DeliverJob, given), (OnPaper, paper)):
        for known in figures(of):
            if known.name in values:
                known.checked(values[known.name])
    if args.profile is not None:
        own = args.profile not in ("keep", "srgb", "p3")
        given["profile"] = assets[Path(args.profile)] if own else args.profile
    operations = tuple(_operations(args, plain, assets))
    on_paper = msgspec.structs.replace(plain.on_paper, **paper)
    return replace(plain, format=kind, operations=operations, on_paper=on_paper, **given)  # type: ignore[arg-type]


def _operations(args: argparse.Namespace, plain: DeliverJob, assets: dict[Path, str]) -> Iterator[Step]:
    cover = plain.nadir
    if args.nadir is not None:
        mark = None if args.nadir == "blur" else assets[Path(args.nadir)]
        cover = CoverNadir("blur" if mark is None else "mark", CoverNadir().radius_deg, mark)
    if cover is not None:
        radius = cover.radius_deg if args.nadir_deg is None else args.nadir_deg
        yield msgspec.structs.replace(cover, radius_deg=figure(CoverNadir, "radius_deg").checked(radius))
    if args.tell_invented or plain.tells_invented:
        yield TellInvented()
