"""The time zone of a place, and how far its clocks are from UTC on a day, daylight saving included."""

from __future__ import annotations

import datetime
from functools import lru_cache
from zoneinfo import ZoneInfo

from idle_lantern.core.plan.brief import Site


@lru_cache(maxsize=64)
def zone_of(latitude_deg: float, longitude_deg: float) -> str:
    """IANA name of the zone, such as ``Europe/Dublin``; ``Etc/...`` by the meridian out at sea."""
    import tzfpy  # its borders are read at the first question, some 0.1 s

    return str(tzfpy.get_tz(longitude_deg, latitude_deg))


def place_offset_h(site: Site) -> float:
    """Hours from UTC of the clocks at the site's place at its start."""
    local = site.begin.replace(tzinfo=ZoneInfo(zone_of(site.latitude_deg, site.longitude_deg)))
    return (local.utcoffset() or datetime.timedelta()).total_seconds() / 3600


def at_sea(site: Site) -> bool:
    """Whether the place lies outside every country's zone."""
    return zone_of(site.latitude_deg, site.longitude_deg).startswith("Etc/")
