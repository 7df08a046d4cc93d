"""Who does the work: threads of this process, or the workers of a Dask scheduler."""

from __future__ import annotations

import argparse
import contextlib
from contextlib import AbstractContextManager

from idle_lantern.core.base.runners import Runner


def add_scheduler(parser: argparse.ArgumentParser) -> None:
    """Declare the option."""
    parser.add_argument(
        "--scheduler",
        metavar="ADDRESS",
        help="do the work by the workers of a Dask scheduler (tcp://host:port), or of a cluster on this machine (local); they read the "
        "same files by the same paths",
    )


def runner_at(address: str | None) -> AbstractContextManager[Runner | None]:
    """The workers of a scheduler, None for threads of this process; raises InputError where there are none."""
    if address is None:
        return contextlib.nullcontext(None)
    from idle_lantern.core.base.dask_runner import DaskRunner  # what few joins need

    return DaskRunner(address)


def address_of(runner: Runner | None) -> str:
    """Where other commands reach the same workers; nothing for threads of this process."""
    return str(getattr(runner, "scheduler", ""))
