"""``idle-lantern finish``: a picture developed by a recipe of steps into a new file; the picture itself is never touched."""

from __future__ import annotations

import argparse
import shutil
from pathlib import Path

from idle_lantern.cli.progress import write_by
from idle_lantern.cli.schedulers import add_scheduler, runner_at
from idle_lantern.core.base.atomic import replacing
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.figures import figures
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.deliver.formats import check_target, format_of
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write_source
from idle_lantern.core.finish.finishing import finished
from idle_lantern.core.finish.recipe import read_recipe
from idle_lantern.core.finish.recipe_files import files_beside, paths_of
from idle_lantern.core.finish.registry import STEPS, name_of
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.known_picture import known_from, metadata_of
from idle_lantern.core.pictures.tiled import open_picture

STAGES = {"write": 1.0}


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser(
        "finish",
        help="develop a picture by a recipe",
        description=__doc__,
        epilog=f"Steps that a recipe can hold: {_told_steps()}",
    )
    parser.add_argument("picture", metavar="IN", type=Path, help="the picture")
    parser.add_argument("--recipe", required=True, type=Path, metavar="RECIPE.json", help="the steps, in their order")
    parser.add_argument("--out", required=True, type=Path, metavar="OUT", help="the file to write")
    parser.add_argument(
        "--report", type=Path, metavar="REPORT.json", help="the report of its join, for masks in directions"
    )
    parser.add_argument("--quality", type=int, default=WriteOptions().jpeg_quality, help="of a JPEG (default 92)")
    add_scheduler(parser)
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Carry the command out; returns the exit code."""
    return write_by(args.out, STAGES, lambda progress: _finish(args, progress))


def _finish(args: argparse.Namespace, progress: Progress) -> None:
    recipe = read_recipe(args.recipe)
    files = files_beside(args.recipe)
    inputs = [args.picture, args.recipe, *([] if args.report is None else [args.report]), *paths_of(recipe, files)]
    check_outputs([args.out], inputs)
    kind = format_of(args.out)
    if not 40 <= args.quality <= 100:
        raise InputError(f"--quality {args.quality} lies outside 40 to 100", remedy="92 is usual")
    picture = open_picture(args.picture)
    check_target(args.out, *picture.sizes[0])
    canvas = None if args.report is None else known_from(args.report, Rectangle(0, 0, *picture.sizes[0])).canvas
    made = finished(picture, recipe, Ground(picture.space, picture.sizes[0], canvas, files))
    if made is picture and args.picture.suffix.lower() in kind.endings:
        _copy(args.picture, args.out)  # nothing is changed, so nothing is packed anew
        return
    options = WriteOptions(args.quality, metadata=metadata_of(args.picture), light=picture.space.is_linear)
    with runner_at(args.scheduler) as runner:
        write_source(made, args.out, options, progress, runner)


def _copy(source: Path, target: Path) -> None:
    try:
        with replacing(target) as part:
            shutil.copyfile(source, part)
    except OSError as error:
        raise InputError(f"Cannot be copied ({error.strerror})", where=str(target)) from error


def _told_steps() -> str:
    return "; ".join(
        f"{name_of(kind)} ({', '.join(f.name for f in figures(kind)) or kind.title.lower()})" for kind in STEPS
    )
