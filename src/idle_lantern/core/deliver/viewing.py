"""What the eye tells of a print from where it is seen: an eye of usual sharpness parts two points a minute of arc away from each other (Snellen, 1862)."""

from __future__ import annotations

import math

_SEEN_RAD = math.radians(1 / 60)
_INCH_M = 0.0254


def seen_dpi(distance_m: float) -> float:
    """Pixels an inch from which on no eye of usual sharpness tells them apart at that distance."""
    return _INCH_M / (distance_m * math.tan(_SEEN_RAD))


def sharp_from_m(dpi: float) -> float:
    """The distance from which on so many pixels an inch look sharp."""
    return _INCH_M / (dpi * math.tan(_SEEN_RAD))


def largest_print_m(size_px: tuple[int, int], distance_m: float) -> tuple[float, float]:
    """Width and height of the largest print that looks sharp at that distance."""
    dpi = seen_dpi(distance_m)
    return size_px[0] / dpi * _INCH_M, size_px[1] / dpi * _INCH_M


def needed_px(width_m: float, distance_m: float) -> int:
    """Pixels across that a print so wide needs to look sharp at that distance."""
    return math.ceil(width_m / _INCH_M * seen_dpi(distance_m))
