"""Tie points and straight lines that a person set, as links: they are believed, whatever features say.

Two points of a pair fix the turn between its frames; of a single one the roll is taken as that of the other frame. A line and a
point fix it as well, or two lines that are not parallel: a camera sees a straight line as a plane through itself, and
turning alone carries one frame's plane to the other's. Along itself a line says nothing.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations, islice

import numpy as np

from idle_lantern.core.base.arrays import Array, Rotations
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens, transfer
from idle_lantern.core.registration.match.links import BEST_PX, Link
from idle_lantern.core.request.choices import TiePoint

#: How well people set points at 100 %, where no patch makes them finer.
SIGMA_PX = TiePoint.sigma_px
#: A line shorter than this tells no direction.
SHORTEST_PX = 8
#: Ties that miss each other by this share of a frame's long side are not the same thing; less may be distortion not known yet.
_GROSS = 0.03
#: Of more pairs of ties nobody would set the turn is not tried.
_MOST_PAIRS = 200
#: How far the uprights of two frames differ that were held alike, and from which turn on points tell it well enough themselves.
_HELD_ALIKE_RAD, _ROLL_KNOWN_RAD = math.radians(5.0), math.radians(1.0)
#: A tie of a picture that misses by more is to be looked at, by pixels and by how well it was set.
_DOUBTFUL_PX, _DOUBTFUL_SIGMAS = 4.0, 6.0
#: How well a line alone tells where along it things lie: as a hand draws it from about the same things.
_ALONG_PX = 40.0


@dataclass(frozen=True)
class HandTie:
    """What became of a point or line that a person set.

    ``miss_px`` is by how much it misses in the second frame, NaN where one of its frames is not placed; ``believed`` whether it tied
    them; ``sentence`` what is to be said about it, empty where all is well.
    """

    point: TiePoint
    miss_px: float
    believed: bool
    sentence: str = ""


@dataclass(frozen=True)
class _Pair:
    """What ties two frames, a before b: places among all points, the ties seen from frame a, and the lenses."""

    a: int
    b: int
    at: tuple[int, ...]
    ties: tuple[TiePoint, ...]
    lenses: tuple[Lens, Lens]

    @property
    def tolerance_px(self) -> float:
        """By how much ties may miss each other while the lenses are still a guess."""
        return _GROSS * max(self.lenses[1].width, self.lenses[1].height)

    def agreeing(self) -> list[int]:
        """Which of the ties, by place, are the same thing in both frames as far as most of them agree; none where they do not."""
        count = len(self.ties)
        if count == 1:
            return [0]
        best: list[int] = []
        least = math.inf
        for some in (tuple(range(count)), *islice(combinations(range(count), 2), _MOST_PAIRS)):
            misses = self.misses([self.ties[i] for i in some])
            agree = [i for i in range(count) if misses[i] <= self.tolerance_px]
            total = sum(misses[i] for i in agree)
            if (len(agree), -total) > (len(best), -least):
                best, least = agree, total
        return best if 2 * len(best) > count and len(best) > 1 else []

    def misses(self, fixed_by: Sequence[TiePoint]) -> list[float]:
        """Of every tie the miss in pixels of frame b, under the turn that ``fixed_by`` tell."""
        turn = _fixed(fixed_by, *self.lenses)[0]
        return [_miss_px(tie, *self.lenses, turn) for tie in self.ties]


def links_by_hand(points: Sequence[TiePoint], ids: Sequence[str], lenses: Sequence[Lens]) -> list[Link]:
    """One link for each pair of the frames ``ids``, with their lenses, that hand-set points and lines tie: without those that
    contradict the others."""
    links = []
    for pair in _pairs(points, ids, lenses):
        agreeing = [pair.ties[i] for i in pair.agreeing()]
        if agreeing:
            links.append(_link_of(pair.a, pair.b, agreeing, *pair.lenses))
    return links


@dataclass(frozen=True)
class JudgedTies:
    """The ties of a set: one link for each pair that they tie, the links of features that they leave, and what is to be said.

    ``refused`` tells, by place among the points, why a tie contradicts the others of its pair; ``doubts`` tells of pairs of frames.
    """

    by_hand: list[Link]
    features: list[Link]
    refused: dict[int, str]
    doubts: dict[tuple[int, int], str]


def judged(
    points: Sequence[TiePoint],
    ids: Sequence[str],
    lenses: Sequence[Lens],
    names: Sequence[str],
    features: Sequence[Link],
) -> JudgedTies:
    """Ties between the frames ``ids``, known to people by ``names``, beside the links of ``features``, over which they win."""
    tied = {f for k in features for f in (k.a, k.b)}
    by_hand: list[Link] = []
    refused: dict[int, str] = {}
    doubts: dict[tuple[int, int], str] = {}
    against: set[tuple[int, int]] = set()
    for pair in _pairs(points, ids, lenses):
        a, b = names[pair.a], names[pair.b]
        kept = pair.agreeing()
        refused |= _refused(pair, kept, a, b)
        ties = [pair.ties[i] for i in kept]
        if not ties:
            continue
        link = _link_of(pair.a, pair.b, ties, *pair.lenses)
        by_hand.append(link)
        if _lie_together(ties) and not {pair.a, pair.b} <= tied:
            doubts[pair.a, pair.b] = (
                f"{a} and {b} are tied at one place alone, so that how {b} is turned about it is a guess: as {a} stands, "
                f"to some {math.degrees(_HELD_ALIKE_RAD):.0f}°. Tie a second thing far from it."
            )
        for other in [k for k in features if (k.a, k.b) == (pair.a, pair.b)]:
            off = _difference_px(other, link, pair.lenses)
            if off > pair.tolerance_px:
                against.add((pair.a, pair.b))
                doubts[pair.a, pair.b] = (
                    f"The ties between {a} and {b} differ by {_pixels(off)} from what the two show alike by themselves. "
                    "The ties are believed: take them away where they are wrong."
                )
    return JudgedTies(by_hand, [k for k in features if (k.a, k.b) not in against], refused, doubts)


def _refused(pair: _Pair, kept: Sequence[int], a: str, b: str) -> dict[int, str]:
    """Of a pair of frames of these names the ties that are not ``kept``, by place among all points, and why."""
    misses = pair.misses([pair.ties[i] for i in kept or range(len(pair.ties))])
    if not kept:
        why = (
            f"The {len(pair.ties)} ties between {a} and {b} contradict each other by {_pixels(2 * max(misses))}, so none is used: "
            "one of them is not the same thing in both frames."
        )
        return dict.fromkeys(pair.at, why)
    return {
        place: f"{_described(tie, a, b)} misses the other ties of the two by {_pixels(miss)} and is not used: "
        "it is not the same thing in both frames."
        for i, (place, tie, miss) in enumerate(zip(pair.at, pair.ties, misses))
        if i not in kept
    }


def _lie_together(ties: Sequence[TiePoint]) -> bool:
    """Whether points lie so near each other that they do not tell how a frame is turned about them."""
    if any(tie.is_line for tie in ties):
        return False
    places = _places(ties, "xy_a")
    lever = math.sqrt(float(((places - places.mean(0)) ** 2).sum()))
    return max(tie.sigma_px for tie in ties) > _ROLL_KNOWN_RAD * lever


def _difference_px(link: Link, by_hand: Link, lenses: tuple[Lens, Lens]) -> float:
    """By how much the turn of a link misses ties of the same frames, where most, across lines; infinite where it shows none of it."""
    seen = slice(len(by_hand.points_a) - by_hand.assumed)
    places, valid = transfer(*lenses, link.b_from_a, by_hand.points_a[seen])
    known = by_hand.sqrt_information[seen]
    known = known / np.linalg.norm(known, 2, axis=(1, 2))[:, None, None]
    miss = np.linalg.norm(np.einsum("pij,pj->pi", known, places - by_hand.points_b[seen]), axis=1)
    return float(np.where(valid, miss, np.inf).max())


def _pairs(points: Sequence[TiePoint], ids: Sequence[str], lenses: Sequence[Lens]) -> list[_Pair]:
    at = {frame: f for f, frame in enumerate(ids)}
    pairs: dict[tuple[int, int], list[int]] = {}
    for n, p in enumerate(points):
        if p.a in at and p.b in at:
            a, b = sorted((at[p.a], at[p.b]))
            pairs.setdefault((a, b), []).append(n)
    return [
        _Pair(a, b, tuple(places), tuple(points[n].seen_from(ids[a]) for n in places), (lenses[a], lenses[b]))
        for (a, b), places in sorted(pairs.items())
    ]


def _pixels(miss_px: float) -> str:
    """A miss in words; where the other frame cannot show the thing at all it has no number."""
    return f"{miss_px:.0f} px" if math.isfinite(miss_px) else "more than a frame"


def _described(point: TiePoint, a: str, b: str) -> str:
    """A tie between frames of these names by where it lies."""
    what = "line" if point.is_line else "point"
    (xa, ya), (xb, yb) = point.xy_a, point.xy_b
    return f"The {what} from {a} ({xa:.0f}, {ya:.0f}) to {b} ({xb:.0f}, {yb:.0f})"


def _link_of(a: int, b: int, ties: Sequence[TiePoint], lens_a: Lens, lens_b: Lens) -> Link:
    single = [p for p in ties if not p.is_line]
    turn, lines = _fixed(ties, lens_a, lens_b)
    known = np.eye(2) * (BEST_PX / np.array([p.sigma_px for p in single]))[:, None, None]
    alone = len(ties) == 1
    drawn = [line.as_points(turn, lens_b, alone) for line in lines]
    assumed = [] if lines else [_held_alike(single, lens_a, lens_b)]
    points_a = np.concatenate(
        [_places(single, "xy_a"), *(line.ends_a for line in lines), *(a for a, _b, _k in assumed)]
    )
    points_b = np.concatenate(
        [_places(single, "xy_b"), *(places for places, _known in drawn), *(b for _a, b, _k in assumed)]
    )
    information = np.concatenate([known, *(known for _places, known in drawn), *(k for _a, _b, k in assumed)])
    agreeing = np.isfinite(points_b).all(1)
    return Link(
        a, b, points_a, points_b, turn, agreeing, 0.0, sqrt_information=information, by_hand=True, assumed=len(assumed)
    )


def _fixed(ties: Sequence[TiePoint], lens_a: Lens, lens_b: Lens) -> tuple[Array, list[_Line]]:
    """The turn ``b_from_a`` that suits ties best, and the lines among them."""
    single = [p for p in ties if not p.is_line]
    rays_a, rays_b = lens_a.unproject(_places(single, "xy_a")), lens_b.unproject(_places(single, "xy_b"))
    lines = [_Line.of(p, lens_a, lens_b) for p in ties if p.is_line]
    spread = 0.0 if not single else max(p.sigma_px for p in single) / lens_a.focal_px
    return _turn(rays_a, rays_b, lines, (spread / _HELD_ALIKE_RAD) ** 2), lines


def _held_alike(single: Sequence[TiePoint], lens_a: Lens, lens_b: Lens) -> tuple[Array, Array, Array]:
    """What is assumed where points lie near each other: that the other frame is held as upright, to ``_HELD_ALIKE_RAD``.

    As a tie point above or below them, places (1, 2) in both frames with its sqrt_information (1, 2, 2): it tells only how
    frame b is turned about them.
    """
    rays_a, rays_b = (
        _unit(lens.unproject(_places(single, name)).mean(0)) for lens, name in ((lens_a, "xy_a"), (lens_b, "xy_b"))
    )
    turn = _as_upright(rays_a, rays_b)
    (foot_a, _), (foot_b, _) = lens_a.project(rays_a), lens_b.project(rays_b)
    beside = np.array([foot_a[0], foot_a[1] + math.copysign(lens_a.height / 4, lens_a.height / 2 - foot_a[1])])
    place, valid = transfer(lens_a, lens_b, turn, beside)
    way = place - foot_b
    lever = float(np.hypot(*way))
    if not valid or not lever > 1:
        return beside[None], np.full((1, 2), np.nan), np.zeros((1, 2, 2))
    across = np.array([-way[1], way[0]]) / lever
    known = np.stack([across * (BEST_PX / (_HELD_ALIKE_RAD * lever)), np.zeros(2)])
    return beside[None], place[None], known[None]


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
    """Of points between the frames ``ids``: how far each point misses the turn that suits most of its pair best, in pixels of the second frame; a line, across itself.

    One point alone, and two, say nothing but the distance between two things: a third checks them.
    """
    found = [math.inf] * len(points)
    for pair in _pairs(points, ids, lenses):
        kept = pair.agreeing() or range(len(pair.ties))
        for place, miss in zip(pair.at, pair.misses([pair.ties[i] for i in kept])):
            found[place] = miss
    return found


def outcome(
    points: Sequence[TiePoint],
    solved: Mapping[str, tuple[Lens, Rotations]],
    names: Mapping[str, str],
    why: Mapping[int, str],
) -> tuple[HandTie, ...]:
    """What became of each tie.

    ``solved`` has lens and ``world_from_camera`` (3, 3) of the frames that are placed, by id, ``names`` their names; ``why`` tells, by
    place among ``points``, of those that were refused.
    """
    found = []
    for n, point in enumerate(points):
        sentence, miss = why.get(n, ""), math.nan
        if point.a in solved and point.b in solved:
            (lens_a, turned_a), (lens_b, turned_b) = solved[point.a], solved[point.b]
            miss = _miss_px(point, lens_a, lens_b, turned_b.T @ turned_a)
        if not sentence and miss > max(_DOUBTFUL_PX, _DOUBTFUL_SIGMAS * point.sigma_px):
            described = _described(point, names[point.a], names[point.b])
            sentence = f"{described} misses by {_pixels(miss)}: check that it is the same thing in both frames."
        found.append(HandTie(point, miss, n not in why, sentence))
    return tuple(found)


def _miss_px(tie: TiePoint, lens_a: Lens, lens_b: Lens, b_from_a: Array) -> float:
    """Of a tie, by which a turn misses it, in pixels of frame b; infinite where that frame cannot show it."""
    if tie.is_line:
        ends, on_line, _across = _Line.of(tie, lens_a, lens_b).carried(b_from_a, lens_b)
        miss = float(np.hypot(*(ends - on_line).T).max())
        return miss if math.isfinite(miss) else math.inf
    place, valid = transfer(lens_a, lens_b, b_from_a, np.array(tie.xy_a, float))
    return float(np.hypot(*(place - tie.xy_b))) if bool(valid) else math.inf


def _turn(rays_a: Array, rays_b: Array, lines: Sequence[_Line], held_alike: float) -> Array:
    """Rotation ``b_from_a``; ``held_alike`` is the weight, beside that of a ray, of frame b being held as upright as frame a."""
    if lines or len(rays_a) > 1:
        # the middles of a line that is all there is are taken for the same thing
        alone = lines if len(rays_a) + len(lines) == 1 else []
        one = np.concatenate([rays_a, *([line.normal_a] for line in lines), *([line.middle_a] for line in alone)])
        other = np.concatenate([rays_b, *([line.normal_b] for line in lines), *([line.middle_b] for line in alone)])
        # ends that are known as well as points tell how a line runs the worse the shorter it is
        weight = np.concatenate([np.ones(len(rays_a)), [line.weight for line in lines], np.ones(len(alone))])
        sum_of_products = (other * weight[:, None]).T @ one
        if not lines:  # things that lie near each other tell nothing of a turn about them
            sum_of_products = sum_of_products + held_alike * _as_upright(_unit(rays_a.mean(0)), _unit(rays_b.mean(0)))
        return rotations.nearest(sum_of_products)
    return _as_upright(rays_a[0], rays_b[0])


def _as_upright(ray_a: Array, ray_b: Array) -> Array:
    """Rotation ``b_from_a`` by yaw and pitch that brings one ray (3,) over the other; both cameras are held alike."""
    (xa, ya, za), (xb, yb, zb) = ray_a, ray_b
    yaw = math.atan2(xb, zb) - math.atan2(xa, za)
    pitch = math.asin(max(-1.0, min(1.0, yb))) - math.asin(max(-1.0, min(1.0, ya)))
    return np.asarray(rotations.about_x(-pitch) @ rotations.about_y(yaw))
