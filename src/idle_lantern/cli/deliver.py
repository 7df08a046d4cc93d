"""``idle-lantern deliver``: a joined picture as a file to hand on, its nadir covered and what is invented told below, as asked."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from idle_lantern.cli.ends import BAD_INPUT, DONE, give, say, stopping
from idle_lantern.cli.progress import TerminalProgress
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.base.strict_json import read_json
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.margin import invented_in, told_below
from idle_lantern.core.deliver.nadir_patch import RADIUS_DEG, NadirCovered, read_mark, shows_nadir
from idle_lantern.core.deliver.targets import WriteOptions, check_target
from idle_lantern.core.deliver.writing import deliver
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.report_reading import canvas_of
from idle_lantern.core.pictures.source import PictureSource
from idle_lantern.core.pictures.tiled import open_picture

STAGES = {"write": 1.0}
_ENDINGS = {"jpeg": (".jpg", ".jpeg"), "png": (".png",), "tiff": (".tif", ".tiff")}


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser("deliver", help="write a joined picture to hand on", description=__doc__)
    parser.add_argument("picture", metavar="IN", type=Path, help="the joined picture")
    parser.add_argument("--out", required=True, type=Path, metavar="PATH", help="the file to write")
    parser.add_argument("--as", dest="kind", choices=tuple(_ENDINGS), help="its format; default: by the ending of PATH")
    parser.add_argument("--quality", type=int, default=92, help="of a JPEG, 40 to 100 (default 92)")
    parser.add_argument("--dpi", type=float, default=300.0, help="the print resolution noted in the file (default 300)")
    parser.add_argument(
        "--report", type=Path, metavar="REPORT.json", help="the report of its join, which tells where things lie in it"
    )
    parser.add_argument(
        "--nadir", metavar="blur|MARK.png", help="cover what stands under the tripod, by a blur or a mark of your own"
    )
    parser.add_argument(
        "--nadir-deg",
        type=float,
        default=12.0,
        metavar="DEG",
        help="how far from straight down it is covered (default 12)",
    )
    parser.add_argument("--tell-invented", action="store_true", help="tell in a margin below what of it is invented")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Carry the command out; returns the exit code."""
    progress = TerminalProgress(STAGES)
    try:
        with stopping(progress.ask_to_stop):
            _deliver(args, progress)
        give(f"{args.out}\n")
    except LanternError as error:
        say(error.sentence)
        return BAD_INPUT
    return DONE


def _deliver(args: argparse.Namespace, progress: TerminalProgress) -> None:
    if not 40 <= args.quality <= 100:
        raise InputError(
            f"A quality of {args.quality} lies outside 40 to 100", remedy="92 is hard to tell from the original"
        )
    if not 20 <= args.dpi <= 2400:
        raise InputError(f"{args.dpi:g} dpi lies outside 20 to 2400", remedy="300 is usual for prints held in the hand")
    if not RADIUS_DEG[0] <= args.nadir_deg <= RADIUS_DEG[1]:
        raise InputError(f"{args.nadir_deg:g} degrees lie outside 1 to 45", remedy="A tripod head covers 8 to 20")
    if args.kind is not None and args.out.suffix.lower() not in _ENDINGS[args.kind]:
        raise InputError(
            f"A {args.kind} is not named so", where=str(args.out), remedy=f"End it in {_ENDINGS[args.kind][0]}"
        )
    if args.report is None and (args.nadir or args.tell_invented):
        asks = "--nadir" if args.nadir else "--tell-invented"
        raise InputError(f"{asks} needs the report of the join", remedy="Give --report REPORT.json")
    mark = None if args.nadir in (None, "blur") else Path(args.nadir)
    check_outputs([args.out], [p for p in (args.picture, args.report, mark) if p is not None])
    picture = open_picture(args.picture)
    width, height = picture.sizes[0]
    check_target(args.out, width, height)
    box = Rectangle(0, 0, width, height)
    if args.report is not None:
        report, canvas = _report(args.report, width, height)
        picture = _covered(picture, canvas, args.nadir, mark, args.nadir_deg)
        if args.tell_invented:
            areas, share = invented_in(report.get("suspects") or (), box)
            picture, box = told_below(picture, box, areas, share)
    deliver(picture, args.out, WriteOptions(jpeg_quality=args.quality, dpi=args.dpi), box=box, progress=progress)


def _report(path: Path, width: int, height: int) -> tuple[dict[str, Any], Canvas]:
    """The report and the canvas it tells, of a picture of that size."""
    remedy = "Give the report that was written with this picture"
    report = read_json(path, remedy=remedy)
    try:
        canvas = canvas_of(report)
    except (KeyError, TypeError, ValueError) as error:
        raise InputError("Is no report of a join", where=str(path), remedy=remedy) from error
    if (canvas.width, canvas.height) != (width, height):
        told = f"{canvas.width} x {canvas.height}"
        raise InputError(
            f"Is of a picture of {told} pixels, and this has {width} x {height}", where=str(path), remedy=remedy
        )
    return report, canvas


def _covered(
    picture: PictureSource, canvas: Canvas, how: str | None, mark: Path | None, radius_deg: float
) -> PictureSource:
    if how is None:
        return picture
    if not shows_nadir(canvas, canvas.width, canvas.height):
        raise InputError("This picture does not reach straight down", remedy="Leave --nadir away")
    return NadirCovered(
        picture, canvas, "blur" if mark is None else "mark", radius_deg, None if mark is None else read_mark(mark)
    )
