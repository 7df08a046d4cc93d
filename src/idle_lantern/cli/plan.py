"""``idle-lantern plan``: a specification in, the planned frames out, without a window."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from idle_lantern.cli.ends import DONE, give, say
from idle_lantern.core.base.atomic import check_writable, write_text
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.base.strict_json import read_text
from idle_lantern.core.plan.exchange import plan_csv, plan_document, read_spec
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.planner import angle_list, make_plan


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser("plan", help="plan the frames of a picture", description=__doc__)
    parser.add_argument(
        "spec",
        type=Path,
        metavar="SPEC.json",
        help="kind of picture, camera, lens, wanted field ... (docs/formats/plan.md)",
    )
    parser.add_argument(
        "--out", type=Path, metavar="PLAN", help="write the plan: .json (all of it) or .csv (the frames)"
    )
    parser.add_argument("--card", type=Path, metavar="CARD", help="write the field card: .pdf or .txt")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Carry the command out; remarks go to standard error, the angle list to standard output."""
    if args.out is not None:
        _check_ending(args.out, "plan", (".json", ".csv"))
    if args.card is not None:
        _check_ending(args.card, "card", (".pdf", ".txt"))
    outputs = [path for path in (args.out, args.card) if path is not None]
    check_outputs(outputs, [args.spec])
    for path in outputs:
        check_writable(path)
    plan = make_plan(read_spec(read_text(args.spec), str(args.spec)))
    for judgement in judge(plan):
        say(f"{judgement.sentence} {judgement.remedy}")
    if args.card is not None:
        # its PDF library takes half a second to load
        from idle_lantern.core.plan.card import write_card

        write_card(plan, args.card)
    if args.out is None:
        give(angle_list(plan))
    elif args.out.suffix.lower() == ".csv":
        write_text(args.out, plan_csv(plan))
    else:
        write_text(args.out, json.dumps(plan_document(plan), indent=1))
    return DONE


def _check_ending(path: Path, what: str, endings: tuple[str, str]) -> None:
    if path.suffix.lower() not in endings:
        raise InputError(
            f"'{path.suffix}' is no {what} ending", where=str(path), remedy=f"Use {endings[0]} or {endings[1]}"
        )
