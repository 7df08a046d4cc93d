"""``idle-lantern tour``: spheres of one place as one page that steps from one to the next.

SPEC.json names the places: {"schema": "idle-lantern/tour/1", "places": [{"picture": "yard.jpg", "name": "Yard", "at_m": [east, north]}, ...]}.
A place may have a note, the report of its join, north_deg (the bearing of its azimuth 0) or sun (a pixel and a time), and instead of
at_m its latlon; else the file's own position is taken, or that of a GPX track at the time it was taken.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from idle_lantern.cli.ends import say
from idle_lantern.cli.progress import write_by
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.scouting.tour_page import check_page, laid_out, write_tour
from idle_lantern.core.scouting.tour_spec import read_spec

STAGES = {"write": 1.0}


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser("tour", help="spheres of one place as one page", description=__doc__)
    parser.add_argument("spec", metavar="SPEC.json", type=Path, help="the places of the tour")
    parser.add_argument("--out", required=True, type=Path, metavar="PAGE.html", help="the page to write")
    parser.add_argument("--long-side", type=int, metavar="PX", help="the longer side of each sphere, where smaller")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Carry the command out; returns the exit code."""
    return write_by(args.out, STAGES, lambda progress: _tour(args, progress))


def _tour(args: argparse.Namespace, progress: Progress) -> Path:
    spec, folder = read_spec(args.spec), args.spec.parent
    check_outputs([args.out], [args.spec])
    check_page(spec, folder, args.out)
    laid = laid_out(spec, folder)
    for remark in laid.remarks:
        say(f"  {remark}")
    return write_tour(spec, folder, laid, args.out, long_side_px=args.long_side, progress=progress)
