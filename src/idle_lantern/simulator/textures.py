"""Surface detail that stays sharp and free of aliasing at any distance.

One noise texture with a full chain of halvings gives detail from a metre to a
millimetre; regular patterns (joints, planks, panes) are averaged exactly over
the pixel's footprint.
"""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array

_SIZE = 1024
_LEVELS = 9
_ROW = 512


@lru_cache(maxsize=1)
def _halvings() -> list[Array]:
    """Noise texture at full, half, quarter ... size, each with one wrapped pixel at right and bottom."""
    rng = np.random.default_rng(20260501)
    fy, fx = np.meshgrid(np.fft.fftfreq(_SIZE), np.fft.rfftfreq(_SIZE), indexing="ij")
    frequency = np.hypot(fx, fy)
    frequency[0, 0] = 1
    spectrum = np.fft.rfft2(rng.standard_normal((_SIZE, _SIZE))) * frequency**-0.8
    spectrum[0, 0] = 0
    level = np.fft.irfft2(spectrum)
    level = (level / level.std()).astype(np.float32)
    levels = []
    for _ in range(_LEVELS):
        n = level.shape[0]
        levels.append(np.pad(level, ((0, 1), (0, 1)), mode="wrap"))
        level = level.reshape(n // 2, 2, n // 2, 2).mean((1, 3))
    return levels


def noise(a: Array, b: Array, footprint: Array, tile: float, seed: int) -> Array:
    """Noise of mean 0 and deviation 1 at surface places (a, b), filtered to ``footprint``.

    Parameters
    ----------
    a, b, footprint : float32, of one shape
        Surface coordinates and pixel footprint, in metres.
    tile : float
        Side of the repeating texture in metres.
    seed : int
        Shifts and mirrors the texture, so that no two surfaces look alike.
    """
    per_metre = np.float32(_SIZE / tile)
    shift = np.random.default_rng(seed).uniform(0, _SIZE, 2).astype(np.float32)
    if seed % 2:
        a, b = b, a
    lod = np.log2(np.maximum(footprint.ravel() * per_metre, np.float32(1)))
    result = np.zeros(lod.shape, np.float32)
    across, down = a.ravel(), b.ravel()
    low, high = int(lod.min(initial=_LEVELS)), int(lod.max(initial=0)) + 1
    for i in range(low, min(high, _LEVELS - 1) + 1):
        # a pixel takes from the two levels next to its own; beyond the last the noise has averaged out
        weight = 1 - np.abs(lod - np.float32(i))
        at = np.flatnonzero(weight > 0)
        if not len(at):
            continue
        all_of_them = len(at) == len(lod)
        n, size = np.float32(_SIZE >> i), np.float32(0.5**i)
        u, v = (across, down) if all_of_them else (across[at], down[at])
        u = u * (per_metre * size) + ((shift[0] + np.float32(0.5)) * size - np.float32(0.5))
        v = v * (per_metre * size) + ((shift[1] + np.float32(0.5)) * size - np.float32(0.5))
        u -= np.floor(u * (1 / n)) * n
        v -= np.floor(v * (1 / n)) * n
        found = _sampled(_halvings()[i], u, v)
        if all_of_them:
            result += weight * found
        else:
            result[at] += weight[at] * found
    return result.reshape(a.shape)


def _sampled(level: Array, u: Array, v: Array) -> Array:
    """A texture at places (N,) each, in rows as short as the sampler takes them."""
    rows = -(-len(u) // _ROW)
    padded = np.zeros((2, rows * _ROW), np.float32)
    padded[0, : len(u)], padded[1, : len(v)] = u, v
    places = padded.reshape(2, rows, _ROW)
    found = cv2.remap(level, places[0], places[1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(found.ravel()[: len(u)])


def detail(a: Array, b: Array, footprint: Array, seed: int, strength: float = 0.3) -> Array:
    """A factor (...,) about 1: noise at three scales whose tiles share no common period."""
    total = (
        noise(a, b, footprint, 23.0, seed)
        + 0.9 * noise(a, b, footprint, 4.7, seed + 1)
        + 0.9 * noise(b, a, footprint, 0.93, seed + 2)
    )
    return np.exp(np.float32(0.6 * strength) * np.clip(total, -4, 4))


def lines(x: Array, footprint: Array, period: float, width: float) -> Array:
    """Share (...,) of the pixel covered by lines of ``width`` every ``period``, averaged exactly."""
    half = np.maximum(footprint, 1e-5) / 2

    def integral(t: Array) -> Array:
        turns = np.floor(t / period)
        return turns * width + np.minimum(t - turns * period, width)

    return np.asarray((integral(x + half) - integral(x - half)) / (2 * half), np.float32)


def cell_noise(i: Array, j: Array, seed: int) -> Array:
    """A fixed random number 0..1 for each integer cell (i, j)."""
    h = i.astype(np.int64) * 73856093 ^ j.astype(np.int64) * 19349663 ^ seed * 83492791
    h = (h ^ (h >> 13)) * 1274126177 & 0x7FFFFFFF
    return ((h ^ (h >> 16)) & 0xFFFF).astype(np.float32) / np.float32(65535)


def edge(distance: Array, footprint: Array) -> Array:
    """Coverage 0..1 of a pixel whose centre lies ``distance`` inside a shape's edge."""
    return np.clip(distance / footprint + np.float32(0.5), 0, 1)
