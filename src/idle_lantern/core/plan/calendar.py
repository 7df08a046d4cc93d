"""The evening as a calendar that telephones read (RFC 5545)."""

from __future__ import annotations

import datetime
import hashlib
from pathlib import Path

from icalendar import Calendar, Event, vGeo

from idle_lantern.core.base import units
from idle_lantern.core.base.atomic import write_bytes
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.tour import Visit, position_of


def calendar_bytes(plan: Plan, title: str) -> bytes:
    """One event for each scene, in UTC, with its walk, light and sun in the description."""
    site = plan.brief.site
    shift = datetime.timedelta(hours=site.utc_offset_h)
    made = Calendar()
    made.add("prodid", "-//Idle Lantern//Evening//EN")
    made.add("version", "2.0")
    for at, visit in enumerate(plan.evening.visits):
        event = Event()
        identity = hashlib.sha256(f"{title}|{site.date}|{at}|{visit.name}".encode("utf-8", "surrogatepass")).hexdigest()
        event.add("uid", f"{identity[:32]}@idle-lantern")
        event.add("dtstamp", _utc(site.begin, shift))
        event.add("dtstart", _utc(visit.begin, shift))
        event.add("dtend", _utc(max(visit.end, visit.begin + datetime.timedelta(minutes=1)), shift))
        event.add("summary", title if at == 0 else visit.name)
        event.add("description", _told(visit))
        if visit.place_m is not None:
            latitude, longitude = position_of(site, visit.place_m)
            event.add("geo", vGeo((round(latitude, 6), round(longitude, 6))))
        made.add_component(event)
    return bytes(made.to_ical())


def write_calendar(plan: Plan, path: Path, title: str) -> None:
    """Write the evening as an .ics file.

    Raises
    ------
    InputError
        It cannot be written.
    """
    write_bytes(path, calendar_bytes(plan, title))


def _utc(local: datetime.datetime, shift: datetime.timedelta) -> datetime.datetime:
    return (local - shift).replace(tzinfo=datetime.UTC, microsecond=0)


def _told(visit: Visit) -> str:
    walk = f"Walk {units.duration(visit.walk_minutes * 60)}. " if visit.walk_minutes else ""
    light = (
        "" if visit.wants == "any" else f"Wants {visit.wants} light{'' if visit.gets else ', and does not get it'}. "
    )
    return f"{walk}{light}Sun {units.angle(visit.sun_begin_deg, 0)} to {units.angle(visit.sun_end_deg, 0)} up."
