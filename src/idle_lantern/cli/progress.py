"""Progress of a command on standard error."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from pathlib import Path

from idle_lantern.cli.ends import BAD_INPUT, DONE, give, say, stopping
from idle_lantern.core.base.errors import Cancelled, LanternError
from idle_lantern.core.base.progress import StageClock
from idle_lantern.core.base.units import time_left


def write_by(out: Path, stages: Mapping[str, float], work: Callable[[TerminalProgress], Path | None]) -> int:
    """Carry out what writes ``out``, or something beside it that it returns, stopped by the first signal at its next report; the exit code."""
    progress = TerminalProgress(stages)
    try:
        with stopping(progress.ask_to_stop):
            made = work(progress)
        give(f"{made or out}\n")
    except LanternError as error:
        say(error.sentence)
        return BAD_INPUT
    return DONE


class TerminalProgress:
    """Stages, share done and remaining time on standard error."""

    def __init__(self, weights: Mapping[str, float]) -> None:
        self._clock = StageClock(dict(weights))
        self._live = sys.stderr.isatty()
        self._stop = False

    def ask_to_stop(self) -> None:
        """Raise ``Cancelled`` at the next report."""
        self._stop = True

    def begin(self, stage: str, total: int) -> None:
        """Enter a stage."""
        self._check()
        self._clock.begin(stage, total)
        self._show(end="\r" if self._live else "\n")

    def advance(self, n: int = 1) -> None:
        """Count steps."""
        self._check()
        self._clock.advance(n)
        if self._live:
            self._show(end="\r")

    def _check(self) -> None:
        if self._stop:
            raise Cancelled

    def _show(self, end: str) -> None:
        left = self._clock.remaining_s
        rest = f", {time_left(left)}" if left is not None else ""
        say(f"{self._clock.fraction:4.0%} {self._clock.stage}{rest}          ", end=end)
