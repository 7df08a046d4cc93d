"""Tie points and straight lines that a person set, as links: they are believed, whatever features say.

Two points of a pair fix the turn between its frames; of a single one the roll is taken as that of the other frame. A line and a
point fix it as well, or two lines that are not parallel: a camera sees a straight line as a plane through itself, and
turning alone carries one frame's plane to the other's. Along itself a line says nothing.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.strict_json import read_json
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens, transfer
from idle_lantern.core.registration.match.links import BEST_PX, Link
from idle_lantern.core.request.choices import TiePoint

Place = tuple[float, float]

#: How well people set points at 100 %, where no patch makes them finer.
SIGMA_PX = TiePoint.sigma_px
#: A line shorter than this tells no direction.
SHORTEST_PX = 8
#: How well a line alone tells where along it things lie: as a hand draws it from about the same things.
_ALONG_PX = 40.0
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


def links_by_hand(points: Sequence[TiePoint], ids: Sequence[str], lenses: Sequence[Lens]) -> list[Link]:
    """One link for each pair of the frames ``ids``, with their lenses, that hand-set points and lines tie."""
    at = {frame: f for f, frame in enumerate(ids)}
    pairs: dict[tuple[int, int], list[TiePoint]] = {}
    for p in points:
        if p.a in at and p.b in at:
            a, b = sorted((at[p.a], at[p.b]))
            pairs.setdefault((a, b), []).append(p.seen_from(ids[a]))
    return [_link_of(a, b, ties, lenses[a], lenses[b]) for (a, b), ties in sorted(pairs.items())]


def _link_of(a: int, b: int, ties: Sequence[TiePoint], lens_a: Lens, lens_b: Lens) -> Link:
    single = [p for p in ties if not p.is_line]
    rays_a, rays_b = lens_a.unproject(_places(single, "xy_a")), lens_b.unproject(_places(single, "xy_b"))
    lines = [_Line.of(p, lens_a, lens_b) for p in ties if p.is_line]
    turn = _turn(rays_a, rays_b, lines)
    known = np.eye(2) * (BEST_PX / np.array([p.sigma_px for p in single]))[:, None, None]
    alone = len(ties) == 1
    drawn = [line.as_points(turn, lens_b, alone) for line in lines]
    points_a = np.concatenate([_places(single, "xy_a"), *(line.ends_a for line in lines)])
    points_b = np.concatenate([_places(single, "xy_b"), *(places for places, _known in drawn)])
    information = np.concatenate([known, *(known for _places, known in drawn)])
    agreeing = np.isfinite(points_b).all(1)
    return Link(a, b, points_a, points_b, turn, agreeing, 0.0, sqrt_information=information, by_hand=True)


def _places(points: Sequence[TiePoint], name: str) -> Array:
    return np.array([getattr(p, name) for p in points], float).reshape(-1, 2)


@dataclass(frozen=True)
class _Line:
    """A line of two frames: its ends in the first (2, 2) and their directions there (2, 3), and the normal, of unit length, of the
    plane in which each of the cameras sees it. ``middle_a`` and ``middle_b`` are directions of the middles of what was drawn."""

    ends_a: Array
    rays_a: Array
    normal_a: Array
    normal_b: Array
    middle_a: Array
    middle_b: Array
    sigma_px: float

    @classmethod
    def of(cls, tie: TiePoint, lens_a: Lens, lens_b: Lens) -> _Line:
        ends_a, ends_b = np.array([tie.xy_a, tie.to_a], float), np.array([tie.xy_b, tie.to_b], float)
        if (ends_a[1] - ends_a[0]) @ (ends_b[1] - ends_b[0]) < 0:
            ends_b = ends_b[::-1]  # drawn the other way round: both cameras are held alike
        rays_a, rays_b = lens_a.unproject(ends_a), lens_b.unproject(ends_b)
        (normal_a, middle_a), (normal_b, middle_b) = (
            (_unit(np.cross(*rays)), _unit(rays.sum(0))) for rays in (rays_a, rays_b)
        )
        return cls(ends_a, rays_a, normal_a, normal_b, middle_a, middle_b, tie.sigma_px)

    @property
    def weight(self) -> float:
        """Of its normal, beside that of a point: half its squared length in radians."""
        return float(1 - self.rays_a[0] @ self.rays_a[1])

    def carried(self, b_from_a: Array, lens_b: Lens) -> tuple[Array, Array, Array]:
        """Where a turn puts both ends in frame b, the nearest places of the line that was drawn there, and the way across it:
        (2, 2) pixels each; NaN where the lens shows nothing."""
        rays = self.rays_a @ b_from_a.T
        feet = rays - (rays @ self.normal_b)[:, None] * self.normal_b
        feet /= np.linalg.norm(feet, axis=1, keepdims=True)
        found = [lens_b.project(at) for at in (rays, feet, feet + 1e-4 * self.normal_b)]
        ends, on_line, beside = (np.where(valid[:, None], pixels, np.nan) for pixels, valid in found)
        across = beside - on_line
        return ends, on_line, across / np.linalg.norm(across, axis=1, keepdims=True)

    def as_points(self, b_from_a: Array, lens_b: Lens, alone: bool) -> tuple[Array, Array]:
        """Places of frame b (2, 2) for both ends, and what is known of them: where they lie across the line, and nothing along it;
        of a line that is all there is a little, by what was drawn."""
        _ends, on_line, across = self.carried(b_from_a, lens_b)
        along = np.stack([-across[:, 1], across[:, 0]], -1) * (BEST_PX / _ALONG_PX if alone else 0.0)
        return on_line, np.stack([across * (BEST_PX / self.sigma_px), along], 1)


def _unit(vector: Array) -> Array:
    return np.asarray(vector / np.linalg.norm(vector))


def misses_px(points: Sequence[TiePoint], ids: Sequence[str], lenses: Sequence[Lens]) -> list[float]:
    """Of points between the frames ``ids``: how far each point misses the turn that suits those of its pair best, in pixels of the second frame; a line, across itself.

    One point alone, and two, say nothing but the distance between two things: a third checks them.
    """
    at = {frame: f for f, frame in enumerate(ids)}
    links = {(link.a, link.b): link for link in links_by_hand(points, ids, lenses)}
    found = []
    for point in points:
        a, b = sorted((at[point.a], at[point.b]))
        p, turn = point.seen_from(ids[a]), links[a, b].b_from_a
        if p.is_line:
            ends, on_line, _across = _Line.of(p, lenses[a], lenses[b]).carried(turn, lenses[b])
            miss = float(np.hypot(*(ends - on_line).T).max())
            found.append(miss if math.isfinite(miss) else math.inf)
            continue
        place, valid = transfer(lenses[a], lenses[b], turn, np.array(p.xy_a, float))
        found.append(float(np.hypot(*(place - p.xy_b))) if bool(valid) else math.inf)
    return found


def _turn(rays_a: Array, rays_b: Array, lines: Sequence[_Line]) -> Array:
    """Rotation ``b_from_a``."""
    if lines or len(rays_a) > 1:
        # the middles of a line that is all there is are taken for the same thing
        alone = lines if len(rays_a) + len(lines) == 1 else []
        one = np.concatenate([rays_a, *([line.normal_a] for line in lines), *([line.middle_a] for line in alone)])
        other = np.concatenate([rays_b, *([line.normal_b] for line in lines), *([line.middle_b] for line in alone)])
        # ends that are known as well as points tell how a line runs the worse the shorter it is
        weight = np.concatenate([np.ones(len(rays_a)), [line.weight for line in lines], np.ones(len(alone))])
        return rotations.nearest((other * weight[:, None]).T @ one)
    # yaw and pitch bring the one ray over; both cameras are held alike
    (xa, ya, za), (xb, yb, zb) = rays_a[0], rays_b[0]
    yaw = math.atan2(xb, zb) - math.atan2(xa, za)
    pitch = math.asin(max(-1.0, min(1.0, yb))) - math.asin(max(-1.0, min(1.0, ya)))
    return np.asarray(rotations.about_x(-pitch) @ rotations.about_y(yaw))
