"""``idle-lantern scout``: what rough pictures of a place tell before the run: horizon, light, detail, direction."""

from __future__ import annotations

import argparse
import datetime
import json
from pathlib import Path

from idle_lantern.cli.ends import BAD_INPUT, CANNOT, DONE, give, say, stopping
from idle_lantern.cli.progress import TerminalProgress
from idle_lantern.core.base.atomic import check_writable, write_text
from idle_lantern.core.base.errors import InputError, JoinError, LanternError
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.deliver.formats import check_target
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.scouting.distance import of_photographs
from idle_lantern.core.scouting.facing import by_compass, by_sun, position_of
from idle_lantern.core.scouting.ground import Ground, make_ground
from idle_lantern.core.scouting.report import as_json, as_text, facts_of
from idle_lantern.core.sorting.grouped import files_in

STAGES = {"read": 0.3, "features": 0.3, "match": 0.2, "adjust": 0.1, "warp": 0.1}


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser(
        "scout", help="light, detail and horizon of a place from rough pictures", description=__doc__
    )
    parser.add_argument("pictures", nargs="+", metavar="PICTURE", type=Path, help="pictures, or folders with them")
    parser.add_argument(
        "--at", metavar="TIME", help="when it was taken, like 2026-05-14T18:40 or with an offset (+01:00)"
    )
    parser.add_argument("--sun", metavar="X,Y", help="pixel of the ground at which the sun stands")
    parser.add_argument("--place", metavar="LAT,LON", help="where it was taken, in degrees, if the files do not tell")
    parser.add_argument(
        "--field", type=float, metavar="DEG", help="angle across a single picture, if its file does not tell"
    )
    parser.add_argument(
        "--step", type=float, metavar="M", help="two photographs taken so many metres apart: tell the nearest thing too"
    )
    parser.add_argument("--out", type=Path, metavar="PICTURE", help="write the ground as a picture too")
    parser.add_argument("--json", type=Path, metavar="FILE", help="write what was found for programs")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Carry the command out; returns the exit code."""
    progress = TerminalProgress(STAGES)
    try:
        with stopping(progress.ask_to_stop):
            paths = files_in(args.pictures)
            check_outputs([p for p in (args.json, args.out) if p is not None], paths)
            if args.json is not None:
                check_writable(args.json)
            if args.out is not None:
                check_target(args.out)
            if args.step is not None and len(paths) != 2:
                raise InputError(f"--step is of two photographs, not {len(paths)}", remedy="Name just those two")
            ground = make_ground(paths[:1] if args.step is not None else paths, args.field, progress)
            facing = _facing(args, ground)
            nearest = None
            if args.step is not None:
                nearest = of_photographs(paths[0], paths[1], args.step, args.field, progress).nearest()
            facts = facts_of(ground, facing, nearest)
        if args.out is not None:
            write(ground.picture, args.out)
            say(f"ground: {args.out}")
        if args.json is not None:
            write_text(args.json, json.dumps(as_json(ground, facts), indent=1))
            give(f"{args.json}\n")
        else:
            give(as_text(ground, facts))
    except LanternError as error:
        say(error.sentence)
        return CANNOT if isinstance(error, JoinError) else BAD_INPUT
    return DONE


def _facing(args: argparse.Namespace, ground: Ground) -> float | None:
    """The bearing of the ground's yaw 0, by the sun where it was named, else by compass.

    Raises
    ------
    InputError
        The sun is named but not where or when.
    """
    if args.sun is None:
        return by_compass(ground)
    u, v = _pair(args.sun, "--sun")
    found = position_of(ground.paths[0])
    if args.place is not None:
        place = _pair(args.place, "--place")
        if not (abs(place[0]) <= 90 and abs(place[1]) <= 180):
            raise InputError(f"'{args.place}' is no place", remedy="Give latitude and longitude like 55.2,-8.4")
    elif found.latitude_deg is not None and found.longitude_deg is not None:
        place = (found.latitude_deg, found.longitude_deg)
    else:
        raise InputError("The files do not tell where they were taken", remedy="Give --place LAT,LON")
    bearing, _miss = by_sun(ground, u, v, _time(args.at, ground), place)
    return bearing


def _time(told: str | None, ground: Ground) -> datetime.datetime:
    if told is None:
        taken = probe(ground.paths[0]).metadata.taken
        if taken is None:
            raise InputError("The files do not tell when they were taken", remedy="Give --at like 2026-05-14T18:40")
        told = taken.replace(":", "-", 2).replace(" ", "T")
    try:
        return datetime.datetime.fromisoformat(told)
    except ValueError as error:
        raise InputError(f"'{told}' is no time", remedy="Write it like 2026-05-14T18:40") from error


def _pair(told: str, name: str) -> tuple[float, float]:
    try:
        x, y = (float(part) for part in told.split(","))
    except ValueError as error:
        raise InputError(f"{name} {told}: is no pair of numbers", remedy="Give two numbers with a comma") from error
    if not (abs(x) < 1e9 and abs(y) < 1e9):
        raise InputError(f"{name} {told}: is no pair of numbers", remedy="Give two numbers with a comma")
    return x, y
