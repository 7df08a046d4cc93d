"""``idle-lantern plan``: a specification in, the planned frames out, without a window."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import read_text
from idle_lantern.core.plan.card import write_card
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
    text = read_text(args.spec)
    if args.out is not None and args.out.suffix.lower() not in (".json", ".csv"):
        raise InputError(f"'{args.out.suffix}' is no plan ending", where=str(args.out), remedy="Use .json or .csv")
    if args.card is not None and args.card.suffix.lower() not in (".pdf", ".txt"):
        raise InputError(f"'{args.card.suffix}' is no card ending", where=str(args.card), remedy="Use .pdf or .txt")
    plan = make_plan(read_spec(text, str(args.spec)))
    for judgement in judge(plan):
        print(f"{judgement.sentence} {judgement.remedy}", file=sys.stderr)
    if args.card is not None:
        write_card(plan, args.card)
    if args.out is None:
        print(angle_list(plan), end="")
    elif args.out.suffix.lower() == ".csv":
        write_text(args.out, plan_csv(plan))
    else:
        write_text(args.out, json.dumps(plan_document(plan), indent=1))
    return 0
