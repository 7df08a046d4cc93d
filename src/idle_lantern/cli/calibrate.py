"""``idle-lantern calibrate``: a lens from a printed board or a set that joins well, the no-parallax point, a board to print."""

from __future__ import annotations

import argparse
import json
import math
import re
from datetime import date
from pathlib import Path

from idle_lantern.cli.ends import CANNOT, DONE, give, say
from idle_lantern.cli.progress import TerminalProgress
from idle_lantern.core.base.atomic import check_writable, write_text
from idle_lantern.core.base.errors import InputError, JoinError
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.calibration.pattern import PAPERS_MM, write_pattern
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.gear.entries import Entry
from idle_lantern.core.gear.library import Library, gear_file
from idle_lantern.core.geometry.lenses import MODELS
from idle_lantern.core.sorting.grouped import files_in

STAGES = {"read": 0.5, "features": 0.1, "match": 0.1, "adjust": 0.3, "refine": 0.2}


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser("calibrate", help="measure a lens", description=__doc__)
    things = parser.add_subparsers(dest="thing", metavar="WHAT", required=True)
    lens = things.add_parser("lens", help="focal length, distortion and fall-off of a lens", description=__doc__)
    lens.add_argument("paths", nargs="+", metavar="PATH", type=Path, help="pictures, or folders with them")
    lens.add_argument(
        "--board", metavar="9x6", help="pictures show a chessboard of so many inner corners; without it they overlap"
    )
    lens.add_argument("--model", default="rectilinear", choices=MODELS, help="kind of lens before a board")
    lens.add_argument("--save", metavar="NAME", help="keep the lens in the gear library under this name")
    lens.add_argument("--json", type=Path, metavar="FILE", help="write the lens for programs")
    lens.set_defaults(run=run_lens)
    pupil = things.add_parser(
        "pupil",
        help="the rail setting at which near and far move alike",
        description="Measures the no-parallax point: for two rail settings or more a pair turned left and right, "
        "something upright near, ground far behind it.",
    )
    pupil.add_argument("--at", nargs=3, action="append", required=True, metavar=("MM", "LEFT.jpg", "RIGHT.jpg"))
    pupil.add_argument(
        "--tilted-at",
        nargs=4,
        action="append",
        default=[],
        metavar=("PITCH", "MM", "LEFT.jpg", "RIGHT.jpg"),
        help="a pair of a row that looks up or down by PITCH degrees: tells whether the point stands too high or too low",
    )
    pupil.add_argument("--json", type=Path, metavar="FILE", help="write the setting for programs")
    pupil.set_defaults(run=run_pupil)
    board = things.add_parser(
        "board", help="write a chessboard to print", description="Writes a chessboard to print as PDF."
    )
    board.add_argument("--out", required=True, type=Path, metavar="FILE.pdf")
    board.add_argument("--board", default="9x6", metavar="9x6", help="inner corners across and down")
    board.add_argument("--paper", default="a4", choices=tuple(PAPERS_MM))
    board.add_argument(
        "--markers", action="store_true", help="with markers in its white squares, so that any part of it can be used"
    )
    board.set_defaults(run=run_board)


def run_lens(args: argparse.Namespace) -> int:
    """Carry the command out; returns the exit code."""
    board = _board(args.board)
    paths = files_in(args.paths)
    if args.save is not None and not args.save.strip():
        raise InputError("A lens without a name cannot be found again", remedy="Give --save NAME")
    if args.json is not None:
        check_outputs([args.json], paths)
        check_writable(args.json)
    library = None if args.save is None else Library(gear_file())  # a damaged one is told before the work
    progress = TerminalProgress(STAGES)
    # each way loads libraries of its own
    if board is not None:
        from idle_lantern.core.calibration.board import calibrate_by_board

        found = calibrate_by_board(paths, board, args.model, progress)
    else:
        from idle_lantern.core.calibration.sweep import calibrate_by_sweep

        found = calibrate_by_sweep(paths, progress)
    name = args.save or ""
    known = found.known(probe(paths[0]).metadata, name, date.today().isoformat())
    if library is not None:
        library.put(Entry("measured-lens", name, known))
        say(f"Kept in the gear library as {args.save}.")
    if args.json is not None:
        write_text(args.json, json.dumps(found.as_json(known), indent=1))
        give(f"{args.json}\n")
    else:
        lines = [f"{found.sentence()}."]
        if found.corner_sigma_px is not None:
            lines.append(f"A corner is known to {found.corner_sigma_px:.2f} px.")
        if found.coverage:
            lines += ["Where corners of the board were (. nowhere, + few, # many):", *found.map_lines()]
        if found.bare_parts():
            lines.append(f"{found.bare_parts()}.")
        if found.left_out:
            lines.append(f"No board was found in {', '.join(found.left_out)}.")
        give("\n".join(lines) + "\n")
    return DONE


def run_pupil(args: argparse.Namespace) -> int:
    """Measure the no-parallax point."""
    from idle_lantern.core.calibration.pupil import calibrate_pupil
    from idle_lantern.core.calibration.pupil_height import calibrate_height, check_pitch

    pairs = [(_rail(mm), Path(left), Path(right)) for mm, left, right in args.at]
    tilted = [(_rail(mm), Path(left), Path(right)) for _pitch, mm, left, right in args.tilted_at]
    pitches = {_pitch(pitch) for pitch, *_rest in args.tilted_at}
    if len(pitches) > 1:
        raise InputError("Tilted pairs are of several rows", remedy="Give all of them at one pitch")
    for pitch in pitches:
        check_pitch(pitch)
    if args.json is not None:
        check_outputs([args.json], [path for _mm, *both in (*pairs, *tilted) for path in both])
        check_writable(args.json)
    try:
        found = calibrate_pupil(pairs, TerminalProgress({"match": 1.0}))
        height = calibrate_height(found, pitches.pop(), tilted, TerminalProgress({"match": 1.0})) if tilted else None
    except JoinError as error:
        say(error.sentence)
        return CANNOT
    if args.json is not None:
        told = found.as_json() | ({"height": height.as_json()} if height is not None else {})
        write_text(args.json, json.dumps(told, indent=1))
        give(f"{args.json}\n")
    else:
        give(f"{found.sentence()}\n" + (f"{height.sentence()}\n" if height is not None else ""))
    return DONE


def _pitch(text: str) -> float:
    return _number(text, 90, "is no pitch", "Give --tilted-at PITCH MM LEFT RIGHT, the pitch in degrees")


def _rail(text: str) -> float:
    return _number(text, 500, "is no rail setting", "Give --at MM LEFT RIGHT, the setting in millimetres")


def _number(text: str, most: float, is_none: str, remedy: str) -> float:
    """A number from minus ``most`` to ``most``."""
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not -most <= value <= most:
        raise InputError(f"'{text}' {is_none}", remedy=remedy)
    return value


def run_board(args: argparse.Namespace) -> int:
    """Write the board."""
    check_writable(args.out)
    corners = _board(args.board)
    assert corners is not None
    write_pattern(args.out, corners, args.paper, markers=args.markers)
    give(f"{args.out}\n")
    return DONE


def _board(text: str | None) -> tuple[int, int] | None:
    if text is None:
        return None
    told = re.fullmatch(r"(\d{1,2})\s*[x×]\s*(\d{1,2})", text.strip())
    if told is None or not all(3 <= int(n) <= 60 for n in told.groups()):
        raise InputError(f"'{text}' is no board", remedy="Give its inner corners across and down, like 9x6")
    return int(told[1]), int(told[2])
