"""Tie points -> rotations of a camera that was held in the hand, with things near.

Where near and far are adjusted as if the camera had only turned, the focal length and distortion are bent to what the
near things ask for and every rotation with them. Here each frame has a place of its own. How far apart two places lie
shows only where a third frame sees the same; their direction shows in any two.

The search begins at ``likely_places``: from any other start the descent ends in the first local minimum. Where it ends, frames
that lie on the wrong side of their neighbours are taken over by ``resection``.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.geometry import rotations
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.adjust import descend, only_free
from idle_lantern.core.registration.solve.adjustment import BENT, FOCAL, Adjustment
from idle_lantern.core.registration.solve.initial_positions import likely_places
from idle_lantern.core.registration.solve.inverse_depth import (
    DISTORTED,
    PRIOR_WEIGHT,
    InverseDepthAdjustment,
    InverseDepths,
    InverseDepthState,
    in_millimetres,
    in_unit,
)
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.resection import resected

#: Distance from which a tie point loses weight: near things miss by many times as much.
_SCALE_PX = 0.25
#: The same for further starts of the search.
_STARTS_PX = (1.0, 4.0)
#: Points of a link for the search.
_SEARCH_POINTS = 60
#: A thing that a move shifts by this angle costs as much as a pixel of misfit.
_USUAL_RAD = 0.06
#: How often the search begins again where it ended, while it brings the cost to this share.
_AGAIN, _DEEPER = 4, 0.98
#: The cost must fall to this share before it is believed, see ``parallax``: here each frame has three numbers more.
_BELIEVED = 0.35
#: The largest shift is told of points that weigh at least this: a wrong match may show any.
_SURE = 0.5
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
        return (
            f"The camera was carried between frames by about {100 * self.near_share:.2g} % of the distance of the nearest "
            f"matched things ({in_millimetres(self.near_share, nearest_m)}), which shifts them by up to "
            f"{self.largest_px:.0f} px: look at them closely. Turn about the lens, or use a panoramic head."
        )


@dataclass(frozen=True)
class _PlacedState(InverseDepthState):
    """And where each frame's pupil stood (F, 3) in the world, about their middle; root mean square 1."""

    place: Array


class _PlacedAdjustment(InverseDepthAdjustment):
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

    def places(self, state: InverseDepthState) -> Array:
        """As the state holds them."""
        assert isinstance(state, _PlacedState)
        return state.place

    def pull(self, state: InverseDepthState) -> Array:
        """By the angle that the move shifts a point: a pull on inverse depth itself would set lengths that nothing else tells."""
        return np.asarray(((np.linalg.norm(self.moves(state), axis=1) / _USUAL_RAD) ** 2)[self.link])

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
        return HandHeld(near * float(np.median(move)), float(shift[weight > _SURE].max(initial=0.0)))


def solve_hand_held(
    poses: Poses,
    links: Sequence[Link],
    camera_group: Sequence[int],
    *,
    focal_from_exif: bool,
    known: bool = False,
    progress: Progress = SILENT,
) -> tuple[Poses, HandHeld, InverseDepths] | None:
    """Poses of a camera that was carried, how far, and how near things stand; None where that explains too little.

    Parameters
    ----------
    poses, links
        After fine registration.
    known : bool
        The lenses' distortion is known and stays.
    """
    search = _Search(links, camera_group, focal_from_exif, progress)
    undistorted = poses if known else only_free(poses, FOCAL)
    cost, plain = search.turned(undistorted, _SCALE_PX)
    if len(plain.link) < 30:
        return None
    # which of the near things bend the solution depends on how far they may miss: any of these may lead to the best
    begun = [plain, *(search.turned(undistorted, scale)[1] for scale in _STARTS_PX)]
    free: Sequence[int] = FOCAL
    least, best = search.deepest([search.carried_from(problem.result(), free) for problem in begun], free)
    if not known:
        # a lens that has distortion is met from that which turning alone found
        bent_cost, distorted = search.turned(only_free(poses, BENT), _SCALE_PX, BENT)
        cost = min(cost, bent_cost)
        starts = [search.carried(best.result(), best.state.place, BENT), search.carried_from(distorted.result(), BENT)]
        bent = search.deepest(starts, BENT)
        if bent[0] < DISTORTED * least:
            free, (least, best) = BENT, bent
    if least > _BELIEVED * cost:
        return None
    least, best = search.resected(least, best, free)
    _cost, whole = search.carried(best.result(), best.state.place, free, 10**9)
    return whole.result(), whole.told(), whole.inverse_depths()


#: What an adjustment costs where it ends, and the adjustment.
_Ended = tuple[float, _PlacedAdjustment]


@dataclass(frozen=True)
class _Search:
    """Adjustments of one set from several starts."""

    links: Sequence[Link]
    camera_group: Sequence[int]
    focal_from_exif: bool
    progress: Progress

    def turned(self, start: Poses, scale_px: float, free: Sequence[int] = FOCAL) -> tuple[float, Adjustment]:
        """As if the camera had only turned."""
        problem = Adjustment(
            start, self.links, self.camera_group, scale_px, self.focal_from_exif, free, _SEARCH_POINTS, PRIOR_WEIGHT
        )
        return descend(problem, 20, self.progress), problem

    def carried(self, start: Poses, place: Array, free: Sequence[int], points: int = _SEARCH_POINTS) -> _Ended:
        """From these places (F, 3)."""
        problem = _PlacedAdjustment(
            start, self.links, self.camera_group, _SCALE_PX, self.focal_from_exif, free, points, PRIOR_WEIGHT
        )
        problem.begin(place)
        return descend(problem, 40, self.progress), problem

    def carried_from(self, start: Poses, free: Sequence[int]) -> _Ended:
        """From the likeliest places under these rotations."""
        return self.carried(start, likely_places(self._as_turned(start), self.progress), free)

    def _as_turned(self, start: Poses) -> Adjustment:
        """Misses as if the camera had only turned so."""
        return Adjustment(start, self.links, self.camera_group, _SCALE_PX, self.focal_from_exif, FOCAL, _SEARCH_POINTS)

    def deepest(self, ended: Sequence[_Ended], free: Sequence[int]) -> _Ended:
        """The best of some, and on from where it ended as long as that leads to a lower minimum."""
        least, best = min(ended, key=lambda e: e[0])
        for _ in range(_AGAIN):
            cost, other = self.carried_from(best.result(), free)
            if cost > _DEEPER * least:
                break
            least, best = cost, other
        return least, best

    def resected(self, least: float, best: _PlacedAdjustment, free: Sequence[int]) -> _Ended:
        """With each frame, and all before it, taken where another place explains them better, as long as the whole gains."""
        order = np.arange(len(best.poses.frames))
        groups = [order == k for k in order] + [order <= k for k in order[1:-2]]
        for _ in range(_AGAIN):
            gained = False
            self.progress.begin("adjust", len(groups))
            for among in groups:
                self.progress.advance()
                start = best.result()
                found = resected(self._as_turned(start), best.state.place, among)
                if found is None:
                    continue
                place, turned = best.state.place.copy(), start.world_from_camera.copy()
                place[among] += found.move
                turned[among] = rotations.from_vector(found.turn) @ turned[among]
                cost, other = self.carried(replace(start, world_from_camera=turned), place, free)
                if cost < _DEEPER * least:
                    least, best, gained = cost, other, True
            if not gained:
                break
        return least, best


def _about_their_middle(place: Array) -> tuple[Array, float]:
    """Places (F, 3) about their middle, of root mean square 1, and what they were divided by."""
    place = place - place.mean(0)
    unit = float(np.sqrt((place**2).sum(1).mean()))
    return (place / unit, unit) if unit > 0 else (place, 1.0)
