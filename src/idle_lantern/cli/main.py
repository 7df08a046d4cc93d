"""Entry point: without arguments the window, with a command that command."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence

from idle_lantern import __version__
from idle_lantern.cli import demo, join, plan
from idle_lantern.core.base.errors import LanternError


def main(arguments: Sequence[str] | None = None) -> int:
    """Parse and run; returns the exit code."""
    parser = argparse.ArgumentParser(
        prog="idle-lantern", description="Plan, shoot, join and deliver panoramas. Without a command: the window."
    )
    parser.add_argument("--version", action="version", version=f"Idle Lantern {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND")
    plan.add_parser(commands)
    join.add_parser(commands)
    demo.add_parser(commands)
    args = parser.parse_args(arguments)
    try:
        return _window() if args.command is None else int(args.run(args))
    except LanternError as error:
        print(error.sentence, file=sys.stderr)
        return 2


def _window() -> int:
    # Qt is imported only when a window is wanted
    from idle_lantern.app.main import has_display, run

    if not has_display():
        print("There is no display to open a window on. Commands: idle-lantern --help", file=sys.stderr)
        return 2
    return run()


if __name__ == "__main__":
    sys.exit(main())
