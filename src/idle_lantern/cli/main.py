"""Entry point: without arguments the window, with a command that command."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence

from idle_lantern import __version__
from idle_lantern.cli import join


def main(arguments: Sequence[str] | None = None) -> int:
    """Parse and run; returns the exit code."""
    parser = argparse.ArgumentParser(
        prog="idle-lantern", description="Plan, shoot, check, join and deliver panoramas. Without a command: the window."
    )
    parser.add_argument("--version", action="version", version=f"Idle Lantern {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND")
    join.add_parser(commands)
    args = parser.parse_args(arguments)
    return int(args.run(args))


if __name__ == "__main__":
    sys.exit(main())
