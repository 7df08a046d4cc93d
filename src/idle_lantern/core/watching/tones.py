"""Three short tones for ears that have no eyes to spare: all is well, take care, shoot again."""

from __future__ import annotations

from typing import Literal

import numpy as np

from idle_lantern.core.base.arrays import Array

Kind = Literal["good", "care", "again"]

RATE = 44100
#: Each kind: notes as frequency in Hz and length in seconds. One high, two level, three falling: told apart by their count too.
NOTES: dict[Kind, tuple[tuple[float, float], ...]] = {
    "good": ((1046.5, 0.10),),
    "care": ((784.0, 0.12), (784.0, 0.12)),
    "again": ((659.3, 0.14), (523.3, 0.14), (392.0, 0.26)),
}
_GAP_S = 0.05  # between two tones
_FADE_S = 0.012  # at both ends of a tone
_LOUD = 0.35  # of full scale


def samples(kind: Kind) -> Array:
    """The tone as 16-bit samples (N,) of one channel at ``RATE``, faded in and out so that it does not click."""
    parts = []
    for frequency, seconds in NOTES[kind]:
        t = np.arange(round(seconds * RATE)) / RATE
        fade = np.clip(np.minimum(t, t[-1] - t) / _FADE_S, 0, 1)
        parts += [_LOUD * fade * np.sin(2 * np.pi * frequency * t), np.zeros(round(_GAP_S * RATE))]
    return np.asarray(np.rint(np.concatenate(parts[:-1]) * 32767), np.int16)
