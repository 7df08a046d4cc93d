"""Entry point: without arguments the window, with a command that command."""

from __future__ import annotations

import argparse
import importlib
import os
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import NoReturn

from idle_lantern import __version__
from idle_lantern.cli.ends import BAD_INPUT, run_to_end, say
from idle_lantern.core.base.errors import MOST_CHARACTERS, InputError, JoinError, shortened
from idle_lantern.core.base.memory import available_bytes, tune_allocator
from idle_lantern.core.base.units import file_size

_LEAST_BYTES = 450_000_000
COMMANDS = ("plan", "scout", "frames", "join", "finish", "deliver", "tour", "batch", "calibrate", "demo")


class _Parser(argparse.ArgumentParser):
    """Tells what is wrong in one line, however long the argument was."""

    def error(self, message: str) -> NoReturn:
        say(shortened(f"{self.prog}: {message}. See {self.prog} --help.", MOST_CHARACTERS))
        raise SystemExit(BAD_INPUT)


def main(arguments: Sequence[str] | None = None) -> int:
    """Parse and run; returns the exit code."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    return run_to_end(lambda: _run(given), ends_process=arguments is None)


def _run(arguments: list[str]) -> int:
    # the work is spread over our own threads; more inside each only fight for the cores
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    tune_allocator()
    free = available_bytes()
    if free < _LEAST_BYTES:  # some libraries end the process by themselves where they get nothing
        raise JoinError(
            f"There is too little memory to begin: {file_size(_LEAST_BYTES)} are needed, {file_size(free)} are free",
            remedy="Close other programs",
        )
    if not arguments:
        return _window()
    if _are_files(arguments):
        return _window(arguments)
    parser = _Parser(
        prog="idle-lantern",
        description="Plan, shoot, join, finish and deliver panoramas. Without a command: the window, with the outing, folder or files that are "
        "named.",
    )
    parser.add_argument("--version", action="version", version=f"Idle Lantern {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND")
    # a command's libraries take half a second to load: only those of the one asked for are
    wanted = arguments[:1] if arguments[0] in COMMANDS else () if arguments == ["--version"] else COMMANDS
    for name in wanted:
        importlib.import_module(f"idle_lantern.cli.{name}").add_parser(commands)
    args = parser.parse_args(arguments)
    return _window() if args.command is None else int(args.run(args))


def _are_files(arguments: Sequence[str]) -> bool:
    """Whether the window is to open with files: the first word is no command and lies on disk."""
    first = arguments[0]
    return first not in COMMANDS and not first.startswith("-") and os.path.exists(first)


def _window(files: Sequence[str] = ()) -> int:
    # Qt is imported only when a window is wanted
    from idle_lantern.app.main import has_display, run

    if not has_display():
        raise InputError("There is no display to open a window on", remedy="Commands: idle-lantern --help")
    return run(brought=[Path(name) for name in files])


if __name__ == "__main__":
    sys.exit(main())
