"""A place in the picture that may be at fault: what, where, how likely, which frames, in one sentence."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

Kind = Literal["double", "cut", "step", "soft", "colour", "wedge", "hole", "invented", "parallax"]

#: A suspect of the same frame and kind after the first is most likely the same fault again.
_SAME_FAULT = 0.7


@dataclass(frozen=True)
class Suspect:
    """A place of the canvas in full pixels, its rectangle about the middle (u, v).

    ``frames`` are indices into the frame set, the one most to blame first; ``figure`` is what was measured, in ``unit``.
    """

    u: float
    v: float
    width: float
    height: float
    kind: Kind
    suspicion: float
    frames: tuple[int, ...]
    sentence: str
    figure: float = 0.0
    unit: str = ""

    def meets(self, other: Suspect, spare: float = 0.0) -> bool:
        """Whether the rectangles touch, or nearly."""
        return (
            abs(self.u - other.u) <= (self.width + other.width) / 2 + spare
            and abs(self.v - other.v) <= (self.height + other.height) / 2 + spare
        )


def likely(figure: float, half: float, slope: float) -> float:
    """Suspicion of a figure: a half at ``half``, rising over some ``slope`` about it (logistic)."""
    return 1 / (1 + math.exp(-max(-60.0, min(60.0, (figure - half) / slope))))


def ranked(found: Sequence[Suspect], least: float) -> list[Suspect]:
    """Most suspicious first; what repeats a fault that is named before comes later, and what is hardly suspicious not at all."""
    left = sorted(found, key=lambda s: -s.suspicion)
    told: list[Suspect] = []
    blamed: set[tuple[Kind, int]] = set()
    for suspect in left:
        again = bool(suspect.frames) and (suspect.kind, suspect.frames[0]) in blamed
        blamed |= {(suspect.kind, f) for f in suspect.frames[:1]}
        told.append(replace(suspect, suspicion=suspect.suspicion * _SAME_FAULT) if again else suspect)
    return [s for s in sorted(told, key=lambda s: -s.suspicion) if s.suspicion >= least]
