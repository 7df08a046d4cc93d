"""Tie points that a person set, as links: they are believed, whatever features say.

Two points of a pair fix the turn between its frames; of a single one the roll is taken as that of the other frame.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import read_json
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.join.match.links import BEST_PX, Link
from idle_lantern.core.join.options import TiePoint

Array = NDArray[Any]

#: How well people set points at 100 %, where no patch makes them finer.
SIGMA_PX = TiePoint.sigma_px
_REMEDY = 'Give a list of {"a": file, "xy_a": [x, y], "b": file, "xy_b": [x, y]}, in pixels of the full frames'


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
    ends: list[tuple[int, tuple[float, float]]] = []
    for end in ("a", "b"):
        try:
            name = str(row[end])
            x, y = (float(v) for v in row[f"xy_{end}"])
        except (KeyError, TypeError, ValueError, OverflowError, IndexError) as error:
            raise InputError("Is no pair of places", where=where, remedy=_REMEDY) from error
        f = place.get(name, place.get(Path(name).name))
        if f is None:
            raise InputError(
                f"Names {name}, which is none of the frames", where=where, remedy="Name frames of this set"
            )
        info = frames.infos[f]
        if not (-0.5 <= x <= info.width - 0.5 and -0.5 <= y <= info.height - 0.5):
            raise InputError(
                f"{x:g}, {y:g} lies outside {name} of {info.width} x {info.height} pixels", where=where, remedy=_REMEDY
            )
        ends.append((f, (x, y)))
    (a, xy_a), (b, xy_b) = ends
    if a == b:
        raise InputError("Ties a frame to itself", where=where, remedy="Name two frames that show the same thing")
    return TiePoint(a, xy_a, b, xy_b)


def links_by_hand(points: Sequence[TiePoint], lenses: Sequence[Lens]) -> list[Link]:
    """One link for each pair of frames that hand-set points tie."""
    pairs: dict[tuple[int, int], list[tuple[tuple[float, float], tuple[float, float], float]]] = {}
    for p in points:
        if p.a < p.b:
            pairs.setdefault((p.a, p.b), []).append((p.xy_a, p.xy_b, p.sigma_px))
        else:
            pairs.setdefault((p.b, p.a), []).append((p.xy_b, p.xy_a, p.sigma_px))
    found = []
    for (a, b), both in sorted(pairs.items()):
        points_a, points_b = np.array([r[0] for r in both], float), np.array([r[1] for r in both], float)
        turn = _turn(lenses[a].unproject(points_a), lenses[b].unproject(points_b))
        known = np.eye(2) * (BEST_PX / np.array([r[2] for r in both]))[:, None, None]
        found.append(
            Link(a, b, points_a, points_b, turn, np.ones(len(both), bool), 0.0, sqrt_information=known, by_hand=True)
        )
    return found


def misses_px(points: Sequence[TiePoint], lenses: Sequence[Lens]) -> list[float]:
    """How far each point misses the turn that suits those of its pair best, in pixels of the second frame.

    One point alone, and two, say nothing but the distance between two things: a third checks them.
    """
    links = {(link.a, link.b): link for link in links_by_hand(points, lenses)}
    found = []
    for p in points:
        a, xy_a, b, xy_b = (p.a, p.xy_a, p.b, p.xy_b) if p.a < p.b else (p.b, p.xy_b, p.a, p.xy_a)
        ray = links[a, b].b_from_a @ lenses[a].unproject(np.array(xy_a, float))
        place, valid = lenses[b].project(ray)
        found.append(float(np.hypot(*(place - xy_b))) if bool(valid) else math.inf)
    return found


def _turn(rays_a: Array, rays_b: Array) -> Array:
    """Rotation ``b_from_a``."""
    if len(rays_a) > 1:
        return rotations.aligning(rays_a, rays_b)
    # yaw and pitch bring the one ray over; both cameras are held alike
    (xa, ya, za), (xb, yb, zb) = rays_a[0], rays_b[0]
    yaw = math.atan2(xb, zb) - math.atan2(xa, za)
    pitch = math.asin(max(-1.0, min(1.0, yb))) - math.asin(max(-1.0, min(1.0, ya)))
    return np.asarray(rotations.about_x(-pitch) @ rotations.about_y(yaw))
