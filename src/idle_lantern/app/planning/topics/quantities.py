"""How the pages read and write quantities: pairs of a reader and a writer."""

from __future__ import annotations

from collections.abc import Callable

from idle_lantern.app.planning.brief_binding import number_with, plain
from idle_lantern.core.base import units

MM = (units.parse_length_mm, plain(6, "mm"))
DEG = (units.parse_angle_deg, units.angle)
SHARE = (units.parse_share, units.share)
COUNT = (number_with("", "2"), plain(6))
STOPS = (number_with("stops", "3"), plain(3, "stops"))
SECONDS = (units.parse_time_s, plain(4, "s"))
METRES = (units.parse_distance_m, units.distance)


def pixels(text: str) -> float:
    """Read a whole number of pixels."""
    return float(round(units.parse_number(text.replace("px", "").replace("\u202f", ""), "a number of pixels", "6000")))


def f_number(value: float) -> str:
    """An aperture as it is engraved: ``f/8``."""
    return f"f/{value:g}"


def or_unknown(value: float) -> str:
    """Millimetres, or that they are unknown."""
    return "unknown" if value == 0 else f"{value:g} mm"


def mm_or_none(value: float) -> str:
    """Millimetres, or that there is none."""
    return "none" if value == 0 else f"{value:g} mm"


def or_needed(value: float) -> tuple[Callable[[str], float], Callable[[float], str]]:
    """Reader and writer of a count of which one value means as many as needed."""
    read, write = COUNT

    def parse(text: str) -> float:
        return value if text.strip().lower() in ("as needed", "needed", "auto") else read(text)

    return parse, lambda count: "as needed" if count == value else write(count)
