"""``idle-lantern deliver``: a joined picture as a file to hand on, its nadir covered and what is invented told below, as asked."""

from __future__ import annotations

import argparse
from pathlib import Path

from idle_lantern.cli.known import known_from
from idle_lantern.cli.progress import write_by
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.figures import figure
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.deliver.formats import format_of
from idle_lantern.core.deliver.job import CoverNadir, DeliverJob, OnPaper, Step, TellInvented
from idle_lantern.core.deliver.kinds import KINDS, PRINT, SPHERE, SPHERE_PAGE, Kind, kind_named
from idle_lantern.core.deliver.known import Known, shows_nadir
from idle_lantern.core.deliver.service import Delivery, deliver
from idle_lantern.core.finish.recipe import Recipe, read_recipe
from idle_lantern.core.finish.recipe_files import mask_files, masks_beside
from idle_lantern.core.finish.tile_look import no_assets
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.tiled import open_picture

#: Arguments that only prints have, as fields of their paper.
_PAPER_ARGUMENTS = ("paper", "border_mm", "bleed_mm", "wrap_mm", "sheets", "overlap_mm", "width_mm")
STAGES = {"write": 1.0}


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    plain = DeliverJob()
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
    parser.add_argument("--quality", type=int, default=plain.quality, help="of a JPEG, 40 to 100 (default 92)")
    parser.add_argument(
        "--dpi", type=float, default=plain.dpi, help="the print resolution noted in the file (default 300)"
    )
    parser.add_argument(
        "--profile",
        default="keep",
        metavar="keep|srgb|p3|FILE.icc",
        help="colours of the file (default: the picture's)",
    )
    parser.add_argument(
        "--long-side", type=int, metavar="PX", help="the longer side of the file, where it is to be smaller"
    )
    parser.add_argument(
        "--light", action="store_true", help="with .tif: linear light as 32-bit floats, beyond white too"
    )
    parser.add_argument(
        "--report", type=Path, metavar="REPORT.json", help="the report of its join, which tells where things lie in it"
    )
    parser.add_argument("--recipe", type=Path, metavar="RECIPE.json", help="finish it by these steps first")
    parser.add_argument(
        "--nadir", metavar="blur|MARK.png", help="cover what stands under the tripod, by a blur or a mark of your own"
    )
    parser.add_argument(
        "--nadir-deg",
        type=float,
        default=CoverNadir().radius_deg,
        metavar="DEG",
        help="how far from straight down it is covered (default 12)",
    )
    parser.add_argument(
        "--sharpen-for",
        choices=["none", "screen", "glossy", "matte"],
        default=plain.sharpen_for,
        help="sharpen by what that will blur, at the size that is written and --dpi (default none)",
    )
    parser.add_argument(
        "--heading",
        type=float,
        metavar="DEG",
        help="with --as sphere and sphere-page: compass bearing of azimuth 0, the sphere's middle",
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
        "--sheets", action="store_true", help="on as many sheets as it takes, by --dpi or --print-width"
    )
    printed.add_argument(
        "--overlap", dest="overlap_mm", type=float, metavar="MM", help="of neighbouring sheets (default 10)"
    )
    printed.add_argument(
        "--print-width", dest="width_mm", type=float, metavar="MM", help="how wide the picture is printed"
    )
    parser.add_argument("--tell-invented", action="store_true", help="tell in a margin below what of it is invented")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Carry the command out; returns the exit code."""
    return write_by(args.out, STAGES, lambda progress: _deliver(args, progress))


def _deliver(args: argparse.Namespace, progress: Progress) -> Path:
    kind = kind_named(args.kind) if args.kind else kind_named(format_of(args.out).name)
    if kind.format is not None and kind.name == kind.format.name and args.out.suffix.lower() not in kind.endings:
        raise InputError(f"A {kind.name} is not named so", where=str(args.out), remedy=f"End it in {kind.ending}")
    _check_asked(args, kind)
    if args.report is None and (args.nadir or args.tell_invented):
        asks = "--nadir" if args.nadir else "--tell-invented"
        raise InputError(f"{asks} needs the report of the join", remedy="Give --report REPORT.json")
    files = {sha256_of(path): path for path in _named_files(args)}
    job = _job(args, kind.name, {path: name for name, path in files.items()})
    recipe, masks = (
        (Recipe(), no_assets) if args.recipe is None else (read_recipe(args.recipe), masks_beside(args.recipe))
    )
    read = [path for path in (args.report, args.recipe) if path is not None]
    inputs = [args.picture, *files.values(), *read, *mask_files(recipe, masks)]
    picture = open_picture(args.picture)
    box = Rectangle(0, 0, *picture.sizes[0])
    known = Known() if args.report is None else known_from(args.report, box)
    if job.nadir is not None and (known.canvas is None or not shows_nadir(known.canvas, box.width, box.height)):
        raise InputError("This picture does not reach straight down", remedy="Leave --nadir away")
    delivery = Delivery(job, picture, known, lambda asset, _ending: files[asset], recipe, masks)
    return deliver(delivery, args.out, box, inputs=inputs, progress=progress)


def _check_asked(args: argparse.Namespace, kind: Kind) -> None:
    """Refuse what belongs to another kind; raises InputError."""
    if args.heading is not None and kind not in (SPHERE, SPHERE_PAGE):
        raise InputError("--heading is told with a sphere only", remedy="Add --as sphere, or leave it away")
    if kind != PRINT:
        given = [name for name in _PAPER_ARGUMENTS if getattr(args, name) not in (None, False)]
        if given:
            raise InputError(f"--{given[0].replace('_', '-')} is for prints", remedy="Add --as print, or leave it away")


def _named_files(args: argparse.Namespace) -> list[Path]:
    """Files that the job names as assets."""
    found = [] if args.nadir in (None, "blur") else [Path(args.nadir)]
    return found + ([] if args.profile in ("keep", "srgb", "p3") else [Path(args.profile)])


def _job(args: argparse.Namespace, kind: str, assets: dict[Path, str]) -> DeliverJob:
    """The arguments as a job.

    Raises
    ------
    InputError
        A figure lies outside its limits.
    """
    figure(DeliverJob, "quality").checked(args.quality)
    figure(DeliverJob, "dpi").checked(args.dpi)
    figure(CoverNadir, "radius_deg").checked(args.nadir_deg)
    if args.long_side is not None:
        figure(DeliverJob, "long_side_px").checked(args.long_side)
    steps: list[Step] = []
    if args.nadir == "blur":
        steps.append(CoverNadir("blur", args.nadir_deg))
    elif args.nadir is not None:
        steps.append(CoverNadir("mark", args.nadir_deg, assets[Path(args.nadir)]))
    if args.tell_invented:
        steps.append(TellInvented())
    if args.heading is not None:
        figure(DeliverJob, "heading_deg").checked(args.heading)
    given = {name: getattr(args, name) for name in _PAPER_ARGUMENTS if getattr(args, name) is not None}
    for name, value in given.items():
        if isinstance(value, float):
            figure(OnPaper, name).checked(value)
    profile = args.profile if args.profile in ("keep", "srgb", "p3") else assets[Path(args.profile)]
    return DeliverJob(
        kind,  # type: ignore[arg-type]
        args.quality,
        args.dpi,
        profile,
        args.long_side,
        args.light,
        tuple(steps),
        args.sharpen_for,
        args.heading,
        OnPaper(**given),
    )
