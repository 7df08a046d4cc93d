"""Quantities as people write and read them: the only parser and the only formatter."""

from __future__ import annotations

import datetime
import math
import re

from idle_lantern.core.base.errors import InputError

_NUMBER = r"[-+]?(?:\d+(?:[.,]\d*)?|[.,]\d+)"
_LENGTHS_MM = {
    "mm": 1.0,
    "cm": 10.0,
    "m": 1000.0,
    "km": 1e6,
    "in": 25.4,
    '"': 25.4,
    "ft": 304.8,
    "'": 304.8,
}


def _number(text: str) -> float:
    return float(text.replace(",", "."))


def _refuse(text: str, name: str, example: str) -> InputError:
    return InputError(f"'{text.strip()}' is not {name}", remedy=f"Write it like {example}")


def parse_number(text: str, name: str = "a number", example: str = "12.5") -> float:
    """Read a bare number; a decimal comma is understood.

    Raises
    ------
    InputError
        Not a finite number.
    """
    match = re.fullmatch(rf"\s*({_NUMBER})\s*", text.replace("−", "-"))
    if not match:
        raise _refuse(text, name, example)
    return _number(match[1])


def parse_angle_deg(text: str) -> float:
    """Read an angle in degrees: ``15``, ``15°``, ``15 deg``, ``-7,5``."""
    return parse_number(re.sub(r"(°|deg|degrees?)\s*$", "", text.strip()), "an angle", "120 or 120°")


def parse_share(text: str) -> float:
    """Read a share as 0..1: ``35 %``, ``0.35``, ``1/3``, ``1:3``, ``35``."""
    cleaned = text.strip()
    match = re.fullmatch(rf"({_NUMBER})\s*[/:]\s*({_NUMBER})", cleaned)
    if match and _number(match[2]) != 0:
        return _number(match[1]) / _number(match[2])
    percent = cleaned.endswith("%")
    value = parse_number(cleaned.rstrip("% "), "a share", "35 % or 1/3")
    return value / 100 if percent or value > 1 else value


def parse_length_mm(text: str, bare_unit: str = "mm") -> float:
    """Read a length in millimetres: ``50``, ``1.8 m``, ``6ft``, ``5' 10"``."""
    cleaned = text.strip().lower().replace("″", '"').replace("′", "'")
    feet = re.fullmatch(rf"({_NUMBER})\s*(?:ft|')\s*({_NUMBER})\s*(?:in|\")?", cleaned)
    if feet:
        return _number(feet[1]) * 304.8 + _number(feet[2]) * 25.4
    match = re.fullmatch(rf"({_NUMBER})\s*(mm|cm|km|m|in|ft|\"|')?", cleaned)
    if not match:
        raise _refuse(text, "a length", "50 mm or 1.8 m")
    return _number(match[1]) * _LENGTHS_MM[match[2] or bare_unit]


def parse_time_s(text: str) -> float:
    """Read an exposure time in seconds: ``1/125``, ``2.5s``, ``0.004``, ``2 min``."""
    cleaned = text.strip().lower()
    match = re.fullmatch(rf"({_NUMBER})\s*/\s*({_NUMBER})\s*s?", cleaned)
    if match and _number(match[2]) > 0:
        return _number(match[1]) / _number(match[2])
    match = re.fullmatch(rf"({_NUMBER})\s*(s|sec|min|ms)?", cleaned)
    if not match:
        raise _refuse(text, "a time", "1/125 or 2.5 s")
    return _number(match[1]) * {"min": 60.0, "ms": 1e-3}.get(match[2] or "s", 1.0)


_SIDES = {"n": (90, 1), "s": (90, -1), "e": (180, 1), "w": (180, -1)}


def parse_latitude_deg(text: str) -> float:
    """Read a latitude: ``55.5``, ``-33°``, ``55.5 N``, ``33° 52' S``."""
    return _parse_side(text, "ns", "a latitude", "55.5 N or -33.9")


def parse_longitude_deg(text: str) -> float:
    """Read a longitude: ``-8.2``, ``8.2 W``, ``151° 12' 30" E``."""
    return _parse_side(text, "ew", "a longitude", "8.2 W or -8.2")


def _parse_side(text: str, sides: str, name: str, example: str) -> float:
    cleaned = text.strip().lower().replace("−", "-").replace("″", '"').replace("′", "'").replace("º", "°")
    cleaned = re.sub(r"(north|south|east|west)$", lambda m: m[0][0], cleaned)
    match = re.fullmatch(
        rf"({_NUMBER})\s*(?:°|deg|degrees?)?\s*(?:({_NUMBER})\s*')?\s*(?:({_NUMBER})\s*\")?\s*([{sides}])?", cleaned
    )
    if not match:
        raise _refuse(text, name, example)
    whole, minutes, seconds = (_number(part) if part else 0.0 for part in match.groups()[:3])
    if (match[4] and whole < 0) or not 0 <= minutes < 60 or not 0 <= seconds < 60:
        raise _refuse(text, name, example)
    value = math.copysign(abs(whole) + minutes / 60 + seconds / 3600, whole)
    return value * (_SIDES[match[4]][1] if match[4] else 1)


_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")


def parse_date(text: str) -> str:
    """Read a date as ISO 8601: ``2026-12-31``, ``31.12.2026``, ``31 Dec 2026``, ``December 31, 2026``."""
    cleaned = text.strip().lower()
    year = month = day = 0
    if match := re.fullmatch(r"(\d{4})[-./](\d{1,2})[-./](\d{1,2})", cleaned):
        year, month, day = (int(part) for part in match.groups())
    elif match := re.fullmatch(r"(\d{1,2})\.\s*(\d{1,2})\.\s*(\d{4})", cleaned):
        day, month, year = (int(part) for part in match.groups())
    elif match := re.fullmatch(r"(\d{1,2})(?:st|nd|rd|th)?\.?\s*([a-z]{3,9})\.?,?\s*(\d{4})", cleaned):
        day, month, year = int(match[1]), _month(match[2]), int(match[3])
    elif match := re.fullmatch(r"([a-z]{3,9})\.?\s*(\d{1,2})(?:st|nd|rd|th)?,?\s*(\d{4})", cleaned):
        day, month, year = int(match[2]), _month(match[1]), int(match[3])
    try:
        return datetime.date(year, month, day).isoformat()
    except ValueError:
        raise _refuse(text, "a date", "2026-05-14 or 14.5.2026") from None


def _month(word: str) -> int:
    return next((i for i, name in enumerate(_MONTHS, 1) if word.startswith(name)), 0)


def parse_clock(text: str) -> str:
    """Read a time of day as ``HH:MM``: ``19:30``, ``19.30``, ``7.30 pm``, ``7 pm``, ``1930``, ``19 h 30``."""
    cleaned = re.sub(r"[\s.]*m\.?$", "m", re.sub(r"\s+", " ", text.strip().lower()))
    match = re.fullmatch(r"(\d{1,2})(?:(?: ?[:.h] ?)(\d{2})?(?::\d{2})?)?\s*([ap])?m?", cleaned)
    if match is None:
        match = re.fullmatch(r"(\d{2})(\d{2})()", cleaned)
    if match is None or (cleaned.endswith("m") and not match[3]):
        raise _refuse(text, "a time of day", "19:30 or 7.30 pm")
    hours, minutes = int(match[1]), int(match[2] or 0)
    if match[3]:
        hours = hours % 12 + (12 if match[3] == "p" else 0) if 1 <= hours <= 12 else 99
    if hours > 23 or minutes > 59:
        raise _refuse(text, "a time of day", "19:30 or 7.30 pm")
    return f"{hours:02d}:{minutes:02d}"


def angle(value_deg: float, digits: int = 1) -> str:
    """``-12.5°`` with a true minus sign; never ``-0``."""
    rounded = round(value_deg, digits) + 0.0
    return f"{rounded:.{digits}f}°".replace("-", "−")


def counted(count: int, thing: str) -> str:
    """A number of things: ``1 frame``, ``3 frames``."""
    return f"{count} {thing}{'' if count == 1 else 's'}"


def place(latitude_deg: float, longitude_deg: float) -> str:
    """A place to a tenth of a degree: ``55.5° N, 8.2° W``."""
    return f"{abs(latitude_deg):.1f}° {'N' if latitude_deg >= 0 else 'S'}, {abs(longitude_deg):.1f}° {'E' if longitude_deg >= 0 else 'W'}"


def share(value: float, digits: int = 0) -> str:
    """``33 %``."""
    return f"{100 * value:.{digits}f} %"


def ev_range(low_ev: float, high_ev: float) -> str:
    """Exposure values from the least to the most light, as one where they hardly differ."""
    return f"{low_ev:.1f} EV" if high_ev - low_ev < 0.05 else f"{low_ev:.1f} to {high_ev:.1f} EV"


def grouped(value: float) -> str:
    """``11 000`` with thin spaces."""
    return f"{round(value):,}".replace(",", "\u202f")


def megapixels(pixels: float) -> str:
    """``12.0 MP``, ``1.25 Gpx`` from 1 000 MP on."""
    mega = pixels / 1e6
    if mega >= 1000:
        return f"{mega / 1000:.2f} Gpx"
    return f"{mega:.1f} MP" if mega < 100 else f"{mega:.0f} MP"


def length(value_mm: float, imperial: bool = False) -> str:
    """A length in the unit a person would choose."""
    if imperial:
        inches = value_mm / 25.4
        return f"{inches:.1f} in" if inches < 36 else f"{inches / 12:.1f} ft"
    if value_mm < 10:
        return f"{value_mm:.1f} mm"
    if value_mm < 1000:
        return f"{value_mm / 10:.1f} cm"
    return f"{value_mm / 1000:.2f} m" if value_mm < 1e6 else f"{value_mm / 1e6:.1f} km"


def exposure_time(value_s: float) -> str:
    """``1/125 s``, ``0.4 s``, ``2.5 s``."""
    if value_s >= 60:
        return duration(value_s)
    if value_s >= 0.3:
        return f"{value_s:.3g} s"
    return f"1/{round(1 / value_s)} s"


def distance(value_m: float, imperial: bool = False) -> str:
    """A distance in the scene; ``infinity`` where there is no end."""
    return "infinity" if math.isinf(value_m) else length(value_m * 1000, imperial)


def parse_distance_m(text: str) -> float:
    """Read a distance in metres: ``2.5``, ``80 cm``, ``6 ft``, ``infinity``."""
    if text.strip().lower() in ("infinity", "inf", "far", "∞", "endless"):
        return math.inf
    return parse_length_mm(text, "m") / 1000


def parse_aperture(text: str) -> float:
    """Read an aperture: ``8``, ``f/8``, ``F 5.6``."""
    value = parse_number(re.sub(r"^\s*[fF]\s*/?\s*", "", text), "an aperture", "f/8")
    if value <= 0:
        raise _refuse(text, "an aperture", "f/8")
    return value


def measured(value: float, sigma: float) -> str:
    """A value and its standard error, to the digits that the error leaves; the value alone where none is known."""
    if not (math.isfinite(sigma) and sigma > 0):
        return f"{value:.1f}"
    digits = min(6, max(0, -math.floor(math.log10(sigma))))
    return f"{value:.{digits}f} ± {sigma:.{digits}f}"


def duration(value_s: float) -> str:
    """``8 s``, ``4 min 10 s``, ``1 h 05 min``."""
    whole = max(0, math.ceil(value_s))
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60:02d} s"
    return f"{whole // 3600} h {whole % 3600 // 60:02d} min"


def time_left(value_s: float) -> str:
    """``about 40 s left``, ``about 12 min left``: no finer than it is known, a fifth of it."""
    step = next(s for s, up_to in ((1, 10), (5, 60), (60, 3600), (300, math.inf)) if value_s < up_to)
    rounded = max(step, round(value_s / step) * step)
    return f"about {f'{rounded // 60} min' if 60 <= rounded < 3600 else duration(rounded)} left"


def file_size(value_bytes: float) -> str:
    """``3.4 MB`` (powers of ten, as on a card)."""
    for unit in ("B", "kB", "MB", "GB"):
        if value_bytes < 1000 or unit == "GB":
            return f"{value_bytes:.0f} {unit}" if unit == "B" else f"{value_bytes:.1f} {unit}"
        value_bytes /= 1000
    raise AssertionError("unreachable")
