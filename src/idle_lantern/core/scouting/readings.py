"""Light in each direction, as a meter would read it: exposure settings and linear values of the pictures.

EV at ISO 100 = log2(N² / t) - log2(ISO / 100) (ISO 2720; APEX). A meter makes what it reads the middle grey of 18 %, so light that
fills the sensor by 18 % at a setting of some EV reads just that EV.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.scouting.ground import Glance

_GREY = 0.18
#: Azimuths that one reading stands for, and altitudes that a meter held level takes in.
STEP_DEG, _UP_DEG = 10.0, 25.0
_FULL = 250  # display value from which a pixel is full
_BLACK = 4  # display value up to which it is black
_CLIPPED = 0.08  # share of full pixels that makes a reading a bound
_DROWNED = 0.5  # share of black ones that does
_LEAST_PIXELS = 60
#: Of its azimuths a reading must stand for such a share, and pictures that show so much less than the one that shows most do
#: not count.
_LEAST_SHARE, _ABOUT_AS_MUCH = 0.3, 0.2


@dataclass(frozen=True)
class _Seen:
    """What one picture shows towards an azimuth: EV, shares of full and of black pixels, pixels, and the share of the bin."""

    ev: float
    full: float
    black: float
    pixels: int
    share: float


@dataclass(frozen=True)
class LightReading:
    """What a meter reads towards an azimuth; ``bound`` says whether it is at least or at most so much."""

    azimuth_deg: float
    ev: float
    bound: Literal["ok", "at least", "at most"]


def readings_of(glances: Sequence[Glance]) -> list[LightReading]:
    """Readings by azimuth, of all pictures that tell their exposure; several that show a direction are averaged."""
    light: dict[int, list[_Seen]] = {}
    for glance in glances:
        if glance.ev is None:
            continue
        level = np.isfinite(glance.azimuth_deg) & (np.abs(glance.altitude_deg) <= _UP_DEG)
        if level.sum() < _LEAST_PIXELS:
            level = np.isfinite(glance.azimuth_deg)  # a look far up or down: all of it
        azimuth = glance.azimuth_deg[level]
        bins = np.floor(azimuth / STEP_DEG).astype(int)
        pixels = glance.pixels[level]
        luminance = SRGB.to_linear(pixels.astype(np.float32) / 255) @ SRGB.luminance
        full, black = pixels.max(1) >= _FULL, pixels.max(1) <= _BLACK
        for b in np.unique(bins):
            mine = bins == b
            if mine.sum() >= _LEAST_PIXELS:
                mean = max(float(luminance[mine].mean()), 1e-6)
                ev = glance.ev + math.log2(mean / _GREY)
                share = float(np.ptp(azimuth[mine])) / STEP_DEG
                found = _Seen(ev, float(full[mine].mean()), float(black[mine].mean()), int(mine.sum()), share)
                light.setdefault(int(b), []).append(found)
    told = (_reading(b, seen) for b, seen in sorted(light.items()))
    return [reading for reading in told if reading is not None]


def _reading(b: int, seen: list[_Seen]) -> LightReading | None:
    most = max(s.share for s in seen)
    if most < _LEAST_SHARE:
        return None
    # the part that a sliver shows may be the one that is not too bright
    seen = [s for s in seen if s.share >= most - _ABOUT_AS_MUCH]
    whole = [s for s in seen if s.full < _CLIPPED and s.black < _DROWNED]
    azimuth = (b + 0.5) * STEP_DEG
    if whole:
        weights = np.array([s.pixels for s in whole])
        # a mean of light, not of its logarithm
        mean = float((2.0 ** np.array([s.ev for s in whole]) * weights).sum() / weights.sum())
        return LightReading(azimuth, math.log2(mean), "ok")
    # of several bounds the tightest
    clipped = [s.ev for s in seen if s.full >= _CLIPPED]
    return (
        LightReading(azimuth, max(clipped), "at least")
        if clipped
        else LightReading(azimuth, min(s.ev for s in seen), "at most")
    )
