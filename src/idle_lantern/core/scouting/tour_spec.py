"""What a tour is told by: its places, where each lies and which way it faces, by bearing, compass, sun or track."""

from __future__ import annotations

import datetime
import math
import xml.etree.ElementTree as ET
from collections.abc import Callable
from pathlib import Path
from typing import Annotated

import msgspec
import numpy as np
from msgspec import Meta

from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.base.strict_json import read_bytes, read_json
from idle_lantern.core.deliver.ball import SphereCanvas
from idle_lantern.core.deliver.tour import Stand, metres_from
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.scouting.facing import bearing_of_yaw_0, position_of, site_at

SCHEMA = "idle-lantern/tour/1"
#: A time on a track is taken from its neighbours where these are no farther apart.
_TRACK_GAP_S = 600.0

Degrees = Annotated[float, Meta(ge=-360, le=360)]


class SunSeen(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Where in the picture the sun stands, and when that was, by the clock of the place."""

    xy: tuple[float, float]
    at: str


class TourPlace(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A sphere of the tour."""

    picture: str
    name: str = ""
    note: str = ""
    report: str | None = None
    at_m: tuple[float, float] | None = None
    latlon: tuple[float, float] | None = None
    up_m: float = 0.0
    north_deg: Degrees | None = None
    sun: SunSeen | None = None

    @property
    def shown_name(self) -> str:
        """Its name, or that of its file."""
        return self.name or Path(self.picture).stem


class TourSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The whole tour; ``links`` are pairs of names, told by what lies between places where there are none."""

    schema: str
    places: Annotated[list[TourPlace], Meta(min_length=1, max_length=500)]
    first: str | None = None
    track: str | None = None
    reach_m: Annotated[float, Meta(gt=0)] = 60.0
    links: list[tuple[str, str]] | None = None


def read_spec(path: Path) -> TourSpec:
    """The tour in a file.

    Raises
    ------
    InputError
        It holds none; tells the place.
    """
    told = read_json(path, remedy="Give the places of a tour as JSON")
    if not isinstance(told, dict) or told.get("schema") != SCHEMA:
        raise InputError("Is no tour", where=str(path), remedy=f'Begin it with "schema": "{SCHEMA}"')
    try:
        return msgspec.convert(told, TourSpec)
    except msgspec.ValidationError as error:
        raise InputError(f"Cannot be used ({error})", where=str(path)) from error


def stands_of(
    folder: Path,
    spec: TourSpec,
    canvas_of: Callable[[int], SphereCanvas],
) -> tuple[list[Stand], list[int]]:
    """Where each place lies and which way it faces, and numbers of those of which nothing tells that; names of files are told from
    ``folder``.

    ``canvas_of`` gives the canvas of a place by its number; it is asked only where the sun tells north.

    Raises
    ------
    InputError
        Nothing tells where a place was taken, or what tells it cannot be used.
    """
    track = {} if spec.track is None else _track(folder / spec.track)
    unturned: list[int] = []
    found = [position_of(folder / place.picture) for place in spec.places]
    degrees: list[tuple[float, float] | None] = []
    for place, own in zip(spec.places, found):
        told = place.latlon
        if told is None and own.latitude_deg is not None and own.longitude_deg is not None:
            told = own.latitude_deg, own.longitude_deg
        if told is None and track:
            told = _on_track(folder / place.picture, track)
        degrees.append(told)
    origin = next((d for d in degrees if d is not None), None)
    stands = []
    for number, (place, own, place_deg) in enumerate(zip(spec.places, found, degrees)):
        name = place.shown_name
        at = place.at_m
        if at is None and place_deg is not None and origin is not None:
            at = metres_from(*place_deg, origin)
        if at is None:
            raise InputError(
                "Nothing tells where it was taken", where=name, remedy="Give at_m (metres east and north) or latlon"
            )
        north = place.north_deg
        if north is None and place.sun is not None:
            north = _by_sun(name, place.sun, canvas_of(number), place_deg)
        if north is None:
            north = own.compass_deg
        if north is None:
            unturned.append(number)
        stands.append(Stand(name, at[0], at[1], place.up_m, 0.0 if north is None else north))
    return stands, unturned


def _by_sun(name: str, sun: SunSeen, canvas: SphereCanvas, place_deg: tuple[float, float] | None) -> float:
    if place_deg is None:
        raise InputError("The sun tells north only where the place on Earth is known", where=name, remedy="Give latlon")
    try:
        local = datetime.datetime.fromisoformat(sun.at)
    except ValueError as error:
        raise InputError(f"'{sun.at}' is no time", where=name, remedy="Write it as 2026-05-14T18:40") from error
    ray = canvas.directions(np.array(sun.xy, float))
    if not np.isfinite(ray).all():
        raise InputError("The pixel of the sun lies outside the picture", where=name)
    azimuth, altitude = math.degrees(math.atan2(ray[0], ray[2])), math.degrees(math.asin(-float(ray[1])))
    return bearing_of_yaw_0(site_at(local, place_deg), local.replace(tzinfo=None), azimuth, altitude)[0]


def _track(path: Path) -> dict[float, tuple[float, float]]:
    """Places (latitude, longitude) of a GPX track by their seconds since 1970.

    Raises
    ------
    InputError
        It is none.
    """
    try:
        root = ET.fromstring(read_bytes(path))
        found = {}
        for point in root.iter():
            time = next((c.text for c in point if c.tag.endswith("}time") or c.tag == "time"), None)
            if point.tag.endswith("trkpt") and time:
                when = datetime.datetime.fromisoformat(time.replace("Z", "+00:00"))
                found[when.timestamp()] = float(point.attrib["lat"]), float(point.attrib["lon"])
    except (ET.ParseError, ValueError, KeyError) as error:
        raise InputError("Is no track", where=str(path), remedy="Give a GPX file") from error
    return dict(sorted(found.items()))


def _on_track(picture: Path, track: dict[float, tuple[float, float]]) -> tuple[float, float] | None:
    """Where the track was when a picture was taken, by its clock taken as that of the track."""
    taken = _taken_s(picture)
    times = np.array(list(track))
    if taken is None or not times[0] <= taken <= times[-1]:
        return None
    after = int(np.searchsorted(times, taken))
    before = max(0, after - 1)
    gap = times[after] - times[before]
    if gap > _TRACK_GAP_S:
        return None
    share = 0.0 if gap == 0 else (taken - times[before]) / gap
    a, b = np.array(track[times[before]]), np.array(track[times[after]])
    latitude, longitude = a + share * (b - a)
    return float(latitude), float(longitude)


def _taken_s(picture: Path) -> float | None:
    """When a picture was taken, in seconds since 1970; None where its file does not tell."""
    try:
        return probe(picture).metadata.taken_s
    except LanternError:
        return None
