"""Several scenes in one evening, or rooms of one house: how one walks, what light each gets, in which order, what to drop.

The outing's own picture is taken first, at its start; the others follow. Whoever comes early for a light waits for it.
"""

from __future__ import annotations

import datetime
import itertools
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from idle_lantern.core.base import units
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.plan.brief import LIGHTS, Site, Stop
from idle_lantern.core.plan.sun import BLUE_DEG, GOLDEN_DEG, day, sun_at

#: Walking with a tripod, and by how much a path is longer than the straight line (common practice, no source).
WALK_M_PER_MIN, DETOUR = 60.0, 1.3
#: Mean radius of the earth (IUGG, GRS 80).
_EARTH_M = 6_371_008.8
#: Beyond so many scenes the order is not tried out but built up from the earliest light.
_MOST_TRIED = 7
_NIGHT_DEG = -6.0


@dataclass(frozen=True)
class Visit:
    """One scene: when it is reached, begun and left, and whether it gets the light that it wants."""

    name: str
    arrive: datetime.datetime
    begin: datetime.datetime
    end: datetime.datetime
    walk_minutes: float
    wants: str
    gets: bool
    sun_begin_deg: float
    sun_end_deg: float
    place_m: tuple[float, float] | None = None

    @property
    def waits(self) -> float:
        """Minutes of waiting for the light."""
        return (self.begin - self.arrive).total_seconds() / 60


@dataclass(frozen=True)
class Tour:
    """All visits in their order."""

    visits: tuple[Visit, ...]

    @property
    def walk_minutes(self) -> float:
        """Walking in all."""
        return sum(v.walk_minutes for v in self.visits)

    @property
    def missed(self) -> tuple[str, ...]:
        """Scenes that do not get their light."""
        return tuple(v.name for v in self.visits if not v.gets)


def tour(site: Site, this_scene: str, run_s: float, stops: Sequence[Stop] | None = None) -> Tour:
    """The outing's own scene at its start, then others in the order given."""
    windows = _windows(site)
    at, here = site.begin, (0.0, 0.0)
    own = Stop(this_scene[:100], 0.0, 0.0, "any", (0.0, 0.0))
    visits = []
    for k, stop in enumerate((own, *(site.stops if stops is None else stops))):
        walk = 0.0 if k == 0 else walk_minutes(here, stop)
        arrive = at + datetime.timedelta(minutes=walk)
        # the run itself may take longer than a scene that anyone would write down
        length = datetime.timedelta(minutes=run_s / 60 if k == 0 else stop.minutes)
        begin, gets = _begin(arrive, length, windows.get(stop.light))
        at = begin + length
        visits.append(
            Visit(
                stop.name, arrive, begin, at, walk, stop.light, gets,
                sun_at(site, begin).altitude_deg, sun_at(site, at).altitude_deg, stop.place_m,
            )
        )  # fmt: skip
        here = stop.place_m or here
    return Tour(tuple(visits))


def walk_minutes(here: tuple[float, float], stop: Stop) -> float:
    """Minutes of walking to a scene: as told, else by the distance where its place is known."""
    if stop.walk_minutes > 0 or stop.place_m is None:
        return stop.walk_minutes
    return math.dist(here, stop.place_m) * DETOUR / WALK_M_PER_MIN


def _begin(
    arrive: datetime.datetime,
    length: datetime.timedelta,
    windows: list[tuple[datetime.datetime, datetime.datetime]] | None,
) -> tuple[datetime.datetime, bool]:
    """When a scene is begun that may wait for its light, and whether all of it has that light."""
    if windows is None:
        return arrive, True
    for opens, closes in windows:
        begin = max(arrive, opens)
        if begin + length <= closes:
            return begin, True
    return arrive, False


def _windows(site: Site) -> dict[str, list[tuple[datetime.datetime, datetime.datetime]]]:
    """When each light is there, from the day's altitudes of the sun, ten minutes apart and straight in between."""
    found = day(site)
    ranges = {
        "golden": GOLDEN_DEG, "blue": BLUE_DEG, "day": (GOLDEN_DEG[1], 90.0), "night": (-90.0, _NIGHT_DEG),
    }  # fmt: skip
    return {
        name: _within(found.times, [p.altitude_deg for p in found.sun], low, high)
        for name, (low, high) in ranges.items()
    }


def _within(
    times: Sequence[datetime.datetime], heights: Sequence[float], low: float, high: float
) -> list[tuple[datetime.datetime, datetime.datetime]]:
    edges: list[datetime.datetime] = []
    inside = low <= heights[0] <= high
    if inside:
        edges.append(times[0])
    for i in range(len(times) - 1):
        a, b = heights[i], heights[i + 1]
        crossed = sorted((level - a) / (b - a) for level in (low, high) if (a - level) * (b - level) < 0)
        edges += [times[i] + (times[i + 1] - times[i]) * share for share in crossed]
    if len(edges) % 2:
        edges.append(times[-1])
    return list(zip(edges[::2], edges[1::2]))


def proposed(site: Site, this_scene: str, run_s: float) -> tuple[Stop, ...]:
    """The stops in the order in which most get their light, with the least walking and waiting among those."""
    stops = site.stops
    if any(s.place_m is not None for s in stops):  # walks that were told hold for the order they were told in
        stops = tuple(replace(s, walk_minutes=0.0) if s.place_m is not None else s for s in stops)

    def cost(order: Sequence[Stop]) -> tuple[float, float]:
        found = tour(site, this_scene, run_s, order)
        return len(found.missed), sum(v.walk_minutes + v.waits for v in found.visits)

    if len(stops) <= _MOST_TRIED:
        return min(itertools.permutations(stops), key=cost, default=())
    opens = {name: (rows[0][0] if rows else datetime.datetime.max) for name, rows in _windows(site).items()}
    best: tuple[Stop, ...] = ()
    for stop in sorted(stops, key=lambda s: opens.get(s.light, datetime.datetime.min)):
        best = min(((*best[:k], stop, *best[k:]) for k in range(len(best) + 1)), key=cost)
    return best


def to_drop(site: Site, this_scene: str, run_s: float) -> tuple[str, ...]:
    """The fewest scenes without which all others get their light, in the best order of those that stay."""
    for count in range(len(site.stops) + 1):
        for gone in itertools.combinations(site.stops, count):
            rest = replace(site, stops=tuple(s for s in site.stops if s not in gone))
            order = proposed(rest, this_scene, run_s)
            if not tour(rest, this_scene, run_s, order).missed:
                return tuple(s.name for s in gone)
    return tuple(s.name for s in site.stops)


_METRES = re.compile(r"(\d+(?:[.,]\d+)?)\s*(?:m\s*)?([NSEW])\b", re.IGNORECASE)


def parse_stop(text: str, site: Site) -> Stop:
    """A scene as people write it: ``harbour, 10, 15``, ``mole, 20, golden, 300 E 120 N``, ``pier, 15, 55.012 -8.003``.

    After name and minutes there come, in any order, the minutes of walking, a light, and the place: metres to the sides of the
    compass from this picture, or latitude and longitude.

    Raises
    ------
    InputError
        It cannot be read so.
    """
    example = "Write it like harbour, 10, 15 or mole, 20, golden, 300 E 120 N"
    name, *parts = [p.strip() for p in text.split(",")]
    if not name or not parts:
        raise InputError(f"'{text}' is no scene", remedy=example)
    minutes = units.parse_number(parts[0], "minutes", "10")
    told: dict[str, Any] = {}
    for part in parts[1:]:
        key, value = _part_of(part, site, name, example)
        if key in told:
            raise InputError(f"'{part}' is one thing too many", where=name, remedy=example)
        told[key] = value
    return Stop(name, minutes, **told)


def _part_of(part: str, site: Site, name: str, example: str) -> tuple[str, Any]:
    """Which field of a scene a part of its line is, and its value."""
    sides = _METRES.findall(part)
    if part.lower() in LIGHTS:
        return "light", part.lower()
    if sides and not _METRES.sub("", part).strip():
        return "place_m", _from_sides(sides)
    if len(part.split()) == 2:
        latitude, longitude = part.split()
        return "place_m", metres_from(site, units.parse_latitude_deg(latitude), units.parse_longitude_deg(longitude))
    try:
        return "walk_minutes", units.parse_number(part, "minutes of walking", "15")
    except InputError as error:
        raise InputError(f"'{part}' is no walk, light or place", where=name, remedy=example) from error


def _from_sides(sides: Sequence[tuple[str, str]]) -> tuple[float, float]:
    east = north = 0.0
    for number, side in sides:
        metres = float(number.replace(",", "."))
        east += {"E": metres, "W": -metres}.get(side.upper(), 0.0)
        north += {"N": metres, "S": -metres}.get(side.upper(), 0.0)
    return east, north


def metres_from(site: Site, latitude_deg: float, longitude_deg: float) -> tuple[float, float]:
    """Metres to the east and north of a site, on the plane that touches the sphere there: enough for a walk."""
    turn = (longitude_deg - site.longitude_deg + 180) % 360 - 180
    east = math.radians(turn) * math.cos(math.radians(site.latitude_deg)) * _EARTH_M
    return east, math.radians(latitude_deg - site.latitude_deg) * _EARTH_M


def position_of(site: Site, place_m: tuple[float, float]) -> tuple[float, float]:
    """Latitude and longitude of a place told in metres; the reverse of ``metres_from``."""
    latitude = site.latitude_deg + math.degrees(place_m[1] / _EARTH_M)
    narrow = max(1e-6, math.cos(math.radians(site.latitude_deg)))
    return latitude, (site.longitude_deg + math.degrees(place_m[0] / _EARTH_M / narrow) + 180) % 360 - 180
