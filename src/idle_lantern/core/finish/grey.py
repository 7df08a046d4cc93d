"""A grey that was picked: the light under which it is grey."""

from __future__ import annotations

import math

import numpy as np
from scipy.optimize import minimize_scalar

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.space import BRADFORD, ColourSpace, rgb_to_xyz
from idle_lantern.core.colour.white import TINT_UV, uv_of_xyz, white_of

_LEAST_K, _MOST_K = 1700.0, 25000.0


def light_for_grey(light: Array, space: ColourSpace, from_kelvin: float) -> tuple[float, float]:
    """Kelvin and tint of the white balance that makes linear ``light`` (3,) of a picture a grey, as near as they can.

    Bradford maps the white of these to that of ``from_kelvin``; the picked colour must come to lie on the space's white.
    """
    to_xyz = rgb_to_xyz(space.chromaticities)
    cones = BRADFORD @ to_xyz @ np.maximum(np.asarray(light, float), 1e-6)
    wanted = np.linalg.solve(BRADFORD, cones * (BRADFORD @ white_of(from_kelvin)) / (BRADFORD @ to_xyz.sum(1)))
    uv = uv_of_xyz(wanted)

    def off(reciprocal: float) -> float:
        return float(np.sum((uv_of_xyz(white_of(1e6 / reciprocal)) - uv) ** 2))

    # along the line of lights steps of equal look are steps of the reciprocal
    found = minimize_scalar(off, bounds=(1e6 / _MOST_K, 1e6 / _LEAST_K), method="bounded")
    kelvin = 1e6 / float(found.x)
    plain, greener = uv_of_xyz(white_of(kelvin)), uv_of_xyz(white_of(kelvin, 1.0))
    tint = float((uv - plain) @ (greener - plain)) / TINT_UV**2
    return round(kelvin), round(math.copysign(min(abs(tint), 1.0), tint), 3)
