"""The colour of lights by their temperature."""

from __future__ import annotations

import numpy as np

from idle_lantern.core.base.arrays import Array

#: Between the two lines of lights, in kelvin.
_LAMPS_K, _DAYLIGHT_K = 4000.0, 5000.0
#: How far a full tint lies across the line of lights (CIE 1960 u, v).
TINT_UV = 0.02
_STEP_K = 1.0


def white_of(kelvin: float, tint: float = 0.0) -> Array:
    """XYZ (3,) of a light, Y = 1: a lamp's below 4000 K, daylight above 5000 K, between them part of each.

    Lamps are black bodies (Kim and others 2002, US patent 7 024 034), daylight is CIE 15:2004, equations 3.3 and 3.4. ``tint`` from
    -1 to 1 moves the light across the line towards green, so that what is developed for it becomes more magenta.
    """
    at = _uv(kelvin)
    if tint:
        along = _uv(kelvin + _STEP_K) - _uv(kelvin - _STEP_K)
        # to the left of growing temperature lies green
        across = np.array([along[1], -along[0]]) / np.linalg.norm(along)
        across = across if across[1] > 0 else -across
        at = at + TINT_UV * tint * across
    u, v = at
    x, y = 3 * u / (2 * u - 8 * v + 4), 2 * v / (2 * u - 8 * v + 4)
    return np.array([x / y, 1.0, (1 - x - y) / y])


def uv_of_xyz(xyz: Array) -> Array:
    """CIE 1960 u, v (2,) of XYZ (3,)."""
    x, y, z = xyz
    return np.asarray(np.array([4 * x, 6 * y]) / (x + 15 * y + 3 * z))


def _uv(kelvin: float) -> Array:
    """CIE 1960 u, v of a light."""
    share = min(max((kelvin - _LAMPS_K) / (_DAYLIGHT_K - _LAMPS_K), 0.0), 1.0)
    x, y = share * np.array(daylight_xy(max(kelvin, _LAMPS_K))) + (1 - share) * np.array(lamp_xy(min(kelvin, 25000.0)))
    return np.asarray(np.array([4 * x, 6 * y]) / (-2 * x + 12 * y + 3))


def daylight_xy(kelvin: float) -> tuple[float, float]:
    """CIE 1931 x, y of daylight of 4000 to 25000 K (CIE 15:2004, equations 3.3 and 3.4)."""
    t = 1000.0 / kelvin
    if kelvin <= 7000:
        x = -4.6070 * t**3 + 2.9678 * t**2 + 0.09911 * t + 0.244063
    else:
        x = -2.0064 * t**3 + 1.9018 * t**2 + 0.24748 * t + 0.237040
    return x, -3.000 * x * x + 2.870 * x - 0.275


def lamp_xy(kelvin: float) -> tuple[float, float]:
    """CIE 1931 x, y of a black body of 1667 to 25000 K (Kim and others 2002, US patent 7 024 034)."""
    t = 1000.0 / kelvin
    if kelvin <= 4000:
        x = -0.2661239 * t**3 - 0.2343589 * t**2 + 0.8776956 * t + 0.179910
    else:
        x = -3.0258469 * t**3 + 2.1070379 * t**2 + 0.2226347 * t + 0.240390
    if kelvin <= 2222:
        y = -1.1063814 * x**3 - 1.34811020 * x**2 + 2.18555832 * x - 0.20219683
    elif kelvin <= 4000:
        y = -0.9549476 * x**3 - 1.37418593 * x**2 + 2.09137015 * x - 0.16748867
    else:
        y = 3.0817580 * x**3 - 5.87338670 * x**2 + 3.75112997 * x - 0.37001483
    return x, y
