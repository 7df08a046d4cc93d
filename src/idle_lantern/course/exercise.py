"""What an exercise is: a situation, what is free to choose, what the instruments say, and how consequences are graded."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from idle_lantern.course.conduct import Conduct, Situation
from idle_lantern.course.consequences import Figures
from idle_lantern.course.record import PASSED

Values = Mapping[str, float | str]


@dataclass(frozen=True)
class Amount:
    """Something free that is a number."""

    key: str
    name: str
    unit: str
    low: float
    high: float
    step: float
    start: float


@dataclass(frozen=True)
class Alternative:
    """Something free that is one of a few: ``options`` maps values to words."""

    key: str
    name: str
    options: Mapping[str, str]
    start: str


Knob = Amount | Alternative


@dataclass(frozen=True)
class Criterion:
    """How a figure counts: fully at ``good``, not at all at ``bad``; ``sentence`` says what it means, ``{}`` the figure in words."""

    figure: str
    good: float
    bad: float
    write: Callable[[float], str]
    sentence: str

    def score(self, value: float) -> float:
        """From 0 to 1."""
        return min(1.0, max(0.0, (self.bad - value) / (self.bad - self.good)))


@dataclass(frozen=True)
class Grade:
    """0 to 100: the worst of what counts; a sentence for each figure, the worst first."""

    points: int
    sentences: tuple[str, ...]

    @property
    def passed(self) -> bool:
        """Whether it is good enough."""
        return self.points >= PASSED


@dataclass(frozen=True)
class Exercise:
    """One exercise.

    ``situation`` gives the place for a seed; ``instruments`` what a photographer could read there with these choices;
    ``conduct`` how the run then goes; ``right`` choices that are good; ``lesson`` is told afterwards.
    """

    key: str
    title: str
    task: str
    lesson: str
    situation: Callable[[int], Situation]
    knobs: tuple[Knob, ...]
    instruments: Callable[[int, Values], tuple[tuple[str, str], ...]]
    conduct: Callable[[int, Values], Conduct]
    right: Callable[[int], Values]
    criteria: tuple[Criterion, ...]

    def start(self) -> dict[str, float | str]:
        """What is chosen before anybody touched it."""
        return {knob.key: knob.start for knob in self.knobs}


def graded(exercise: Exercise, figures: Figures, failed: str = "") -> Grade:
    """A grade from what was measured, not from what was chosen."""
    if failed:
        return Grade(0, (f"The frames cannot be joined: {failed}",))
    worst_first = scored(exercise, figures)
    points = round(100 * worst_first[0][0].score(worst_first[0][1]))
    return Grade(points, tuple(criterion.sentence.format(criterion.write(value)) for criterion, value in worst_first))


def scored(exercise: Exercise, figures: Figures) -> tuple[tuple[Criterion, float], ...]:
    """What counts with what was measured of it, the worst first."""
    rows = [(criterion, float(getattr(figures, criterion.figure))) for criterion in exercise.criteria]
    return tuple(sorted(rows, key=lambda row: row[0].score(row[1])))
