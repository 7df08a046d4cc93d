"""The file of tie points and straight lines that ``join --points`` reads."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import read_json
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.registration.match.by_hand import SHORTEST_PX
from idle_lantern.core.request.choices import TiePoint

Place = tuple[float, float]

_REMEDY = 'Give a list of {"a": file, "xy_a": [x, y], "b": file, "xy_b": [x, y]}, in pixels of the full frames; a line has "to_a" and "to_b" too'


def read_points(path: Path, frames: FrameSet) -> tuple[TiePoint, ...]:
    """The points of a file, by the names of the frames.

    Raises
    ------
    InputError
        It is no such list, names a frame that is not there, or a place outside it.
    """
    rows = read_json(path, remedy=_REMEDY)
    if not isinstance(rows, list):
        raise InputError("Holds no list of points", where=str(path), remedy=_REMEDY)
    place = {Path(name).name: f for f, name in reversed(list(enumerate(frames.names)))}
    place |= {name: f for f, name in enumerate(frames.names)}
    return tuple(_point_of(row, f"{path}, point {n}", place, frames) for n, row in enumerate(rows, 1))


def _point_of(row: Any, where: str, place: dict[str, int], frames: FrameSet) -> TiePoint:
    is_line = isinstance(row, dict) and ("to_a" in row or "to_b" in row)
    ends = [_end_of(row, end, is_line, where, place, frames) for end in ("a", "b")]
    (a, xy_a, to_a), (b, xy_b, to_b) = ends
    if a == b:
        raise InputError("Ties a frame to itself", where=where, remedy="Name two frames that show the same thing")
    return TiePoint(frames.ids[a], xy_a, frames.ids[b], xy_b, to_a=to_a, to_b=to_b)


def _end_of(
    row: Any, end: str, is_line: bool, where: str, place: dict[str, int], frames: FrameSet
) -> tuple[int, Place, Place | None]:
    """Frame and place of one end of a tie, and of a line the place to which it is drawn there."""
    try:
        name = str(row[end])
        places = [(float(x), float(y)) for x, y in (row[f"xy_{end}"], *([row[f"to_{end}"]] if is_line else []))]
    except (KeyError, TypeError, ValueError, OverflowError, IndexError) as error:
        raise InputError("Is no pair of places", where=where, remedy=_REMEDY) from error
    f = place.get(name, place.get(Path(name).name))
    if f is None:
        raise InputError(f"Names {name}, which is none of the frames", where=where, remedy="Name frames of this set")
    info = frames.infos[f]
    for x, y in places:
        if not (-0.5 <= x <= info.width - 0.5 and -0.5 <= y <= info.height - 0.5):
            raise InputError(
                f"{x:g}, {y:g} lies outside {name} of {info.width} x {info.height} pixels", where=where, remedy=_REMEDY
            )
    if is_line and math.dist(*places) < SHORTEST_PX:
        raise InputError(
            f"A line in {name} is shorter than {SHORTEST_PX} pixels", where=where, remedy="Draw it as long as it shows"
        )
    return f, places[0], places[1] if is_line else None
