"""Tie points -> rotations of a camera that was held in the hand, with things near.

Where near and far are adjusted as if the camera had only turned, the focal length and distortion are bent to what the
near things ask for and every rotation with them. Here each frame has a place of its own. How far apart two places lie
shows only where a third frame sees the same; their direction shows in any two.

The search begins at the direction for each pair that leaves least of its misses when its turn is free: things may be near
along it, and never nearer than far against it. From any other start the descent ends in the first hollow.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.geometry import sphere
from idle_lantern.core.join.match.links import Link
from idle_lantern.core.join.solve.adjust import descend, only_free
from idle_lantern.core.join.solve.adjustment import BENT, FOCAL, LENS_INTRINSICS, Adjustment
from idle_lantern.core.join.solve.nearness import (
    DISTORTED,
    PRIOR_WEIGHT,
    NearAdjustment,
    NearState,
    NearThings,
    in_unit,
)
from idle_lantern.core.join.solve.poses import Poses

Array = NDArray[Any]

#: Distance from which a tie point loses weight: near things miss by many times as much.
_SCALE_PX = 0.25
#: The same for further starts of the search.
_STARTS_PX = (1.0, 4.0)
#: Points of a link for the search.
_SEARCH_POINTS = 60
#: Directions tried for each pair; how often its turn is adjusted for each, and how many of the best are asked on.
_DIRECTIONS, _TURNS = 300, ((2, 100), (5, 30), (8, 1))
#: How often the search begins again where it ended, while it brings the cost to this share.
_AGAIN, _DEEPER = 4, 0.98
#: By what share a focal length is off that was adjusted as if the camera had only turned.
_FOCAL_SHARE = 0.01
#: The cost must fall to this share before it is believed, see ``parallax``: here each frame has three numbers more.
_BELIEVED = 0.35
#: Share of points that stand nearer than what is told as "near".
_NEAR = 0.95


@dataclass(frozen=True)
class HandHeld:
    """That the camera was carried about between frames.

    Attributes
    ----------
    near_share : float
        Usual move from a frame to its neighbour as a share of the distance of the nearest things that were matched.
    largest_px : float
        Largest shift of a matched thing between two frames that it causes.
    """

    near_share: float
    largest_px: float

    def sentence(self, nearest_m: float | None = None) -> str:
        """What happened and what to do, in words; with millimetres if the nearest distance is known."""
        metres = nearest_m if nearest_m else 3.0
        told = f"if they stand {metres:g} m off" if nearest_m is None else f"as they stand {metres:g} m off"
        return (
            f"The camera moved from frame to frame by about {100 * self.near_share:.2g} % of the distance of the nearest "
            f"matched things ({self.near_share * metres * 1000:.0f} mm {told}), which shifts them by up to "
            f"{self.largest_px:.0f} px. Near things were laid where the middle of all places shows them; "
            f"look at them closely. Next time turn about the lens and not on the heel, or use a panoramic head."
        )


@dataclass(frozen=True)
class _PlacedState(NearState):
    """And where each frame's pupil stood (F, 3) in the world, about their middle; root mean square 1."""

    place: Array


class _PlacedAdjustment(NearAdjustment):
    """The adjustment with a place of its own for each frame: its unknowns stand behind all others."""

    state: _PlacedState

    def begin(self, place: Array) -> None:
        """Start from places (F, 3)."""
        place, _unit = _about_their_middle(place)
        none = np.zeros(len(self.link))
        self.begin_near(_PlacedState(self.poses.world_from_camera.copy(), self.state.intrinsics, none, place))

    def size(self, columns: int) -> int:
        """With the places of all frames; a link's columns end with those of its two."""
        return super().size(columns - 6) + 3 * len(self.poses.frames)

    def unknowns(self, a: int, b: int, columns: int) -> Array:
        """The others, then the places of both frames."""
        first = super().size(columns - 6)
        own = [first + np.arange(3 * f, 3 * f + 3) for f in (a, b)]
        return np.concatenate([super().unknowns(a, b, columns - 6), *own])

    def places(self, state: NearState) -> Array:
        """As the state holds them."""
        assert isinstance(state, _PlacedState)
        return state.place

    def by_places(self, slope: Array, turn: Array) -> Array:
        """By the place of a, and of b against it."""
        by_a = slope @ np.swapaxes(self.state.rotation[self.b], 1, 2)[self.link]
        return np.concatenate([by_a, -by_a], -1)

    def normal_equations(self) -> tuple[Array, Array]:
        """With the middle of all places held, and their spread."""
        normal, gradient = super().normal_equations()
        f = len(self.poses.frames)
        at = np.arange(len(normal) - 3 * f, len(normal))
        held = np.trace(normal[np.ix_(at, at)]) / (3 * f) + 1e-9
        together, spread = np.tile(np.eye(3), (1, f)), self.state.place.reshape(1, -1)
        # where nothing is near nothing shows a frame's place: there it stays
        normal[np.ix_(at, at)] += held / f * (together.T @ together + spread.T @ spread) + np.eye(3 * f)
        return normal, gradient

    def stepped(self, step: Array) -> _PlacedState:
        """State after a step; the places keep their spread."""
        moved = super().stepped(step)
        place, unit = _about_their_middle(self.state.place + step[-3 * len(self.poses.frames) :].reshape(-1, 3))
        assert isinstance(moved, _PlacedState)
        return replace(moved, place=place, near=in_unit(moved.near, unit))

    def told(self) -> HandHeld:
        """How far the camera was carried."""
        move = np.linalg.norm(self.moves(self.state), axis=1)
        _r, weight, _j, by_near = self.linear_parts()
        shift = np.linalg.norm(by_near, axis=1) * self.state.near
        near = float(np.quantile(self.state.near, _NEAR))
        return HandHeld(near * float(np.median(move)), float(shift[weight > 0.5].max(initial=0.0)))


def solve_hand_held(
    poses: Poses,
    links: Sequence[Link],
    camera_group: Sequence[int],
    *,
    focal_from_exif: bool,
    known: bool = False,
    progress: Progress = SILENT,
) -> tuple[Poses, HandHeld, NearThings] | None:
    """Poses of a camera that was carried, how far, and how near things stand; None where that explains too little.

    Parameters
    ----------
    poses, links
        After fine registration.
    known : bool
        The lenses' distortion is known and stays.
    """

    def turned(start: Poses, scale_px: float) -> tuple[float, Adjustment]:
        problem = Adjustment(start, links, camera_group, scale_px, focal_from_exif, FOCAL, _SEARCH_POINTS, PRIOR_WEIGHT)
        return descend(problem, 20, progress), problem

    def carried(start: Poses, place: Array, free: Sequence[int], points: int) -> tuple[float, _PlacedAdjustment]:
        problem = _PlacedAdjustment(start, links, camera_group, _SCALE_PX, focal_from_exif, free, points, PRIOR_WEIGHT)
        problem.begin(place)
        return descend(problem, 40, progress), problem

    def anew(start: Poses, free: Sequence[int]) -> tuple[float, _PlacedAdjustment]:
        """From the likeliest places under rotations that are there."""
        problem = Adjustment(start, links, camera_group, _SCALE_PX, focal_from_exif, FOCAL, _SEARCH_POINTS)
        return carried(start, _likely_places(problem, progress), free, _SEARCH_POINTS)

    def best_from(
        starts: Sequence[tuple[float, _PlacedAdjustment]], free: Sequence[int]
    ) -> tuple[float, _PlacedAdjustment]:
        """The best of some, and on from where it ends as long as that leads to a deeper hollow."""
        least, best = min(starts, key=lambda t: t[0])
        for _ in range(_AGAIN):
            cost, other = anew(best.result(), free)
            if cost > _DEEPER * least:
                break
            least, best = cost, other
        return least, best

    undistorted = poses if known else only_free(poses, FOCAL)
    cost, plain = turned(undistorted, _SCALE_PX)
    if len(plain.link) < 30:
        return None
    # which of the near things bend the solution depends on how far they may miss: any of these may lead to the best
    begun = [plain, *(turned(undistorted, scale)[1] for scale in _STARTS_PX)]
    free: Sequence[int] = FOCAL
    least, best = best_from([anew(problem.result(), free) for problem in begun], free)
    if not known:
        # a lens that has distortion is met from that which turning alone found
        distorted = anew(turned(only_free(poses, BENT), _SCALE_PX)[1].result(), BENT)
        bent = best_from([carried(best.result(), best.state.place, BENT, _SEARCH_POINTS), distorted], BENT)
        if bent[0] < DISTORTED * least:
            free, (least, best) = BENT, bent
    if least > _BELIEVED * cost:
        return None
    _cost, whole = carried(best.result(), best.state.place, free, 10**9)
    return whole.result(), whole.told(), whole.near_things()


def _about_their_middle(place: Array) -> tuple[Array, float]:
    """Places (F, 3) about their middle, of root mean square 1, and what they were divided by."""
    place = place - place.mean(0)
    unit = float(np.sqrt((place**2).sum(1).mean()))
    return (place / unit, unit) if unit > 0 else (place, 1.0)


def _likely_places(problem: Adjustment, progress: Progress) -> Array:
    """Where frames stood (F, 3), as if neighbours stood equally far apart, from the likeliest direction of each two."""
    lenses = problem.lenses(problem.state.intrinsics)
    local, _turn = problem.aimed(problem.state, problem.rays(lenses))
    r, _weight, j = problem.linearised()
    slope = problem.slopes(lenses, local)
    # by the turn of frame b, and by the focal length, which near things have bent too
    nuisance = np.concatenate([j[:, :, 3:6], j[:, :, 6::LENS_INTRINSICS].sum(-1, keepdims=True)], -1)
    tried = sphere.even_samples((-np.pi, np.pi), (-np.pi / 2, np.pi / 2), _DIRECTIONS)
    apart = np.zeros((len(problem.a), len(problem.poses.frames)))
    move, weight = np.zeros((len(problem.a), 3)), np.zeros(len(problem.a))
    progress.begin("adjust", len(apart))
    for k, (a, b) in enumerate(zip(problem.a.tolist(), problem.b.tolist())):
        progress.advance()
        at = problem.link == k
        likely = tried
        for turns, kept in _TURNS:
            cost = _left_over(r[at], slope[at], nuisance[at], likely, turns)
            likely, usual = likely[np.argsort(cost)[:kept]], float(np.median(cost))
        apart[k, a], apart[k, b] = 1, -1
        move[k] = problem.state.rotation[b] @ likely[0]
        # where all directions serve alike nothing is known
        weight[k] = max(usual - float(cost.min()), 0) + 1e-6
    root = np.sqrt(weight)[:, None]
    return np.asarray(np.linalg.lstsq(root * apart, root * move, rcond=None)[0])


def _left_over(r: Array, slope: Array, nuisance: Array, tried: Array, turns: int) -> Array:
    """Cauchy cost (D,) of one link's misses r (P, 2) if the pupil moved along each of ``tried`` (D, 3).

    Misses change by ``slope`` (P, 2, 3) with the direction of a point and by ``nuisance`` (P, 2, 4) with the turn and
    the focal length, which are adjusted for each, so many times.
    """
    along = np.einsum("pij,dj->dpi", slope, tried)
    along /= np.linalg.norm(along, axis=-1, keepdims=True) + 1e-12
    nuisance_along = np.einsum("dpi,pij->dpj", along, nuisance)
    step = np.zeros((len(tried), nuisance.shape[-1]))
    held = np.diag([1e-9, 1e-9, 1e-9, _FOCAL_SHARE**-2])
    c2 = _SCALE_PX**2
    for turn in range(turns + 1):
        miss = r + np.einsum("pij,dj->dpi", nuisance, step)
        by = (miss * along).sum(-1)
        # nearness takes up what lies along the move; against it nothing can be nearer than far
        nearer = by < 0
        left = miss - np.where(nearer, by, 0)[..., None] * along
        squared = (left**2).sum(-1)
        if turn == turns:
            break
        root = np.sqrt(1 / (1 + squared / c2))[..., None]
        slopes = nuisance - along[..., None] * np.where(nearer[..., None], nuisance_along, 0)[:, :, None]
        flat = (slopes * root[..., None]).reshape(len(tried), -1, step.shape[1])
        normal = np.swapaxes(flat, 1, 2) @ flat + held
        side = np.einsum("dpj,dp->dj", flat, (left * root).reshape(len(tried), -1)) + step @ held
        step -= np.linalg.solve(normal, side[..., None])[..., 0]
    return np.asarray(c2 * np.log1p(squared / c2).sum(-1) + ((step @ held) * step).sum(-1))
