"""Things that moved while the frames were taken, as plain values: where each stands, and edits that show it as wished."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np

from idle_lantern.app.stages.hands_model import masks_so_far, paint_masks
from idle_lantern.app.stages.walk_model import WalkStop, ids_by_name
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.compositing.render.single_frame import FrameArea, let_show
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import Outing

Way = Literal["once", "never", "always"]
WAYS: dict[Way, str] = {
    "once": "Show a moving thing once",
    "never": "Show a moving thing nowhere",
    "always": "Show a moving thing everywhere",
}
#: A place that is given to a frame is so much larger than the thing, and so many pixels more.
_WIDER, _MORE_PX = 1.25, 6.0


@dataclass(frozen=True)
class GhostPlaceShown:
    """Where a thing stands: the frame that shows it there and the one that shows the ground, by name and place in the set."""

    u: float
    v: float
    width: float
    height: float
    frame: str
    instead: str
    shown: bool


@dataclass(frozen=True)
class GhostChoice:
    """One thing that moved."""

    sentence: str
    places: tuple[GhostPlaceShown, ...]


def ghosts_of(joined: JoinResult | None) -> tuple[GhostChoice, ...]:
    """What moved in a picture, as its report tells."""
    if joined is None:
        return ()
    return tuple(
        GhostChoice(
            row.sentence,
            tuple(GhostPlaceShown(p.u, p.v, p.width, p.height, p.frame, p.instead, p.shown) for p in row.places),
        )
        for row in joined.report.ghosts
    )  # fmt: skip


def as_it_is(ghost: GhostChoice, way: Way, at: int) -> str:
    """Why showing a thing as wished changes nothing, in a sentence; empty where it changes something."""
    wanted = [way == "always" or (way == "once" and n == at) for n in range(len(ghost.places))]
    if wanted != [place.shown for place in ghost.places]:
        return ""
    told = {"once": "at this place and nowhere else", "never": "nowhere", "always": "at every place"}[way]
    return f"The picture shows this thing {told} already: nothing was changed. What stands there still is hidden by brush, with D."


def stop_at(joined: JoinResult, place: GhostPlaceShown) -> WalkStop:
    """A place of a thing as one of the walk: its frames can be blinked and tried."""
    ids = ids_by_name(joined)
    ray = joined.canvas.directions(np.array([place.u, place.v]))
    azimuth, altitude = (math.degrees(float(a)) for a in azimuth_altitude(np.nan_to_num(ray)))
    names = (place.frame, place.instead)
    frames = tuple(ids[n] for n in names if n in ids)
    return WalkStop(place.u, place.v, place.width, place.height, "", 0.0, frames, names, "", 0.0, azimuth, altitude)


def told(ghosts: tuple[GhostChoice, ...], at: tuple[int, int]) -> str:
    """The present place of the present thing, in words."""
    ghost, k = ghosts[at[0]], at[1]
    place = ghost.places[k]
    where = f", place {k + 1} of {len(ghost.places)}" if len(ghost.places) > 1 else ""
    now = "the picture shows it" if place.shown else f"the picture shows the ground, from {place.instead}"
    return f"Moving thing {at[0] + 1} of {len(ghosts)}{where}. {ghost.sentence}. Here {place.frame} has it; {now}."


def found_again(ghosts: tuple[GhostChoice, ...], before: GhostPlaceShown) -> tuple[int, int] | None:
    """The place of a thing in a picture made anew, None where it is not told of any more."""
    for g, ghost in enumerate(ghosts):
        for k, place in enumerate(ghost.places):
            if (
                place.frame == before.frame
                and math.hypot(place.u - before.u, place.v - before.v) < before.width + before.height
            ):
                return g, k
    return None


def step(ghosts: tuple[GhostChoice, ...], at: tuple[int, int] | None) -> tuple[int, int] | None:
    """The next place, thing after thing, round and round."""
    if not ghosts:
        return None
    if at is None or at[0] >= len(ghosts):
        return 0, 0
    if at[1] + 1 < len(ghosts[at[0]].places):
        return at[0], at[1] + 1
    return (at[0] + 1) % len(ghosts), 0


def show_ghost(outing: Outing, folder: Path, joined: JoinResult, ghost: GhostChoice, way: Way, at: int) -> Edit:
    """The edit after which a thing shows once (at its place ``at``), nowhere or everywhere; what is painted elsewhere stays.

    Raises
    ------
    InputError
        The frames of the join are gone, or a mask cannot be read or kept.
    """
    ids, masks = masks_so_far(outing, folder, joined)
    assert joined.solution is not None
    names = [joined.solution.frames.names[f] for f in joined.solution.poses.frames]
    changed = {}
    for n, place in enumerate(ghost.places):
        wanted = place.frame if way == "always" or (way == "once" and n == at) else place.instead
        if wanted not in names:
            raise InputError(f"{wanted} is no longer in the picture", remedy="Join again")
        a, b = (side / 2 * _WIDER + _MORE_PX for side in (place.width, place.height))
        area = FrameArea.ellipse(place.u, place.v, a, b)
        for i, mask in let_show(joined.solution.poses, joined.canvas, names.index(wanted), area, masks).items():
            masks[i] = changed[i] = mask
    return paint_masks(folder, WAYS[way], ids, changed)
