"""A judgement: what a practitioner would say, with its number, reason and remedy."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum


class Severity(IntEnum):
    """How much it would hurt; sorts the list."""

    NOTE = 0
    CARE = 1
    STOP = 2


@dataclass(frozen=True)
class Judgement:
    """One sentence that can be acted on.

    ``key`` names the kind (stable, for putting aside and for tests);
    ``remedy_id`` names an edit that the stage can apply, empty where there is none.
    """

    key: str
    severity: Severity
    sentence: str
    remedy: str = ""
    remedy_id: str = ""
