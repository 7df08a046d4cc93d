"""How long work tells where it is, and how it is stopped."""

from __future__ import annotations

import math
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


class InParts:
    """Progress of so many parts of equal work as that of one stage; each part begins a stage of its own."""

    _STEPS = 1000

    def __init__(self, progress: Progress, parts: int) -> None:
        self._progress, self._parts = progress, parts
        self._begun, self._total, self._count, self._told = 0, 1, 0, 0

    def begin(self, stage: str, total: int) -> None:
        """The next part."""
        if self._begun == 0:
            self._progress.begin(stage, self._STEPS * self._parts)
        self._begun, self._total, self._count = self._begun + 1, max(1, total), 0
        self._tell()

    def advance(self, n: int = 1) -> None:
        """Count steps of the present part."""
        self._count = min(self._total, self._count + n)
        self._tell()

    def _tell(self) -> None:
        now = self._STEPS * (self._begun - 1) + self._STEPS * self._count // self._total
        self._progress.advance(max(0, now - self._told))
        self._told = max(self._told, now)


#: Share of the work from which the pace of stages that are over tells that of those to come, and how far two ways of reckoning it may
#: differ: by either the time left is then known within a half, nine times in ten (joins of 25 kinds).
_KNOWN_FROM, _AGREE = 0.3, 1.4
#: A stage that took so many times as long as the others for its weight, where that is worth looking at: nothing is known then.
_ODD, _TELLING = 2.5, 0.03
#: Share of a stage of equal steps from which it tells its own pace, and of the whole that the latest pace is taken over.
_OWN_FROM, _LATEST = 0.1, 0.2


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
    _begun_s: float = 0.0
    _spent_s: dict[str, float] = field(default_factory=dict)

    def begin(self, stage: str, total: int) -> None:
        """Enter ``stage``; those before it count as finished."""
        now = time.monotonic()
        if self.stage:
            self._spent_s[self.stage] = self._spent_s.get(self.stage, 0.0) + now - self._begun_s
        if stage in self.weights:  # a stage may begin anew; what lies before it is done in any case
            names = list(self.weights)
            self._done = sum(self.weights[n] for n in names[: names.index(stage)])
        elif self.stage and stage != self.stage:
            self._done += self.weights.get(self.stage, 0.05)
        self.stage, self._total, self._count, self._begun_s = stage, max(1, total), 0, now

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
        """Seconds still to go; None while they are not known within a half.

        By the pace of all stages that were entered, and by that of the latest ones; a stage of equal steps tells its own.
        """
        if self.stage not in self.weights:
            return None
        names = list(self.weights)
        at, own_weight = names.index(self.stage), self.weights[self.stage]
        done, present_s = self._count / self._total, time.monotonic() - self._begun_s
        to_come = sum(self.weights[n] for n in names[at + 1 :])
        left = own_weight * (1 - done) + to_come
        past = [(own_weight * done, present_s)]
        past += [(self.weights[n], self._spent_s[n]) for n in reversed(names[:at]) if n in self._spent_s]
        weight, seconds = (sum(column) for column in zip(*past))
        own = done >= _OWN_FROM and to_come <= own_weight
        if weight < _KNOWN_FROM * (weight + left) and not own:
            return None
        pace = seconds / weight
        odd = any(s > _ODD * pace * w for w, s in past if w >= _TELLING)
        if odd and not own:  # a set of another kind than most
            return None
        latest_weight = latest_s = 0.0
        for stage_weight, stage_s in past:
            latest_weight, latest_s = latest_weight + stage_weight, latest_s + stage_s
            if latest_weight >= _LATEST:
                break
        latest = latest_s / latest_weight
        if odd:
            pace = latest
        present = own_weight * (1 - done)
        by_all, by_latest = pace * left, latest * left
        if done >= _OWN_FROM:
            own_s = present_s * (1 - done) / done
            by_all, by_latest = (own_s + pace * present) / 2 + pace * to_come, own_s + latest * to_come
        low, high = min(by_all, by_latest), max(by_all, by_latest)
        return math.sqrt(low * high) if high <= _AGREE * low + 0.5 else None
