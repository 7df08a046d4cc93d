"""A tour: spheres of one place on its plan, with the steps between them."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass

from idle_lantern.core.deliver.look_page import Link

_EARTH_M = 6_371_000.0


@dataclass(frozen=True)
class Stand:
    """Where a sphere was taken: metres to the east and to the north of some point, and above it; ``north_deg`` is the bearing of its azimuth 0."""

    name: str
    east_m: float
    north_m: float
    up_m: float = 0.0
    north_deg: float = 0.0


def metres_from(latitude_deg: float, longitude_deg: float, origin: tuple[float, float]) -> tuple[float, float]:
    """Metres to the east and north of an origin (latitude, longitude) of a place near it, on a sphere of the Earth's mean radius."""
    east = math.radians(longitude_deg - origin[1]) * math.cos(math.radians(origin[0])) * _EARTH_M
    return east, math.radians(latitude_deg - origin[0]) * _EARTH_M


def seen_pairs(stands: Sequence[Stand], reach_m: float = math.inf) -> list[tuple[int, int]]:
    """Pairs between which one steps: those within reach with no third place between them (Toussaint's relative neighbourhood graph, 1980)."""
    count = len(stands)
    away = [[math.dist((a.east_m, a.north_m, a.up_m), (b.east_m, b.north_m, b.up_m)) for b in stands] for a in stands]
    return [
        (i, j)
        for i, j in itertools.combinations(range(count), 2)
        if away[i][j] <= reach_m
        and not any(max(away[i][k], away[j][k]) < away[i][j] - 1e-9 for k in range(count) if k not in (i, j))
    ]


def links_of(stands: Sequence[Stand], pairs: Sequence[tuple[int, int]]) -> list[tuple[Link, ...]]:
    """For each place the steps from it, in the directions in which the others lie."""
    links: list[list[Link]] = [[] for _stand in stands]
    for i, j in pairs:
        for a, b in ((i, j), (j, i)):
            one, other = stands[a], stands[b]
            east, north = other.east_m - one.east_m, other.north_m - one.north_m
            yaw = (math.degrees(math.atan2(east, north)) - one.north_deg + 180) % 360 - 180
            pitch = math.degrees(math.atan2(other.up_m - one.up_m, math.hypot(east, north)))
            links[a].append(Link(b, yaw, pitch))
    return [tuple(each) for each in links]


def middle_of(stands: Sequence[Stand]) -> int:
    """The place that is nearest to all the others: where a tour begins."""
    return min(
        range(len(stands)),
        key=lambda i: sum(math.hypot(s.east_m - stands[i].east_m, s.north_m - stands[i].north_m) for s in stands),
    )
