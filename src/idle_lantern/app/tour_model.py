"""A tour of spheres as it is put together: places added, moved, turned and named, kept as a file. No Qt."""

from __future__ import annotations

import contextlib
import math
import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.deliver.ball import SphereCanvas
from idle_lantern.core.pictures.source import reduced
from idle_lantern.core.pictures.tiled import open_picture
from idle_lantern.core.scouting.facing import position_of
from idle_lantern.core.scouting.tour_page import LaidOut, canvas_of_place, laid_out
from idle_lantern.core.scouting.tour_spec import SCHEMA, TourPlace, TourSpec, read_spec

#: A place of which nobody knows where it was taken is put so far to the east of the last one, in metres.
_BESIDE_M = 5.0
#: The picture in which a place is turned is so wide.
STRIP_PX = 1024

EMPTY = TourSpec(SCHEMA, [])


def added(tour: TourSpec, pictures: Sequence[Path]) -> TourSpec:
    """The tour with more places at its end, each picture once; the report of a join is found beside its picture."""
    places = list(tour.places)
    known = {place.picture for place in places}
    for picture in pictures:
        name = str(picture.absolute())
        if name in known:
            continue
        known.add(name)
        own = position_of(picture)
        at_m = None if own.latitude_deg is not None and own.longitude_deg is not None else _free_place(places)
        places.append(TourPlace(name, _free_name(picture.stem, places), report=_report_beside(picture), at_m=at_m))
    return with_places(tour, places)


def _report_beside(picture: Path) -> str | None:
    """The report of the join of a picture, by the same name beside it; None where what lies there is none, or of another picture."""
    report = picture.absolute().with_suffix(".json")
    with contextlib.suppress(LanternError):
        canvas_of_place(picture, report)
        return str(report)
    return None


def _free_name(name: str, places: Sequence[TourPlace]) -> str:
    """The name, numbered where a place has it already."""
    taken = {place.shown_name for place in places}
    return next(n for n in (name, *(f"{name} {k}" for k in range(2, len(places) + 3))) if n not in taken)


def _free_place(places: Sequence[TourPlace]) -> tuple[float, float]:
    taken = [place.at_m for place in places if place.at_m is not None]
    return (max(east for east, _north in taken) + _BESIDE_M, taken[-1][1]) if taken else (0.0, 0.0)


def with_places(tour: TourSpec, places: Sequence[TourPlace]) -> TourSpec:
    """The tour with other places; what names one that is gone goes too."""
    names = {place.shown_name for place in places}
    links = None if tour.links is None else [pair for pair in tour.links if set(pair) <= names]
    first = tour.first if tour.first in names else None
    return msgspec.structs.replace(tour, places=list(places), links=links, first=first)


def changed(tour: TourSpec, number: int, **facts: Any) -> TourSpec:
    """The tour with other facts of one place; a new name goes along where it is named."""
    before = tour.places[number]
    place = msgspec.structs.replace(before, **facts)
    old, new = before.shown_name, place.shown_name
    if old != new:
        links = tour.links and [(new if a == old else a, new if b == old else b) for a, b in tour.links]
        tour = msgspec.structs.replace(tour, links=links, first=new if tour.first == old else tour.first)
    return with_places(tour, [place if k == number else other for k, other in enumerate(tour.places)])


def without(tour: TourSpec, number: int) -> TourSpec:
    """The tour with one place less."""
    return with_places(tour, [place for k, place in enumerate(tour.places) if k != number])


def name_fault(tour: TourSpec, number: int, name: str) -> str:
    """Why a place cannot be called so; empty where it can."""
    if not name.strip():
        return "A place needs a name."
    taken = {place.shown_name for k, place in enumerate(tour.places) if k != number}
    return f"There is a place '{name}' already: each needs a name of its own." if name in taken else ""


def read(path: Path) -> TourSpec:
    """A tour from a file, its pictures named in full; raises InputError."""
    tour, folder = read_spec(path), path.absolute().parent

    def full(name: str | None) -> str | None:
        return None if name is None else os.path.normpath(folder / name)

    places = [msgspec.structs.replace(p, picture=full(p.picture), report=full(p.report)) for p in tour.places]
    return msgspec.structs.replace(tour, places=places, track=full(tour.track))


def save(tour: TourSpec, path: Path) -> None:
    """Write a tour; what lies in its folder or below is named from there, so that the folder can be moved.

    Raises
    ------
    OSError
        It cannot be written.
    """
    folder = path.absolute().parent

    def near(name: str | None) -> str | None:
        if name is None or not Path(name).is_relative_to(folder):
            return name
        return str(Path(name).relative_to(folder))

    places = [msgspec.structs.replace(p, picture=near(p.picture), report=near(p.report)) for p in tour.places]
    told = msgspec.structs.replace(tour, places=places, track=near(tour.track))
    write_text(path, msgspec.json.format(msgspec.json.encode(told), indent=1).decode() + "\n")


def last(path: Path) -> TourSpec:
    """The tour that was worked on last; an empty one where there is none or it can no longer be read."""
    with contextlib.suppress(LanternError, OSError):
        return read(path)
    return EMPTY


@dataclass(frozen=True)
class Laid:
    """The tour on its plan, or why there is none."""

    laid: LaidOut | None
    fault: str = ""

    @staticmethod
    def of(tour: TourSpec) -> Laid:
        """Lay a tour out."""
        if not tour.places:
            return Laid(None)
        try:
            return Laid(laid_out(tour, Path()))
        except InputError as error:
            return Laid(None, error.sentence)

    def summed_up(self) -> str:
        """What it is, in a line."""
        if self.laid is None:
            return self.fault
        count, steps = len(self.laid.stands), sum(map(len, self.laid.links)) // 2
        alone = [s.name for s, links in zip(self.laid.stands, self.laid.links) if not links]
        told = f"{count} place{'s' * (count != 1)}, {steps} step{'s' * (steps != 1)} between them"
        if alone and count > 1:
            told += f"; nothing leads to {', '.join(alone[:3])}: bring it nearer or raise the reach"
        return told


@dataclass(frozen=True)
class Strip:
    """A place's picture, small, (h, w, 3), and how its pixels look."""

    pixels: Array
    canvas: SphereCanvas

    @staticmethod
    def of(place: TourPlace) -> Strip:
        """Of a place; raises InputError where it is no sphere or cannot be read."""
        canvas = canvas_of_place(Path(place.picture), None if place.report is None else Path(place.report))
        pixels = reduced(open_picture(Path(place.picture)), STRIP_PX)[..., :3]
        if pixels.dtype != np.uint8:
            pixels = (pixels / np.float32(np.iinfo(pixels.dtype).max if pixels.dtype.kind == "u" else 1)).clip(0, 1)
            pixels = np.rint(pixels * 255)
        return Strip(np.ascontiguousarray(pixels, np.uint8), canvas)

    def share_of(self, yaw_deg: float, pitch_deg: float) -> tuple[float, float] | None:
        """Where a direction lies, as shares of width and height; None where it is not shown."""
        yaw, pitch = math.radians(yaw_deg), math.radians(pitch_deg)
        ray = np.array([math.cos(pitch) * math.sin(yaw), -math.sin(pitch), math.cos(pitch) * math.cos(yaw)])
        with np.errstate(invalid="ignore"):
            x, y = (self.canvas.pixels(ray) + 0.5) / (self.canvas.width, self.canvas.height)
        return (float(x), float(y)) if 0 <= x <= 1 and 0 <= y <= 1 else None

    def yaw_at(self, share: float) -> float | None:
        """The azimuth of a share of the width, in the middle of the height; None where the picture has none."""
        at = np.array([share * self.canvas.width, self.canvas.height / 2]) - 0.5
        x, _y, z = self.canvas.directions(at)
        return math.degrees(math.atan2(x, z)) if math.isfinite(x) else None


def turned(north_deg: float, from_yaw_deg: float, to_yaw_deg: float) -> float:
    """The bearing of azimuth 0 once what was marked at one azimuth is marked at another, 0 to 360: bearings of things stay."""
    return (north_deg + from_yaw_deg - to_yaw_deg) % 360
