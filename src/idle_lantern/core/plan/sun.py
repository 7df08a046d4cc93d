"""Sun and moon over a place: where they stand, when which light is there.

Positions come from the ``ephem`` package (VSOP87 and its kin), checked in the tests
against the worked example of the NREL Solar Position Algorithm report.
"""

from __future__ import annotations

import datetime
import math
from dataclasses import dataclass
from functools import lru_cache

import ephem

from idle_lantern.core.plan.brief import Site

#: Sun's altitude at rise and set: refraction and its radius (the almanac's convention).
RISE_DEG = -0.833
#: Golden and blue light by the sun's altitude (common practice, no source).
GOLDEN_DEG = (-4.0, 6.0)
BLUE_DEG = (-6.0, -4.0)
_MINUTES = 1440


@dataclass(frozen=True)
class SunPosition:
    """Compass bearing and altitude in degrees."""

    bearing_deg: float
    altitude_deg: float


@dataclass(frozen=True)
class SunEvent:
    """Something of the day and when it happens, local time."""

    name: str
    at: datetime.datetime


@dataclass(frozen=True)
class Day:
    """The sun and the moon every ten minutes from midnight to midnight, local time, and the events between."""

    times: tuple[datetime.datetime, ...]
    sun: tuple[SunPosition, ...]
    moon: tuple[SunPosition, ...]
    moon_lit: float
    events: tuple[SunEvent, ...]

    @property
    def always(self) -> str:
        """What to say where the sun neither rises nor sets that day; empty where it does."""
        if self.first("sunrise") or self.first("sunset"):
            return ""
        return "up all day and night" if self.sun[0].altitude_deg > RISE_DEG else "below the horizon all day"

    def first(self, name: str) -> datetime.datetime | None:
        """When an event happens first, None if it does not that day."""
        return next((e.at for e in self.events if e.name == name), None)


def sun_at(site: Site, local: datetime.datetime) -> SunPosition:
    """Where the sun's middle is seen, refraction included."""
    return _seen(ephem.Sun(), site, local)


def moon_at(site: Site, local: datetime.datetime) -> SunPosition:
    """Where the moon's middle is seen."""
    return _seen(ephem.Moon(), site, local)


def _seen(body: ephem.Body, site: Site, local: datetime.datetime) -> SunPosition:
    observer = ephem.Observer()
    observer.lat, observer.lon = math.radians(site.latitude_deg), math.radians(site.longitude_deg)
    observer.pressure = 0.0  # without its refraction, which runs on far below the horizon
    observer.date = ephem.Date(local - datetime.timedelta(hours=site.utc_offset_h))
    body.compute(observer)
    altitude = math.degrees(body.alt)
    return SunPosition(math.degrees(body.az), altitude + refraction_deg(altitude))


def refraction_deg(true_altitude_deg: float) -> float:
    """Lift by the air at 1010 mbar and 10 degrees Celsius (Saemundsson's formula, Meeus, Astronomical Algorithms, 16.4).

    Faded out between 1 and 3 degrees below the horizon, where nothing is seen any more.
    """
    shown = min(1.0, max(0.0, (true_altitude_deg + 3.0) / 2.0))
    if shown == 0.0:
        return 0.0
    h = max(true_altitude_deg, -1.0)
    return shown * 1.02 / math.tan(math.radians(h + 10.3 / (h + 5.11))) / 60


def day(site: Site) -> Day:
    """The whole day of a place; remembered, since edits of a plan ask for the same one again and again."""
    return _day(site.latitude_deg, site.longitude_deg, site.date, site.utc_offset_h)


@lru_cache(maxsize=16)
def _day(latitude_deg: float, longitude_deg: float, date: str, utc_offset_h: float) -> Day:
    site = Site(latitude_deg=latitude_deg, longitude_deg=longitude_deg, date=date, utc_offset_h=utc_offset_h)
    midnight = datetime.datetime.fromisoformat(f"{date}T00:00")
    times = tuple(midnight + datetime.timedelta(minutes=m) for m in range(0, _MINUTES + 1, 10))
    sun = tuple(sun_at(site, t) for t in times)
    moon = tuple(moon_at(site, t) for t in times)
    body = ephem.Moon()
    body.compute(ephem.Date(midnight + datetime.timedelta(hours=21 - utc_offset_h)))
    return Day(times, sun, moon, float(body.phase) / 100, _events(site, times, sun))


def _events(site: Site, times: tuple[datetime.datetime, ...], sun: tuple[SunPosition, ...]) -> tuple[SunEvent, ...]:
    """Crossings of the altitudes that matter, to the second, and noon."""
    levels = (
        (RISE_DEG, "sunrise", "sunset"),
        (GOLDEN_DEG[1], "golden light ends", "golden light begins"),
        (BLUE_DEG[1], "blue light ends", "blue light begins"),
        (BLUE_DEG[0], "blue light begins, morning", "blue light ends, evening"),
    )
    events = []
    for level, rising, falling in levels:
        # rise and set are told for the true centre: refraction is in the convention already
        true = level == RISE_DEG

        def height(t: datetime.datetime, true: bool = true) -> float:
            seen = sun_at(site, t).altitude_deg
            return _true_altitude(seen) if true else seen

        heights = [_true_altitude(p.altitude_deg) if true else p.altitude_deg for p in sun]
        for i in range(len(times) - 1):
            a, b = heights[i] - level, heights[i + 1] - level
            if (a < 0) != (b < 0):
                low, high = times[i], times[i + 1]
                while high - low > datetime.timedelta(seconds=1):
                    middle = low + (high - low) / 2
                    low, high = (middle, high) if ((height(middle) - level) < 0) == (a < 0) else (low, middle)
                events.append(SunEvent(rising if a < 0 else falling, high.replace(microsecond=0)))
    events.append(SunEvent("sun highest", _highest(site, times, sun)))
    return tuple(sorted(events, key=lambda e: e.at))


def _highest(site: Site, times: tuple[datetime.datetime, ...], sun: tuple[SunPosition, ...]) -> datetime.datetime:
    """When the sun stands highest, to the second: by thirds about the highest of ``times``."""
    i = max(range(len(sun)), key=lambda k: sun[k].altitude_deg)
    low, high = times[max(0, i - 1)], times[min(len(times) - 1, i + 1)]
    while high - low > datetime.timedelta(seconds=1):
        third = (high - low) / 3
        if sun_at(site, low + third).altitude_deg < sun_at(site, high - third).altitude_deg:
            low += third
        else:
            high -= third
    return high.replace(microsecond=0)


def _true_altitude(seen_deg: float) -> float:
    """The altitude without refraction, by three steps back."""
    true = seen_deg
    for _ in range(3):
        true = seen_deg - refraction_deg(true)
    return true


def lit_from(sun_yaw_deg: float, middle_yaw_deg: float) -> str:
    """From where the light falls, for one who looks at the picture's middle."""
    turn = (sun_yaw_deg - middle_yaw_deg + 180.0) % 360.0 - 180.0
    if abs(turn) < 45:
        return "against the light"
    if abs(turn) > 135:
        return "light from behind"
    return f"side light from the {'right' if turn > 0 else 'left'}"


#: Ground illuminance by the altitude of a low sun: log10 lux = a + b x + c x^2 + d x^3 with x = altitude / 90
#: (Janiczek and DeYoung, U.S. Naval Observatory Circular 171, 1987; coefficients from memory).
_ILLUMINANCE = (
    (20.0, 3.74, 3.97, -4.07, 1.47),
    (5.0, 3.05, 13.28, -45.98, 64.33),
    (-0.8, 2.88, 22.26, -207.64, 1034.30),
    (-5.0, 2.88, 21.81, -258.11, -858.36),
    (-12.0, 2.70, 12.17, -431.69, -1899.83),
    (-18.0, 13.84, 262.72, 1447.42, 2797.93),
)
_NIGHT_LUX = 6.5e-4


def illuminance_lux(sun_altitude_deg: float) -> float:
    """Light on level ground under a clear sky.

    By day (from 20 degrees on) sun and sky as the Illuminating Engineering Society reckons them for a clear sky
    (RP-21, 1984; constants from memory), twilight and night by the table above; between 5 and 20 degrees the one passes
    into the other.
    """
    if sun_altitude_deg >= _DAY_DEG:
        return _by_day_lux(sun_altitude_deg)
    day = min(1.0, max(0.0, (sun_altitude_deg - _LOW_SUN_DEG) / (_DAY_DEG - _LOW_SUN_DEG)))
    brighter = _by_day_lux(_DAY_DEG) / _by_table_lux(_DAY_DEG)
    return _by_table_lux(sun_altitude_deg) * math.pow(brighter, day)


_LOW_SUN_DEG, _DAY_DEG = 5.0, 20.0


def _by_day_lux(sun_altitude_deg: float) -> float:
    sine = math.sin(math.radians(sun_altitude_deg))
    sun = 127_500 * math.exp(-0.21 / sine) * sine
    sky = 800 + 15_500 * math.sqrt(sine)
    return sun + sky


def _by_table_lux(sun_altitude_deg: float) -> float:
    x = sun_altitude_deg / 90
    for least, a, b, c, d in _ILLUMINANCE:
        if sun_altitude_deg >= least:
            return float(max(10 ** (a + x * (b + x * (c + x * d))), _NIGHT_LUX))
    return _NIGHT_LUX


def daylight_ev(sun_altitude_deg: float) -> float:
    """EV at ISO 100 of a middle tone in that light: E = 2.5 lux * 2^EV (incident calibration C = 250, ISO 2720)."""
    return math.log2(illuminance_lux(sun_altitude_deg) / 2.5)


def minutes_of_even_light(site: Site, begin: datetime.datetime, change_ev: float = 1 / 3, most: int = 240) -> float:
    """Minutes from ``begin`` until daylight has changed by ``change_ev``."""
    first = daylight_ev(sun_at(site, begin).altitude_deg)
    before = 0.0
    for minute in range(1, most + 1):
        change = abs(daylight_ev(sun_at(site, begin + datetime.timedelta(minutes=minute)).altitude_deg) - first)
        if change >= change_ev:
            return minute - (change - change_ev) / max(change - before, 1e-9)
        before = change
    return float(most)
