"""Colour temperature of a light: what a development made for it multiplies red, green and blue by, and back."""

from __future__ import annotations

import math

from idle_lantern.core.colour.white import lamp_xy

#: Light that a picture counts as developed for, where nothing tells.
DAYLIGHT_K = 5500.0
COOLEST_K, WARMEST_K = 2500.0, 20000.0
#: Stops by which a full tint moves green.
_TINT_STOPS = 0.5
#: Shares of red, green and blue in brightness (IEC 61966-2-1).
_BRIGHTNESS = (0.2126, 0.7152, 0.0722)

Gains = tuple[float, float, float]

#: Lights that photographers name, as cameras do (common practice, no source).
PRESETS: tuple[tuple[str, float], ...] = (
    ("As taken", DAYLIGHT_K),
    ("Lamp light", 3000.0),
    ("Low sun", 4200.0),
    ("Cloud", 6500.0),
    ("Shade", 7500.0),
)


def gains_for(kelvin: float, tint: float = 0.0) -> Gains:
    """Factors on linear light that develop a picture for a light of ``kelvin`` instead of daylight; brightness stays.

    A higher light (bluer) makes the picture warmer. ``tint`` from -1 (green) to 1 (magenta).
    """
    here, there = _rgb(kelvin), _rgb(DAYLIGHT_K)
    gains = [b / a for a, b in zip(here, there)]
    gains[1] *= 2.0 ** (-_TINT_STOPS * tint)
    bright = sum(share * gain for share, gain in zip(_BRIGHTNESS, gains))
    red, green, blue = (gain / bright for gain in gains)
    return red, green, blue


def light_of(gains: Gains) -> tuple[float, float]:
    """Kelvin and tint whose gains come nearest, up to their common brightness."""
    red, _green, blue = gains
    kelvin = DAYLIGHT_K + kelvin_shift(math.log2(red / blue), far=math.inf)
    kelvin = min(max(kelvin, COOLEST_K), WARMEST_K)
    plain = gains_for(kelvin)
    # green against the middle of red and blue
    own, usual = (g[1] / math.sqrt(g[0] * g[2]) for g in (gains, plain))
    return kelvin, min(max(-math.log2(own / usual) / _TINT_STOPS, -1.0), 1.0)


def grey_at(colour: Gains, now: Gains) -> Gains:
    """Gains that make linear ``colour``, as it is shown under the gains ``now``, a neutral grey of the same brightness."""
    wanted = [n / max(c, 1e-4) for n, c in zip(now, colour)]
    bright = sum(share * gain for share, gain in zip(_BRIGHTNESS, wanted))
    red, green, blue = (min(max(gain / bright, 0.1), 10.0) for gain in wanted)
    return red, green, blue


def kelvin_shift(red_over_blue_ev: float, far: float = 3000.0) -> float:
    """How much higher a light than daylight a development was made for that shows so much more red against blue.

    Beyond all lights ``far`` with its sign.
    """
    target = red_over_blue(DAYLIGHT_K) - red_over_blue_ev
    low, high = COOLEST_K, WARMEST_K
    if not red_over_blue(high) < target < red_over_blue(low):
        return math.copysign(far, red_over_blue_ev)
    for _ in range(40):
        middle = (low + high) / 2
        low, high = (middle, high) if red_over_blue(middle) > target else (low, middle)
    return (low + high) / 2 - DAYLIGHT_K


def red_over_blue(kelvin: float) -> float:
    """Logarithm to base 2 of red over blue of a black body."""
    red, _green, blue = _rgb(kelvin)
    return math.log2(red / blue)


def _rgb(kelvin: float) -> Gains:
    """Linear sRGB (IEC 61966-2-1) of a black body."""
    x, y = lamp_xy(kelvin)
    big_x, big_z = x / y, (1 - x - y) / y
    red = 3.2406 * big_x - 1.5372 - 0.4986 * big_z
    green = -0.9689 * big_x + 1.8758 + 0.0415 * big_z
    blue = 0.0557 * big_x - 0.2040 + 1.0570 * big_z
    return max(red, 1e-6), max(green, 1e-6), max(blue, 1e-6)
