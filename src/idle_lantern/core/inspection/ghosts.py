"""Things that moved while the frames were taken: in which frames each stands, where, and which frame shows the ground instead."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.inspection.ghosting import Figure

#: Display values by which a figure stands out more than the ground that the other frame shows there.
_SURE = 12.0
#: Places are of one thing where these agree.
_SAME_COLOUR = 30.0  # display values
_SAME_LEVEL = 1.2  # height in the picture, times its own
_SAME_SIZE = 3.0  # times
#: Things taller than this share of the picture are no walkers but clouds, waves or light.
_TALLEST = 0.5
#: Most that are told, the largest first.
_TOLD = 30


@dataclass(frozen=True)
class GhostPlace:
    """A place of a thing, in pixels of the canvas: ``frame`` shows it there, ``instead`` the ground; ``shown`` in the picture."""

    u: float
    v: float
    width: float
    height: float
    frame: int
    instead: int
    shown: bool


@dataclass(frozen=True)
class Ghost:
    """One thing that moved, its places in the order of the frames."""

    places: tuple[GhostPlace, ...]

    @property
    def shown(self) -> int:
        """In how many places the picture shows it."""
        return sum(p.shown for p in self.places)

    def sentence(self, names: Sequence[str]) -> str:
        """Who, in which frames, how often it shows."""
        frames = list(dict.fromkeys(names[p.frame] for p in self.places))
        told = {0: "not shown", 1: "shown once", 2: "shown twice"}.get(self.shown, f"shown {self.shown} times")
        where = ", ".join(frames[:4]) + (" ..." if len(frames) > 4 else "")
        return f"Something that moved, in {where}: {told}"


def ghosts_of(found: Sequence[Figure], shape: tuple[int, int], scale: float) -> list[Ghost]:
    """Figures between overlapping frames as things that moved; frames are places in the poses.

    ``shape`` is that of the reduced canvas that figures are told on, ``scale`` pixels of the full canvas for each of its own.
    """
    sure = [f for f in found if abs(f.stands) > _SURE and f.box[3] < _TALLEST * shape[0]]
    groups: list[list[Figure]] = []
    for figure in sorted(sure, key=lambda f: -f.area):
        home = next((g for g in groups if any(_same(figure, other) for other in g)), None)
        if home is None:
            groups.append([figure])
        else:
            home.append(figure)
    told = []
    for group in groups:
        places: list[GhostPlace] = []
        for figure in group:
            place = _place(figure, scale)
            twin = next((k for k, p in enumerate(places) if p.frame == place.frame and _meets(p, place)), None)
            if twin is None:
                places.append(place)
            elif place.shown and not places[twin].shown:  # a third frame hides it from one pair, not from another
                places[twin] = replace(places[twin], shown=True)
        told.append(Ghost(tuple(sorted(places, key=lambda p: p.frame))))
    return told[:_TOLD]


def _of_figure(figure: Figure) -> tuple[int, int, Array]:
    """The frame that shows the figure, the one that shows the ground, and the figure's colour."""
    if figure.stands > 0:
        return figure.frame, figure.other, figure.colour
    return figure.other, figure.frame, figure.hidden


def _same(one: Figure, two: Figure) -> bool:
    (frame, _g, colour), (other, _o, its) = _of_figure(one), _of_figure(two)
    if frame == other and not _near(one.box, two.box):
        return False  # nobody stands in two places of one frame
    size = max(one.area, two.area) / max(1, min(one.area, two.area))
    tall = max(one.box[3], two.box[3])
    level = abs(one.box[1] + one.box[3] / 2 - two.box[1] - two.box[3] / 2) / max(1, tall)
    alike = float(np.abs(colour - its).max()) < _SAME_COLOUR
    return alike and size < _SAME_SIZE and level < _SAME_LEVEL


def _near(one: tuple[int, int, int, int], two: tuple[int, int, int, int]) -> bool:
    return abs(one[0] - two[0]) <= max(one[2], two[2]) and abs(one[1] - two[1]) <= max(one[3], two[3])


def _meets(one: GhostPlace, two: GhostPlace) -> bool:
    return abs(one.u - two.u) <= max(one.width, two.width) and abs(one.v - two.v) <= max(one.height, two.height)


def _place(figure: Figure, scale: float) -> GhostPlace:
    frame, ground, _colour = _of_figure(figure)
    x, y, w, h = figure.box
    u, v = ((x + w / 2) * scale - 0.5, (y + h / 2) * scale - 0.5)
    return GhostPlace(u, v, (w + 2) * scale, (h + 2) * scale, frame, ground, figure.stands > 0)
