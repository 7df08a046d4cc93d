"""Sky by direction: gradient, glow round the sun, clouds."""

from __future__ import annotations

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.simulator import textures
from idle_lantern.simulator.surfaces import Sky

_ZENITH = np.array([0.16, 0.30, 0.55], np.float32)
_HORIZON = np.array([0.58, 0.68, 0.78], np.float32)
_CLOUD_HEIGHT_M = 900.0


def make_sky(
    sun_direction: tuple[float, float, float],
    clouds: float = 1.0,
    seed: int = 5,
    *,
    drift_m: tuple[float, float] = (0.0, 0.0),
    light: float = 1.0,
) -> Sky:
    """A day sky; ``clouds`` 0 is clear (nothing to match), 1 is fair-weather cloud.

    ``drift_m`` is how far the clouds have gone east and north, ``light`` a factor on all of it.
    """
    sun = np.asarray(sun_direction, np.float32)

    def sky(directions: Array, pixel_rad: float) -> Array:
        up = -directions[..., 1]
        lift = np.clip(up, 0, 1) ** np.float32(0.45)
        colour = _HORIZON + lift[..., None] * (_ZENITH - _HORIZON)
        toward = np.clip(directions @ sun, 0, 1)
        p8 = np.square(np.square(np.square(toward)))
        p64 = np.square(np.square(np.square(p8)))
        glow = (
            0.5 * p8
            + 0.8 * (p64 * p8 * p8 * p8 * np.square(toward))
            + 6.0 * np.clip((toward - 0.99996) / 0.00002, 0, 1)
        )
        colour = colour + glow[..., None] * np.array([1.0, 0.88, 0.7], np.float32)
        if clouds > 0:
            shape, cover = _clouds(directions, pixel_rad, clouds, seed, drift_m)
            white = np.array([0.86, 0.86, 0.88], np.float32) * (1 - 0.18 * np.clip(shape - 1.0, 0, 1.2))[..., None]
            colour = colour + cover[..., None] * (white - colour)
        return np.asarray((colour * np.float32(light)).astype(np.float32))

    return sky


def _clouds(
    directions: Array, pixel_rad: float, clouds: float, seed: int, drift_m: tuple[float, float]
) -> tuple[Array, Array]:
    """Thickness of the clouds, and how much they cover, by direction."""
    up = -directions[..., 1]
    t = np.float32(_CLOUD_HEIGHT_M) / np.maximum(up, np.float32(0.03))
    x, z = directions[..., 0] * t - np.float32(drift_m[0]), directions[..., 2] * t - np.float32(drift_m[1])
    fine = t * np.float32(pixel_rad) / np.maximum(up, np.float32(0.03)) ** np.float32(0.5)
    shape = (
        textures.noise(x, z, fine, 9000.0, seed)
        + 0.35 * textures.noise(z, x, fine, 1300.0, seed + 1)
        + 0.10 * textures.noise(x, z, fine, 190.0, seed + 2)
    )
    return shape, np.clip((shape - np.float32(0.35)) * 0.9, 0, 1) * np.clip(up * 14 - 0.5, 0, 1) * np.float32(clouds)
