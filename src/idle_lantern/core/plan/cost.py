"""What a plan costs: card, joining time and memory, by this machine's own past joins once there are any."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.plan.rig import Rig

#: Before the first join on a machine: seconds for the start, by frame and by megapixel read; MiB likewise, the last by
#: megapixel made. Of seven joins of 3 to 28 frames all lay within the factors below.
_FIRST_SECONDS, _FIRST_MIB = (1.0, 0.2, 0.06), (155.0, 2.5, 6.0)
_SECONDS_WITHIN, _MIB_WITHIN = 2.0, 1.5


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
    """Bytes on the card, seconds and memory of the join, and how many past joins that rests on.

    Without any, a machine may take as many times more or less as ``seconds_within`` and ``mib_within`` say.
    """

    exposures: int
    card_gb: float
    join_s: float
    join_mib: float
    from_joins: int
    seconds_within: float = 1.0
    mib_within: float = 1.0


def cost(rig: Rig, made_px: int, exposures: int, frames: int, past: Sequence[PastJoin] = ()) -> Cost:
    """Card space of all exposures; time and memory of joining one exposure of each frame to a canvas of ``made_px``."""
    read_mp = frames * rig.width_px * rig.height_px / 1e6
    made_mp = made_px / 1e6
    seconds, mib = _first_seconds(frames, read_mp), _first_mib(frames, made_mp)
    within = (_SECONDS_WITHIN, _MIB_WITHIN)
    if past:
        within = (1.0, 1.0)
        # how this machine compares with what was expected of it; the middle one, so that one odd run counts little
        seconds *= float(np.median([p.seconds / _first_seconds(p.frames, p.read_mp) for p in past]))
        mib *= float(np.median([p.peak_mib / _first_mib(p.frames, p.made_mp) for p in past]))
    return Cost(exposures, exposures * rig.raw_mb / 1000, seconds, mib, len(past), *within)


def _first_seconds(frames: int, read_mp: float) -> float:
    start, by_frame, by_read = _FIRST_SECONDS
    return start + by_frame * frames + by_read * read_mp


def _first_mib(frames: int, made_mp: float) -> float:
    start, by_frame, by_made = _FIRST_MIB
    return start + by_frame * frames + by_made * made_mp


def cards_needed(card_gb: float, one_card_gb: float) -> int:
    """Cards of that size, a tenth of each kept free."""
    return max(1, math.ceil(card_gb / (0.9 * one_card_gb)))
