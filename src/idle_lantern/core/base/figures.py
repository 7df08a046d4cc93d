"""Figures of frozen values as their types tell them: limits, unit and what is usual, for fields, help texts and refusals."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import msgspec

from idle_lantern.core.base.errors import InputError


@dataclass(frozen=True)
class Figure:
    """A figure of a value: its limits, unit and what is usual; ``step`` is by how much a key or a slider moves it."""

    name: str
    title: str
    least: float
    most: float
    unit: str
    usual: str
    default: float | None
    step: float = 1.0

    def checked(self, value: float) -> float:
        """The value, where it lies within the limits.

        Raises
        ------
        InputError
            It does not.
        """
        if not self.least <= value <= self.most:
            end = f" {self.unit}" if self.unit else ""
            raise InputError(
                f"{self.title} {value:g} lies outside {self.least:g} to {self.most:g}{end}", remedy=self.usual
            )
        return value


@lru_cache(maxsize=128)
def figures(of: type) -> tuple[Figure, ...]:
    """The figures of a dataclass or a Struct that are numbers, in the order of its fields."""
    info = msgspec.inspect.type_info(of)
    assert isinstance(info, (msgspec.inspect.StructType, msgspec.inspect.DataclassType))
    return tuple(found for told in info.fields if (found := _figure_of(told)) is not None)


def figure(of: type, name: str) -> Figure:
    """The figure of that name; raises KeyError."""
    return {f.name: f for f in figures(of)}[name]


def _figure_of(told: msgspec.inspect.Field) -> Figure | None:
    kinds = told.type.types if isinstance(told.type, msgspec.inspect.UnionType) else (told.type,)
    for kind in kinds:
        extra = kind.extra if isinstance(kind, msgspec.inspect.Metadata) else None
        number = kind.type if isinstance(kind, msgspec.inspect.Metadata) else kind
        if isinstance(number, (msgspec.inspect.IntType, msgspec.inspect.FloatType)):
            facts = extra or {}
            default = told.default if isinstance(told.default, (int, float)) else None
            return Figure(
                told.name,
                str(facts.get("title", told.name)),
                float(number.ge if number.ge is not None else "-inf"),
                float(number.le if number.le is not None else "inf"),
                str(facts.get("unit", "")),
                str(facts.get("usual", "")),
                default,
                float(facts.get("step", 1.0)),
            )
    return None
