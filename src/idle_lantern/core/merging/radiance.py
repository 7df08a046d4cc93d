"""Exposures of one place -> linear light, each where it is neither clipped nor noise.

Debevec and Malik (1997), equation 6: the mean of ``value / exposure`` weighted by how far a value can be trusted. Values are
linear already: raw is, and what a camera developed is taken back by the curve of its colour space.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture

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
    pictures : pictures of one size that lie on each other, in one colour space
    exposures_ev : how much more each was exposed
    weights : (H, W) from 0 to 1 for each, or None
        Where an exposure must not count.

    Where every exposure is clipped the darkest tells what is at least there; where all are noise, the brightest.
    """
    extra = weights or [None] * len(pictures)
    height, width = pictures[0].pixels.shape[:2]
    tables = [p.space.light_table(p.full_scale) for p in pictures]
    colours = np.arange(3)
    darkest, brightest = int(np.argmin(exposures_ev)), int(np.argmax(exposures_ev))
    light = np.empty((height, width, 3), np.float32)
    for top in range(0, height, _ROWS):
        rows = np.s_[top : top + _ROWS]
        total: Array | float = 0.0
        trusted: Array | float = 0.0
        for picture, table, ev, more in zip(pictures, tables, exposures_ev, extra):
            value = table[picture.pixels[rows], colours]
            # of Poisson light the trust in value / exposure grows with the exposure
            weight = _trust(value) * np.float32(2.0**ev)
            if more is not None:
                weight = weight * more[rows, :, None]
            total = total + weight * value * np.float32(2.0**-ev)
            trusted = trusted + weight
        nowhere = np.asarray(trusted) < 1e-7
        made = np.asarray(total) / np.maximum(trusted, 1e-7)
        if nowhere.any():
            low = tables[darkest][pictures[darkest].pixels[rows], colours] * np.float32(2.0 ** -exposures_ev[darkest])
            high = tables[brightest][pictures[brightest].pixels[rows], colours] * np.float32(
                2.0 ** -exposures_ev[brightest]
            )
            bright = tables[darkest][pictures[darkest].pixels[rows], colours] > 0.5
            made = np.where(nowhere, np.where(bright, low, high), made)
        light[rows] = made
    return light


def _trust(value: Array) -> Array:
    """From 0 to 1: whether a value is light, all of it."""
    return np.asarray(np.clip((1 - value) / (1 - _FULL_FROM), 0, 1) * np.clip(value / _FLOOR, 0, 1), np.float32)
