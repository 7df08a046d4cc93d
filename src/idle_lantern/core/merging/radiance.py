"""Exposures of one place -> linear light, each where it is neither clipped nor noise; and a plain curve to show it.

Debevec and Malik (1997), equation 6: the mean of ``value / exposure`` weighted by how far a value can be trusted. Values are
linear already: raw is, and what a camera developed is taken back by the curve of sRGB.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.picture import Picture, linear_to_srgb, srgb_to_linear

Array = NDArray[Any]

#: Values within this of full count for less and less, and at full for nothing.
_FULL_FROM = 0.85
#: Below this a value is noise more than light.
_FLOOR = 0.002
_ROWS = 512


def merge(
    pictures: Sequence[Picture], exposures_ev: Sequence[float], weights: Sequence[Array | None] | None = None
) -> Array:
    """Linear light (H, W, 3), float32, one where a frame of 0 EV is full.

    Parameters
    ----------
    pictures : pictures of one size that lie on each other, display-encoded by sRGB
    exposures_ev : how much more each was exposed
    weights : (H, W) from 0 to 1 for each, or None
        Where an exposure must not count.

    Where every exposure is clipped the darkest tells what is at least there; where all are noise, the brightest.
    """
    extra = weights or [None] * len(pictures)
    height, width = pictures[0].pixels.shape[:2]
    tables = [_linear_of(p.full_scale) for p in pictures]
    darkest, brightest = int(np.argmin(exposures_ev)), int(np.argmax(exposures_ev))
    light = np.empty((height, width, 3), np.float32)
    for top in range(0, height, _ROWS):
        rows = np.s_[top : top + _ROWS]
        total: Array | float = 0.0
        trusted: Array | float = 0.0
        for picture, table, ev, more in zip(pictures, tables, exposures_ev, extra):
            value = table[picture.pixels[rows]]
            # of Poisson light the trust in value / exposure grows with the exposure
            weight = _trust(value) * np.float32(2.0**ev)
            if more is not None:
                weight = weight * more[rows, :, None]
            total = total + weight * value * np.float32(2.0**-ev)
            trusted = trusted + weight
        nowhere = np.asarray(trusted) < 1e-7
        made = np.asarray(total) / np.maximum(trusted, 1e-7)
        if nowhere.any():
            low = tables[darkest][pictures[darkest].pixels[rows]] * np.float32(2.0 ** -exposures_ev[darkest])
            high = tables[brightest][pictures[brightest].pixels[rows]] * np.float32(2.0 ** -exposures_ev[brightest])
            bright = tables[darkest][pictures[darkest].pixels[rows]] > 0.5
            made = np.where(nowhere, np.where(bright, low, high), made)
        light[rows] = made
    return light


def _trust(value: Array) -> Array:
    """From 0 to 1: whether a value is light, all of it."""
    return np.asarray(np.clip((1 - value) / (1 - _FULL_FROM), 0, 1) * np.clip(value / _FLOOR, 0, 1), np.float32)


def _linear_of(full_scale: int) -> Array:
    return np.asarray(srgb_to_linear(np.linspace(0, 1, full_scale + 1)), np.float32)


@dataclass(frozen=True)
class Curve:
    """How light beyond white is shown: the same for all frames of a set, and undone where light itself is wanted.

    Reinhard and others (2002), equation 4, for each colour: ``x (1 + x / w^2) / (1 + x)``, scaled so that middle grey stays
    what it is, then sRGB. ``white`` is the light that becomes full white; 1 changes nothing.
    """

    white: float = 1.0

    def shown(self, light: Array) -> Array:
        """Display values of 16 bit."""
        x = np.maximum(light, 0)
        if self.white > 1:
            x = np.minimum(x, self.white) * np.float32(self._lift)
            w = np.float32(self.white * self._lift)
            x = x * (1 + x / (w * w)) / (1 + x)
        return np.asarray(np.rint(np.clip(linear_to_srgb(x), 0, 1) * 65535), np.uint16)

    def light(self, shown: Array) -> Array:
        """Linear light of display values (uint8 or uint16), float32."""
        full = np.iinfo(shown.dtype).max
        y = srgb_to_linear(np.asarray(shown, np.float32) / np.float32(full))
        if self.white <= 1:
            return np.asarray(y, np.float32)
        w2 = np.float32((self.white * self._lift) ** 2)
        # the positive root of x^2 / w^2 + (1 - y) x - y = 0
        x = w2 / 2 * (np.sqrt((1 - y) ** 2 + 4 * y / w2) - (1 - y))
        return np.asarray(x / np.float32(self._lift), np.float32)

    @property
    def _lift(self) -> float:
        """What keeps middle grey (0.18) in place."""
        g, w = 0.18, self.white
        # k g (1 + g / (k w^2)) / (1 + k g) = g, solved for k
        return (1 - g / w**2) / (1 - g) if w > 1 else 1.0
