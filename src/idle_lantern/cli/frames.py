"""``idle-lantern frames``: sorts a card or folder into runs and looks at every frame."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from idle_lantern.cli.ends import BAD_INPUT, DONE, DOUBTFUL, give, say, stopping
from idle_lantern.cli.progress import TerminalProgress
from idle_lantern.core.audit.audit import audit_card
from idle_lantern.core.audit.report import as_json, as_text
from idle_lantern.core.base.atomic import check_writable, write_text
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.frames.frameset import refuse_twice
from idle_lantern.core.sorting.card import sort
from idle_lantern.core.sorting.grouped import files_in

STAGES = {"read": 0.2, "prepare": 0.2, "features": 0.2, "match": 0.1, "adjust": 0.1, "look closely": 0.2}


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser("frames", help="sort a card into runs and look at every frame", description=__doc__)
    parser.add_argument("paths", nargs="+", metavar="PATH", type=Path, help="picture files, or folders with them")
    parser.add_argument("--json", type=Path, metavar="FILE", help="write what was found for programs")
    parser.add_argument(
        "--twins", default="raw", choices=("raw", "jpeg"), help="which of raw and JPEG of one name is used"
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Carry the command out; returns the exit code: 1 where something was found."""
    progress = TerminalProgress(STAGES)
    try:
        with stopping(progress.ask_to_stop):
            paths = files_in(args.paths)
            missing = next((p for p in args.paths if not p.exists()), None)
            if missing is not None:
                raise InputError("Is missing", where=str(missing), remedy="Check the name")
            refuse_twice(paths)
            if args.json is not None:
                check_outputs([args.json], paths)
                check_writable(args.json)
            card = sort(paths, progress, prefer_raw=args.twins == "raw")
            if not card.runs and card.unreadable:
                raise card.unreadable[0]
            report = audit_card(card, progress)
        if args.json is not None:
            write_text(args.json, json.dumps(as_json(report, paths), indent=1))
            give(f"{args.json}\n")
        else:
            give(as_text(report, paths))
    except LanternError as error:
        say(error.sentence)
        return BAD_INPUT
    return DOUBTFUL if report.findings or report.strays or any(r.missing for r in report.runs) else DONE
