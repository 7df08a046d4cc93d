"""``idle-lantern tour``: spheres of one place as one page that steps from one to the next.

SPEC.json names the places: {"schema": "idle-lantern/tour/1", "places": [{"picture": "yard.jpg", "name": "Yard", "at_m": [east, north]}, ...]}.
A place may have a note, the report of its join, north_deg (the bearing of its azimuth 0) or sun (a pixel and a time), and instead of
at_m its latlon; else the file's own position is taken, or that of a GPX track at the time it was taken.
"""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path

from idle_lantern.cli.ends import say
from idle_lantern.cli.known import known_from
from idle_lantern.cli.progress import write_by
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.deliver.ball import Ball
from idle_lantern.core.deliver.delivery import Delivery, ball_of
from idle_lantern.core.deliver.job import DeliverJob
from idle_lantern.core.deliver.known import Known
from idle_lantern.core.deliver.look_page import PagePlace, write_look_page
from idle_lantern.core.deliver.tour import links_of, middle_of, seen_pairs
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.tiled import open_picture
from idle_lantern.core.scouting.tour_spec import TourPlace, read_spec, stands_of

STAGES = {"write": 1.0}
_QUALITY = 85


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
    if args.out.suffix.lower() not in (".html", ".htm"):
        raise InputError("A page is not named so", where=str(args.out), remedy="End it in .html")
    spec = read_spec(args.spec)
    folder = args.spec.parent
    pictures = [folder / place.picture for place in spec.places]
    reports = [folder / place.report for place in spec.places if place.report is not None]
    check_outputs([args.out], [args.spec, *pictures, *reports])
    balls = [_ball(folder, place, args.long_side) for place in spec.places]
    names = [place.name or Path(place.picture).stem for place in spec.places]
    stands, remarks = stands_of(folder, spec, names, balls)
    for remark in remarks:
        say(f"  {remark}")
    pairs = seen_pairs(stands, spec.reach_m) if spec.links is None else _told_pairs(spec.links, names)
    links = links_of(stands, pairs)
    first = middle_of(stands) if spec.first is None else _index(spec.first, names)
    # the first one comes first in the page, so that it shows first
    order = [first, *(k for k in range(len(names)) if k != first)]
    at = {old: new for new, old in enumerate(order)}
    places = [
        PagePlace(
            balls[k],
            names[k],
            spec.places[k].note,
            stands[k].north_deg,
            tuple(replace(link, to=at[link.to]) for link in links[k]),
            (stands[k].east_m, stands[k].north_m),
        )
        for k in order
    ]
    return write_look_page(places, args.out, WriteOptions(_QUALITY), progress)


def _ball(folder: Path, place: TourPlace, long_side_px: int | None) -> Ball:
    picture = open_picture(folder / place.picture)
    box = Rectangle(0, 0, *picture.sizes[0])
    known = Known() if place.report is None else known_from(folder / place.report, box)
    return ball_of(Delivery(DeliverJob(profile="srgb", long_side_px=long_side_px), picture, known), box)


def _index(name: str, names: list[str]) -> int:
    if name not in names:
        raise InputError(f"There is no place '{name}'", remedy=f"Places are {', '.join(names[:8])}")
    return names.index(name)


def _told_pairs(links: list[tuple[str, str]], names: list[str]) -> list[tuple[int, int]]:
    return [(_index(a, names), _index(b, names)) for a, b in links]
