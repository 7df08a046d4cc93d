"""Directions by azimuth and altitude, and even samples of a part of the sphere."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import ArrayLike

from idle_lantern.core.base.arrays import Array, Directions


def direction(azimuth_rad: ArrayLike, altitude_rad: ArrayLike) -> Directions:
    """Unit world directions (..., 3); azimuth to the right of +z, altitude up."""
    az, alt = np.broadcast_arrays(np.asarray(azimuth_rad, float), np.asarray(altitude_rad, float))
    c = np.cos(alt)
    return np.stack([c * np.sin(az), -np.sin(alt), c * np.cos(az)], -1)


def azimuth_altitude(directions: Directions) -> tuple[Array, Array]:
    """Azimuth (-pi..pi) and altitude in radians of world directions (..., 3)."""
    d = np.asarray(directions)
    return np.arctan2(d[..., 0], d[..., 2]), np.arctan2(-d[..., 1], np.hypot(d[..., 0], d[..., 2]))


def even_samples(azimuth_rad: tuple[float, float], altitude_rad: tuple[float, float], count: int) -> Directions:
    """About ``count`` evenly spread directions (N, 3) of an azimuth-altitude field, rims included.

    Inside: a golden-angle spiral, equal area each (a Fibonacci lattice). Rims are
    sampled on their own since holes begin there.
    """
    (az0, az1), (alt0, alt1) = azimuth_rad, altitude_rad
    i = np.arange(count)
    golden = (math.sqrt(5) - 1) / 2
    az = az0 + (az1 - az0) * np.mod(i * golden, 1)
    alt = np.arcsin(np.sin(alt0) + (np.sin(alt1) - np.sin(alt0)) * (i + 0.5) / count)
    t = np.linspace(0, 1, max(8, int(2 * math.sqrt(count))))
    o = np.ones_like(t)
    rim_az = np.concatenate([az0 + t * (az1 - az0)] * 2 + [az0 * o, az1 * o])
    rim_alt = np.concatenate([alt0 * o, alt1 * o] + [alt0 + t * (alt1 - alt0)] * 2)
    return direction(np.concatenate([az, rim_az]), np.concatenate([alt, rim_alt]))
