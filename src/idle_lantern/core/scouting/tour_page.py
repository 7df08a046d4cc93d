"""The page of a tour, made of what a tour is told by."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.deliver.ball import Ball, SphereCanvas, canvas_of_sphere
from idle_lantern.core.deliver.delivery import Delivery, ball_of
from idle_lantern.core.deliver.job import DeliverJob
from idle_lantern.core.deliver.known import Known
from idle_lantern.core.deliver.look_page import Link, PagePlace, write_look_page
from idle_lantern.core.deliver.tour import Stand, links_of, middle_of, seen_pairs
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.known_picture import known_from
from idle_lantern.core.pictures.tiled import open_picture
from idle_lantern.core.scouting.tour_spec import TourPlace, TourSpec, stands_of

_QUALITY = 85


@dataclass(frozen=True)
class LaidOut:
    """A tour on its plan.

    Attributes
    ----------
    stands : where each place lies and which way it faces
    links : for each place the steps from it
    first : number of the place where it begins
    unturned : numbers of places of which nothing tells which way they face: their azimuth 0 is taken for north
    """

    stands: Sequence[Stand]
    links: Sequence[tuple[Link, ...]]
    first: int
    unturned: Sequence[int]

    @property
    def remarks(self) -> list[str]:
        """What is to be said of places."""
        return [
            f"{self.stands[k].name}: nothing tells where north is; its azimuth 0 is taken for it (north_deg, or sun)"
            for k in self.unturned
        ]


def laid_out(spec: TourSpec, folder: Path) -> LaidOut:
    """Where the places of a tour lie, and the steps between them; names of files are told from ``folder``.

    Raises
    ------
    InputError
        Nothing tells where a place was taken, or what tells it cannot be used.
    """
    names = [place.shown_name for place in spec.places]
    stands, unturned = stands_of(folder, spec, lambda k: _canvas(folder, spec.places[k]))
    if spec.links is None:
        pairs = seen_pairs(stands, spec.reach_m)
    else:
        pairs = [(_index(a, names), _index(b, names)) for a, b in spec.links]
    first = middle_of(stands) if spec.first is None else _index(spec.first, names)
    return LaidOut(stands, links_of(stands, pairs), first, unturned)


def write_tour(
    spec: TourSpec,
    folder: Path,
    laid: LaidOut,
    target: Path,
    *,
    long_side_px: int | None = None,
    progress: Progress = SILENT,
) -> Path:
    """Write the page of a tour that was laid out, whole or not at all; returns ``target``.

    Raises
    ------
    InputError
        A picture cannot be read or is no sphere, or the page cannot be written.
    Cancelled
        Stopped; nothing is left.
    """
    check_page(spec, folder, target)
    balls = [_ball(folder, place, long_side_px) for place in spec.places]
    # the first one comes first in the page, so that it shows first
    order = [laid.first, *(k for k in range(len(balls)) if k != laid.first)]
    at = {old: new for new, old in enumerate(order)}
    places = [
        PagePlace(
            balls[k],
            laid.stands[k].name,
            spec.places[k].note,
            laid.stands[k].north_deg,
            tuple(replace(link, to=at[link.to]) for link in laid.links[k]),
            (laid.stands[k].east_m, laid.stands[k].north_m),
        )
        for k in order
    ]
    return write_look_page(places, target, WriteOptions(_QUALITY), progress)


def check_page(spec: TourSpec, folder: Path, target: Path) -> None:
    """Say before the work starts whether a page can stand there; raises InputError."""
    if target.suffix.lower() not in (".html", ".htm"):
        raise InputError("A page is not named so", where=str(target), remedy="End it in .html")
    read = [folder / name for place in spec.places for name in (place.picture, place.report) if name is not None]
    check_outputs([target], read)


def canvas_of_place(picture: Path, report: Path | None) -> SphereCanvas:
    """Where the pixels of a place's picture look; raises InputError where nothing tells or it cannot be read."""
    info = probe(picture)
    size = info.width, info.height
    return canvas_of_sphere(_known(size, report).canvas, size)


def _known(size: tuple[int, int], report: Path | None) -> Known:
    return Known() if report is None else known_from(report, Rectangle(0, 0, *size))


def _report(folder: Path, place: TourPlace) -> Path | None:
    return None if place.report is None else folder / place.report


def _canvas(folder: Path, place: TourPlace) -> SphereCanvas:
    return canvas_of_place(folder / place.picture, _report(folder, place))


def _ball(folder: Path, place: TourPlace, long_side_px: int | None) -> Ball:
    picture = open_picture(folder / place.picture)
    known = _known(picture.sizes[0], _report(folder, place))
    job = DeliverJob(profile="srgb", long_side_px=long_side_px)
    return ball_of(Delivery(job, picture, known), Rectangle(0, 0, *picture.sizes[0]))


def _index(name: str, names: list[str]) -> int:
    if name not in names:
        raise InputError(f"There is no place '{name}'", remedy=f"Places are {', '.join(names[:8])}")
    return names.index(name)
