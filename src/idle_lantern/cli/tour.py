"""``idle-lantern tour``: spheres of one place as one page that steps from one to the next.

SPEC.json names the places: {"schema": "idle-lantern/tour/1", "places": [{"picture": "yard.jpg", "name": "Yard", "at_m": [east, north]}, ...]}.
A place may have a note, the report of its join, north_deg (the bearing of its azimuth 0) or sun (a pixel and a time), and instead of
at_m its latlon; else the file's own position is taken, or that of a GPX track at the time it was taken.
"""

from __future__ import annotations

import argparse
import datetime
import math
import xml.etree.ElementTree as ET
from dataclasses import replace
from pathlib import Path
from typing import Annotated

import msgspec
import numpy as np
from msgspec import Meta

from idle_lantern.cli.ends import say
from idle_lantern.cli.known import known_from, metadata_of
from idle_lantern.cli.progress import write_by
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.base.strict_json import read_bytes, read_json
from idle_lantern.core.deliver.ball import Ball
from idle_lantern.core.deliver.delivery import Delivery, ball_of
from idle_lantern.core.deliver.job import DeliverJob
from idle_lantern.core.deliver.known import Known
from idle_lantern.core.deliver.look_page import PagePlace, write_look_page
from idle_lantern.core.deliver.tour import Stand, links_of, metres_from, middle_of, seen_pairs
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.tiled import open_picture
from idle_lantern.core.scouting.facing import bearing_of_yaw_0, position_of, site_at

SCHEMA = "idle-lantern/tour/1"
STAGES = {"write": 1.0}
_QUALITY = 85
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


class TourSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The whole tour; ``links`` are pairs of names, told by what lies between places where there are none."""

    schema: str
    places: Annotated[list[TourPlace], Meta(min_length=1, max_length=500)]
    first: str | None = None
    track: str | None = None
    reach_m: Annotated[float, Meta(gt=0)] = 60.0
    links: list[tuple[str, str]] | None = None


def add_parser(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the command and its arguments."""
    parser = commands.add_parser("tour", help="spheres of one place as one page", description=__doc__)
    parser.add_argument("spec", metavar="SPEC.json", type=Path, help="the places of the tour")
    parser.add_argument("--out", required=True, type=Path, metavar="PAGE.html", help="the page to write")
    parser.add_argument("--long-side", type=int, metavar="PX", help="the longer side of each sphere, where smaller")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Carry the command out; returns the exit code."""
    return write_by(args.out, STAGES, lambda progress: _tour(args, progress))


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


def _tour(args: argparse.Namespace, progress: Progress) -> Path:
    if args.out.suffix.lower() not in (".html", ".htm"):
        raise InputError("A page is not named so", where=str(args.out), remedy="End it in .html")
    spec = read_spec(args.spec)
    folder = args.spec.parent
    pictures = [folder / place.picture for place in spec.places]
    reports = [folder / place.report for place in spec.places if place.report is not None]
    track = {} if spec.track is None else _track(folder / spec.track)
    check_outputs([args.out], [args.spec, *pictures, *reports])
    balls = [_ball(folder, place, args.long_side) for place in spec.places]
    names = [place.name or Path(place.picture).stem for place in spec.places]
    stands = _stands(folder, spec, names, balls, track)
    pairs = seen_pairs(stands, spec.reach_m) if spec.links is None else _told_pairs(spec.links, names)
    links = links_of(stands, pairs)
    first = middle_of(stands) if spec.first is None else _index(spec.first, names)
    # the first one comes first in the page, so that it shows first
    order = [first, *(k for k in range(len(names)) if k != first)]
    at = {old: new for new, old in enumerate(order)}
    places = [
        PagePlace(
            balls[k],
            names[k],
            spec.places[k].note,
            stands[k].north_deg,
            tuple(replace(link, to=at[link.to]) for link in links[k]),
            (stands[k].east_m, stands[k].north_m),
        )
        for k in order
    ]
    return write_look_page(places, args.out, WriteOptions(_QUALITY), progress)


def _ball(folder: Path, place: TourPlace, long_side_px: int | None) -> Ball:
    picture = open_picture(folder / place.picture)
    box = Rectangle(0, 0, *picture.sizes[0])
    known = Known() if place.report is None else known_from(folder / place.report, box)
    return ball_of(Delivery(DeliverJob(profile="srgb", long_side_px=long_side_px), picture, known), box)


def _stands(
    folder: Path,
    spec: TourSpec,
    names: list[str],
    balls: list[Ball],
    track: dict[float, tuple[float, float]],
) -> list[Stand]:
    """Where each place lies and which way it faces; places without any position are refused."""
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
    for place, name, own, place_deg, ball in zip(spec.places, names, found, degrees, balls):
        at = place.at_m
        if at is None and place_deg is not None and origin is not None:
            at = metres_from(*place_deg, origin)
        if at is None:
            raise InputError(
                "Nothing tells where it was taken", where=name, remedy="Give at_m (metres east and north) or latlon"
            )
        north = place.north_deg
        if north is None and place.sun is not None:
            north = _by_sun(name, place.sun, ball, place_deg)
        if north is None:
            north = own.compass_deg
        if north is None:
            say(f"  {name}: nothing tells where north is; its azimuth 0 is taken for it (north_deg, or sun)")
        stands.append(Stand(name, at[0], at[1], place.up_m, 0.0 if north is None else north))
    return stands


def _by_sun(name: str, sun: SunSeen, ball: Ball, place_deg: tuple[float, float] | None) -> float:
    if place_deg is None:
        raise InputError("The sun tells north only where the place on Earth is known", where=name, remedy="Give latlon")
    try:
        local = datetime.datetime.fromisoformat(sun.at)
    except ValueError as error:
        raise InputError(f"'{sun.at}' is no time", where=name, remedy="Write it as 2026-05-14T18:40") from error
    ray = ball.canvas.directions(np.array(sun.xy, float))
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
    taken = metadata_of(picture).taken_s
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


def _index(name: str, names: list[str]) -> int:
    if name not in names:
        raise InputError(f"There is no place '{name}'", remedy=f"Places are {', '.join(names[:8])}")
    return names.index(name)


def _told_pairs(links: list[tuple[str, str]], names: list[str]) -> list[tuple[int, int]]:
    return [(_index(a, names), _index(b, names)) for a, b in links]
