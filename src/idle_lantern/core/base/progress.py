"""How long work tells where it is, and how it is stopped."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from typing import Protocol


class Progress(Protocol):
    """What core functions call while they work; any call may raise ``Cancelled``."""

    def begin(self, stage: str, total: int) -> None:
        """Start a stage of ``total`` equal steps."""

    def advance(self, n: int = 1) -> None:
        """Report ``n`` further steps; called at least each 0.2 s where possible."""


class Silent:
    """Progress that tells nobody."""

    def begin(self, stage: str, total: int) -> None:
        """Ignore."""

    def advance(self, n: int = 1) -> None:
        """Ignore."""


SILENT = Silent()


class OnlyStops:
    """Lets a part of the work be stopped without moving the progress of the whole."""

    def __init__(self, progress: Progress) -> None:
        self._progress = progress

    def begin(self, stage: str, total: int) -> None:
        """Only the chance to stop."""
        self._progress.advance(0)

    def advance(self, n: int = 1) -> None:
        """Only the chance to stop."""
        self._progress.advance(0)


@dataclass
class StageClock:
    """Turns stages and steps into one fraction and a remaining time.

    Stages differ in cost, so each has a weight (its usual share of the whole
    run); the remaining time comes from the pace of the work so far.

    Parameters
    ----------
    weights : dict of str to float
        Usual share of each stage, in order; unknown stages count 0.05.
    """

    weights: dict[str, float]
    stage: str = ""
    _done: float = 0.0
    _total: int = 1
    _count: int = 0
    _best: float = 0.0
    _started_s: float = field(default_factory=lambda: time.monotonic())

    def begin(self, stage: str, total: int) -> None:
        """Enter ``stage``; those before it count as finished."""
        if stage in self.weights:  # a stage may begin anew; what lies before it is done in any case
            names = list(self.weights)
            self._done = sum(self.weights[n] for n in names[: names.index(stage)])
        elif self.stage and stage != self.stage:
            self._done += self.weights.get(self.stage, 0.05)
        self.stage, self._total, self._count = stage, max(1, total), 0

    def advance(self, n: int = 1) -> None:
        """Count ``n`` steps of the present stage."""
        self._count = min(self._total, self._count + n)

    @property
    def fraction(self) -> float:
        """Share of the whole run that is done, 0 to 1; never falls, though a stage may begin anew."""
        whole = sum(self.weights.values()) or 1.0
        part = self.weights.get(self.stage, 0.05) * self._count / self._total if self.stage else 0.0
        self._best = max(self._best, min(1.0, (self._done + part) / whole))
        return self._best

    @property
    def elapsed_s(self) -> float:
        """Seconds since the clock was made."""
        return time.monotonic() - self._started_s

    @property
    def remaining_s(self) -> float | None:
        """Seconds still to go at the present pace; None until 3 % are done."""
        done = self.fraction
        return None if done < 0.03 else self.elapsed_s * (1 - done) / done
