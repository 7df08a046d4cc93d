"""Single faults: an exercise done right but for one thing, so that what it does can be seen beside the right picture."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from idle_lantern.course import geometry_course as geometry
from idle_lantern.course import light_course as light
from idle_lantern.course import motion_course as motion
from idle_lantern.course.exercise import Exercise, Values


@dataclass(frozen=True)
class Fault:
    """One thing that goes wrong; ``wrong`` gives the choices that make it, from the right ones."""

    key: str
    title: str
    exercise: Exercise
    wrong: Callable[[Values], Values]

    def values(self, seed: int) -> dict[str, float | str]:
        """All choices: right, but for this fault."""
        right = self.exercise.right(seed)
        return {**self.exercise.start(), **right, **self.wrong(right)}


FAULTS: tuple[Fault, ...] = (
    Fault("pupil", "The axis 40 mm off the pupil", geometry.PUPIL, lambda v: {"rail": float(v["rail"]) - 40}),
    Fault(
        "lean",
        "The base leans",
        geometry.BASE,
        lambda _v: {"leg0": 0.0, "leg1": 0.0, "leg2": 0.0, "ball": "straight"},
    ),
    Fault("auto-exposure", "Automatic exposure", light.LOCK, lambda _v: {"exposure": "auto"}),
    Fault("auto-focus", "Automatic focus", light.LOCK, lambda _v: {"focus": "auto"}),
    Fault("white-balance", "White balance that drifts", light.LOCK, lambda _v: {"balance": "auto"}),
    Fault("wind", "Wind, one exposure each", motion.WIND, lambda _v: {"repeats": 1.0, "iso": "100"}),
    Fault("turning", "Turns too wide, by hand", geometry.HAND, lambda _v: {"overlap": 5.0}),
    Fault("missed", "One frame missed", geometry.GIGAPIXEL, lambda _v: {"count": "no"}),
    Fault("polariser", "A polariser in a wide sky", light.POLARISER, lambda _v: {"filter": "on"}),
    Fault(
        "with-people",
        "Going with the people",
        motion.PEOPLE,
        lambda v: {"order": "left" if v["order"] == "right" else "right"},
    ),
)


def fault(key: str) -> Fault:
    """The fault of that key."""
    return next(f for f in FAULTS if f.key == key)
