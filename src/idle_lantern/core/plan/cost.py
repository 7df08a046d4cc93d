"""What a plan costs: card, joining time and memory, by this machine's own past joins once there are any."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.size import JoinedSize

#: Before the first join on a machine: seconds by megapixel read and by megapixel made, and the start.
_FIRST_SECONDS = (0.22, 0.08, 2.0)
_FIRST_MIB = (320.0, 6.0)


@dataclass(frozen=True)
class PastJoin:
    """One join that ran to its end on this machine."""

    frames: int
    read_mp: float
    made_mp: float
    seconds: float
    peak_mib: float


@dataclass(frozen=True)
class Cost:
    """Bytes on the card, seconds and memory of the join, and how many past joins that rests on."""

    exposures: int
    card_gb: float
    join_s: float
    join_mib: float
    from_joins: int


def cost(rig: Rig, size: JoinedSize, exposures: int, frames: int, past: Sequence[PastJoin] = ()) -> Cost:
    """Card space of all exposures; time and memory of joining one exposure of each frame."""
    read_mp = frames * rig.width_px * rig.height_px / 1e6
    made_mp = size.pixels / 1e6
    by_read, by_made, start = _FIRST_SECONDS
    seconds = start + by_read * read_mp + by_made * made_mp
    mib = _FIRST_MIB[0] + _FIRST_MIB[1] * made_mp
    if past:
        # how this machine compares with what was expected of it; the middle one, so that one odd run counts little
        expected = [start + by_read * p.read_mp + by_made * p.made_mp for p in past]
        seconds *= float(np.median([p.seconds / e for p, e in zip(past, expected)]))
        mib *= float(np.median([p.peak_mib / (_FIRST_MIB[0] + _FIRST_MIB[1] * p.made_mp) for p in past]))
    return Cost(exposures, exposures * rig.raw_mb / 1000, seconds, mib, len(past))


def cards_needed(card_gb: float, one_card_gb: float) -> int:
    """Cards of that size, a tenth of each kept free."""
    return max(1, math.ceil(card_gb / (0.9 * one_card_gb)))
