"""All exercises in the order in which they are best done, and an attempt at one of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from idle_lantern.core.base.atomic import make_folder
from idle_lantern.core.base.progress import SILENT, Progress, StageClock
from idle_lantern.core.join.request import STAGE_WEIGHTS
from idle_lantern.course import geometry_course as geometry
from idle_lantern.course import light_course as light
from idle_lantern.course import motion_course as motion
from idle_lantern.course.conduct import Conduct, Situation, take
from idle_lantern.course.consequences import Outcome, outcome_of
from idle_lantern.course.exercise import Amount, Exercise, Grade, Values, graded

EXERCISES: tuple[Exercise, ...] = (
    light.LOCK,
    geometry.HAND,
    geometry.PUPIL,
    geometry.BASE,
    geometry.SKY,
    motion.PEOPLE,
    light.SUNSET,
    light.POLARISER,
    motion.WIND,
    light.WINDOW,
    motion.SHALLOW,
    geometry.GIGAPIXEL,
    geometry.SPHERE,
)


@dataclass(frozen=True)
class Attempt:
    """What came of an attempt, beside the same run done right."""

    done: Outcome
    right: Outcome
    grade: Grade


def exercise(key: str) -> Exercise:
    """The exercise of that key."""
    return next(e for e in EXERCISES if e.key == key)


def checked(one: Exercise, values: Values) -> dict[str, float | str]:
    """Choices within what is free; what is not given stays as at the start."""
    result = one.start()
    for knob in one.knobs:
        value = values.get(knob.key, knob.start)
        if isinstance(knob, Amount):
            result[knob.key] = min(knob.high, max(knob.low, float(value)))
        elif value in knob.options:
            result[knob.key] = value
    return result


def attempt(
    one: Exercise, seed: int, values: Values, folder: Path, progress: Progress = SILENT, right: Outcome | None = None
) -> Attempt:
    """Shoot and join as chosen, and as it is right; both measured, the first graded.

    ``right`` is that of an attempt before at the same place.

    Raises
    ------
    InputError
        The folder cannot be written.
    Cancelled
        Stopped by ``progress``.
    """
    situation = one.situation(seed)
    progress.begin("work", _STEPS)
    part = 1.0 if right is not None else 0.5
    done = carried_out(situation, one.conduct(seed, checked(one, values)), folder / "done", _CoursePart(progress, part))
    if right is None:
        conduct = one.conduct(seed, checked(one, one.right(seed)))
        right = carried_out(situation, conduct, folder / "right", _CoursePart(progress, part))
    return Attempt(done, right, graded(one, done.figures, done.failed))


#: Steps in which an attempt tells where it is, and usual shares of shooting and joining.
_STEPS = 1000
_WEIGHTS = {"shoot": 0.9, **STAGE_WEIGHTS}


class _CoursePart:
    """Progress of one run as a part of the whole attempt."""

    def __init__(self, whole: Progress, part: float) -> None:
        self._whole, self._steps, self._told = whole, round(_STEPS * part), 0
        self._clock = StageClock(dict(_WEIGHTS))

    def begin(self, stage: str, total: int) -> None:
        """Enter a stage of the run."""
        self._clock.begin(stage, total)
        self._tell()

    def advance(self, n: int = 1) -> None:
        """Count steps of it."""
        self._clock.advance(n)
        self._tell()

    def _tell(self) -> None:
        reached = round(self._clock.fraction * self._steps)
        self._whole.advance(reached - self._told)
        self._told = reached


def carried_out(situation: Situation, conduct: Conduct, folder: Path, progress: Progress = SILENT) -> Outcome:
    """A run shot into a folder, joined and measured.

    Raises
    ------
    InputError
        The folder cannot be written.
    Cancelled
        Stopped by ``progress``.
    """
    make_folder(folder)
    for old in folder.glob("f*.jpg"):
        old.unlink()
    taken = take(situation, conduct, folder, progress)
    return outcome_of(situation, conduct, taken, folder, progress)


def in_words(one: Exercise, values: Mapping[str, float | str]) -> dict[str, str]:
    """Choices by name, as they are told beside the picture."""
    told = {}
    for knob in one.knobs:
        value = values[knob.key]
        told[knob.name] = (
            f"{float(value):g} {knob.unit}".strip() if isinstance(knob, Amount) else knob.options[str(value)]
        )
    return told
