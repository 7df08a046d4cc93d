"""Entry point: without arguments the window, with a command that command."""

from __future__ import annotations

import argparse
import importlib
import os
import sys
from collections.abc import Sequence

from idle_lantern import __version__
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.memory import few_arenas

COMMANDS = ("plan", "join", "demo")


def main(arguments: Sequence[str] | None = None) -> int:
    """Parse and run; returns the exit code."""
    parser = argparse.ArgumentParser(
        prog="idle-lantern", description="Plan, shoot, join and deliver panoramas. Without a command: the window."
    )
    parser.add_argument("--version", action="version", version=f"Idle Lantern {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND")
    arguments = list(sys.argv[1:] if arguments is None else arguments)
    # the work is spread over our own threads; more inside each only fight for the cores
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    few_arenas()
    # a command's libraries take half a second to load: only those of the one asked for are
    for name in arguments[:1] if arguments and arguments[0] in COMMANDS else COMMANDS:
        importlib.import_module(f"idle_lantern.cli.{name}").add_parser(commands)
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
