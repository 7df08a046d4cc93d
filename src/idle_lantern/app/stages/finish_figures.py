"""Figures of a recipe's steps as people read, write and change them: no Qt, tested without a window."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from msgspec import structs

from idle_lantern.core.base import units
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.figures import Figure, figures
from idle_lantern.core.finish.step import Step
from idle_lantern.core.finish.steps.black_white import BlackWhite
from idle_lantern.core.finish.steps.curve import Curve

#: Limits of a weight of black and white, whose type tells none by name.
_WEIGHT = Figure("", "", -2, 3, "", "", 0.0, 0.02)
_UNITS = {"degrees": "°", "% of the longer side": " %", "EV above": " EV"}


@dataclass(frozen=True)
class Row:
    """A figure of a step or a mask on the panel: its value, and the step that another value makes."""

    figure: Figure
    value: float
    changed: Callable[[float], Step]

    @property
    def key(self) -> str:
        """What tells it from the others of its step."""
        return self.figure.name


def rows(step: Step) -> list[Row]:
    """The figures of a step."""
    made = [_row_of(step, f) for f in figures(type(step))]
    if isinstance(step, BlackWhite):
        for k, colour in enumerate(("Red", "Green", "Blue")):
            figure = figure_like(_WEIGHT, f"weights {colour.lower()}", colour)
            made.append(Row(figure, step.weights[k], partial(_weighted, step, k)))
    return made


def _weighted(step: BlackWhite, at: int, value: float) -> Step:
    return structs.replace(step, weights=with_at(step.weights, at, value))


def figure_like(like: Figure, name: str, title: str) -> Figure:
    """A figure with the limits of another."""
    return Figure(name, title, like.least, like.most, like.unit, like.usual, like.default, like.step)


def _row_of(step: Step, figure: Figure) -> Row:
    return Row(figure, float(getattr(step, figure.name)), lambda v: structs.replace(step, **{figure.name: v}))


def with_at(values: tuple[Any, ...], at: int, value: Any) -> tuple[Any, ...]:
    """The values with another one at a place."""
    return (*values[:at], value, *values[at + 1 :])


def write(figure: Figure, value: float) -> str:
    """A figure with its unit and, where it can be below nothing, its sign."""
    digits = max(0, min(3, -math.floor(math.log10(figure.step)))) if figure.step < 1 else 0
    signed = figure.least < 0 and figure.default == 0 and figure.unit != "degrees"
    text = f"{value:+.{digits}f}" if signed and value else f"{value:.{digits}f}"
    unit = _UNITS.get(figure.unit, f" {figure.unit}" if figure.unit else "")
    return text.replace("-", "−") + unit


def parse(figure: Figure, text: str) -> float:
    """A figure as people write it; raises InputError."""
    plain_text = text.strip().lower().replace("−", "-").removeprefix("+")
    for unit in ("°", "degrees", "deg", "%", "px", "ev", "k"):
        plain_text = plain_text.removesuffix(unit).strip()
    value = units.parse_number(plain_text, "a number", f"{figure.default or figure.step:g}")
    return figure.checked(value)


def write_points(points: Sequence[tuple[float, float]]) -> str:
    """Points of a curve as text, in hundredths."""
    return "   ".join(f"{100 * x:.3g} → {100 * y:.3g}" for x, y in points)


def parse_points(text: str) -> tuple[tuple[float, float], ...]:
    """Points of a curve as people write them: pairs in hundredths, ``0 → 0   50 → 60   100 → 100``.

    Raises
    ------
    InputError
        They are none.
    """
    for sign in ("→", ">", "-", ",", ";", ":"):
        text = text.replace(sign, " ")
    numbers = [units.parse_number(word, "a point", "50 → 60") / 100 for word in text.split()]
    if len(numbers) < 4 or len(numbers) % 2 or any(not 0 <= v <= 1 for v in numbers):
        raise InputError(
            "A curve is pairs of numbers from 0 to 100", remedy="Write such as 0 → 0   50 → 60   100 → 100"
        )
    return tuple(sorted(zip(numbers[::2], numbers[1::2])))


def curve_of(step: Curve, points: Sequence[tuple[float, float]]) -> Curve:
    """A curve through other points; raises InputError."""
    made: Curve = structs.replace(step, points=tuple(points))
    return made
