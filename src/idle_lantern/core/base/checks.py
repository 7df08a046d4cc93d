"""Values that must lie in a range: one sentence for all of them."""

from __future__ import annotations

import math
from collections.abc import Sequence

from idle_lantern.core.base.errors import InputError, shortened


def within(name: str, value: float, low: float, high: float, unit: str) -> None:
    """Refuse a value that is no number or lies outside ``low`` to ``high``.

    Raises
    ------
    InputError
        With the name, the limits and the value.
    """
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        raise InputError(
            f"must be a number, not '{shortened(str(value), 40)}'",
            where=name,
            remedy=f"Use {low:g} to {high:g} {unit}".strip(),
        )
    if isinstance(value, int) and abs(value) > 2**63:  # more digits than a sentence holds
        value = math.inf if value > 0 else -math.inf
    if not (math.isfinite(value) and low <= value <= high):
        end = f" {unit}" if unit else ""
        raise InputError(f"must lie between {low:g} and {high:g}{end}, not {value:g}", where=name)


def one_of(name: str, value: str, known: Sequence[str]) -> None:
    """Refuse a word that is not among the known ones.

    Raises
    ------
    InputError
        With the name, the word and the known ones.
    """
    if value not in known:
        raise InputError(
            f"'{shortened(value, 40)}' is not known here", where=name, remedy=f"Use one of {', '.join(known)}"
        )
