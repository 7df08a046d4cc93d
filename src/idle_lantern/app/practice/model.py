"""What the practice window lists and tells, as plain values: no Qt."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from idle_lantern.core.base import units
from idle_lantern.course.course import EXERCISES, Attempt
from idle_lantern.course.exercise import Amount, Exercise, scored
from idle_lantern.course.faults import FAULTS, Fault
from idle_lantern.course.record import PASSED


@dataclass(frozen=True)
class Listed:
    """A line of the list; a heading has neither exercise nor fault."""

    words: str
    exercise: Exercise | None = None
    fault: Fault | None = None


def listed(best: Mapping[str, int]) -> tuple[Listed, ...]:
    """All that can be done, with the best grade so far."""
    done = sum(best.get(e.key, 0) >= PASSED for e in EXERCISES)
    return (
        Listed(f"Exercises ({done} of {len(EXERCISES)} passed)"),
        *(Listed(f"{_sign(best.get(e.key))} {e.title}", exercise=e) for e in EXERCISES),
        Listed("What does this fault do?"),
        *(Listed(f"    {f.title}", exercise=f.exercise, fault=f) for f in FAULTS),
    )


def _sign(points: int | None) -> str:
    if points is None:
        return "    "
    return f"{'●' if points >= PASSED else '○'} {points}"


def shown_value(knob: Amount, value: float) -> str:
    """An amount as its field shows it."""
    return f"{value:g} {knob.unit}".strip()


def task_of(exercise: Exercise, fault: Fault | None) -> str:
    """What to do."""
    if fault is None:
        return exercise.task
    return f"{fault.title}, all else done right: shoot it, and see both pictures side by side."


def grade_words(attempt: Attempt, fault: Fault | None) -> str:
    """The grade in one line; a fault that is only shown is not graded."""
    points = attempt.grade.points
    if fault is not None:
        return "What it does"
    return f"{points} of 100: {'passed' if attempt.grade.passed else f'{PASSED} are needed'}"


def figures_table(attempt: Attempt, exercise: Exercise) -> tuple[str, ...]:
    """What was measured, yours against the right one, the worst first."""
    if attempt.done.failed:
        return attempt.grade.sentences
    right = {criterion.figure: criterion.write(value) for criterion, value in scored(exercise, attempt.right.figures)}
    worst_first = [criterion.figure for criterion, _value in scored(exercise, attempt.done.figures)]
    return tuple(
        f"{sentence} Done right: {right[figure]}." for sentence, figure in zip(attempt.grade.sentences, worst_first)
    )


def took(attempt: Attempt) -> str:
    """How long the shooting would have taken outside."""
    return f"Outside this takes {units.duration(attempt.done.figures.seconds)}; done right {units.duration(attempt.right.figures.seconds)}."
