"""Tone curve through points."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, ClassVar

import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.finish.curves import TabledCurve
from idle_lantern.core.finish.step import Apply, Step, Whole
from idle_lantern.core.finish.tile_look import Ground

Value = Annotated[float, Meta(ge=0, le=1)]
_STRAIGHT: tuple[tuple[float, float], ...] = ((0.0, 0.0), (1.0, 1.0))


class Curve(Step, frozen=True, tag="curve", kw_only=True):
    """Display values of each colour through a monotone cubic (PCHIP: Fritsch and Carlson 1980); ``points`` are of input and output.

    Before the first point and after the last it goes on straight.
    """

    points: Annotated[tuple[tuple[Value, Value], ...], Meta(min_length=2, max_length=64)] = _STRAIGHT
    title: ClassVar[str] = "Tone curve"
    meaning: ClassVar[str] = "Moves tones by points of a curve"
    order: ClassVar[int] = 30

    def __post_init__(self) -> None:
        if any(b[0] - a[0] < 1e-4 for a, b in zip(self.points, self.points[1:])):
            raise InputError(
                "has points that do not go to the right", where="The curve", remedy="Order them by their first number"
            )

    @property
    def idle(self) -> bool:
        """As of ``Step``."""
        return all(x == y for x, y in self.points)

    def bound(self, ground: Ground, whole: Callable[[], Whole]) -> Apply:
        """As of ``Step``."""
        table = TabledCurve(self.function())
        return lambda shown, _look: table(shown)

    def function(self) -> Callable[[Array], Array]:
        """The curve itself, (...,) to (...,)."""
        from scipy.interpolate import PchipInterpolator  # loaded when it is needed

        x, y = np.array(self.points).T
        inner = PchipInterpolator(x, y)
        low, high = (float(inner.derivative()(at)) for at in (x[0], x[-1]))

        def at(values: Array) -> Array:
            made = inner(np.clip(values, x[0], x[-1]))
            return np.asarray(made + low * np.minimum(values - x[0], 0) + high * np.maximum(values - x[-1], 0))

        return at
