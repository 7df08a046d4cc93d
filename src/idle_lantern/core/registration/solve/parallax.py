"""Tie points -> how far the turning axis stood off the lens's no-parallax point.

With e the place of the pupil from the axis, in the camera frame, the pupil moves by ``B e - e``
where B turns one camera to the other (see ``inverse depth``). Only the product of e and the inverse depth w
of things can be seen, so e is given length 1 and w becomes the offset as a share of each thing's
distance. Rotations, lens, e and one w for each tie point are adjusted together.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.adjust import descend, only_free
from idle_lantern.core.registration.solve.adjustment import BENT, FOCAL, Adjustment
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

#: Starts of the search: off forwards, backwards, right, left.
_STARTS = ((0.0, 0.0, 1.0), (0.0, 0.0, -1.0), (1.0, 0.0, 0.0), (-1.0, 0.0, 0.0))
#: The cost must fall to this share before parallax is believed: a number more for each point explains
#: a part of any noise. And the largest shift must stand out of the misfit by so much.
_BELIEVED = 0.45
_STANDS_OUT = 5.0
_SEARCH_POINTS = 60
#: Share of points that stand nearer than what is told as "near".
_NEAR = 0.95


@dataclass(frozen=True)
class Parallax:
    """Where the entrance pupil stood from the turning axis.

    Attributes
    ----------
    direction : (right, down, forward)
        Unit vector in the camera frame from axis to pupil.
    direction_sigma_rad : float
        Its standard error.
    near_share : float
        Offset as a share of the distance of the nearest things that were matched.
    near_sigma : float
        Standard error of that share.
    largest_px : float
        Largest shift between two frames that it causes.
    """

    direction: tuple[float, float, float]
    direction_sigma_rad: float
    near_share: float
    near_sigma: float
    largest_px: float

    def offset_mm(self, nearest_m: float) -> float:
        """Offset if the nearest things that were matched stand ``nearest_m`` off."""
        return self.near_share * nearest_m * 1000

    def sentence(self, nearest_m: float | None = None) -> str:
        """Where the pupil stood and what to do, in words; with millimetres if the nearest distance is known."""
        right, down, forward = self.direction
        least = math.sin(math.radians(20))
        words = [
            name
            for value, names in ((forward, ("before", "behind")), (right, ("right of", "left of")))
            for name in [names[0] if value > 0 else names[1]]
            if abs(value) > least
        ]
        if not words:
            words = ["below" if down > 0 else "above"]
        back = " and ".join(
            {"before": "back", "behind": "forward", "right of": "left", "left of": "right"}.get(w, "level")
            for w in words
        )
        return (
            f"The lens's no-parallax point stood {' and '.join(words)} the turning axis by "
            f"{100 * self.near_share:.2g} ± {100 * self.near_sigma:.1g} % of the distance of the nearest matched things "
            f"({in_millimetres(self.near_share, nearest_m)}): slide the camera {back} by that."
        )


@dataclass(frozen=True)
class _PupilState(InverseDepthState):
    """And the pupil's direction from the axis (3,) in the camera frame."""

    pupil: Array


class _PupilAdjustment(InverseDepthAdjustment):
    """The adjustment with a pupil that swings about the axis."""

    state: _PupilState

    def begin(self, pupil: Array) -> None:
        """Start from a direction of the pupil."""
        rotation = self.poses.world_from_camera.copy()
        self.begin_near(
            _PupilState(rotation, self.state.intrinsics, np.zeros(len(self.link)), np.asarray(pupil, float))
        )

    def places(self, state: InverseDepthState) -> Array:
        """On a ball about the axis."""
        assert isinstance(state, _PupilState)
        return np.asarray(state.rotation @ state.pupil)

    def by_places(self, slope: Array, turn: Array) -> Array:
        """By the pupil's direction."""
        return np.asarray(slope @ (turn - np.eye(3)))

    def turned_columns(self, slope: Array, turn: Array, rays: Array, local: Array) -> list[Array]:
        """As things turn about the axis, not about the pupil."""
        swung = self.state.near[:, None] * self.state.pupil
        return super().turned_columns(slope, turn, rays + swung, local + swung)

    def normal_equations(self) -> tuple[Array, Array]:
        """With the pupil's length held."""
        normal, gradient = super().normal_equations()
        p = np.arange(len(normal) - 3, len(normal))
        held = np.trace(normal[np.ix_(p, p)]) / 3 + 1e-9
        # along the axis of a level row nothing shows where the pupil stands: there it stays
        normal[np.ix_(p, p)] += held * np.outer(self.state.pupil, self.state.pupil) + np.eye(3)
        return normal, gradient

    def stepped(self, step: Array) -> _PupilState:
        """State after a step; the pupil's length stays 1."""
        moved = super().stepped(step)
        pupil = self.state.pupil + step[-3:]
        length = float(np.linalg.norm(pupil))
        assert isinstance(moved, _PupilState)
        return replace(moved, pupil=pupil / length, near=in_unit(moved.near, length))


def solve_parallax(
    poses: Poses,
    links: Sequence[Link],
    camera_group: Sequence[int],
    *,
    scale_px: float,
    focal_from_exif: bool,
    known: bool = False,
) -> tuple[Poses, Parallax, InverseDepths] | None:
    """Poses freed of parallax, where the pupil stood, how near things are; None where turning alone explains the frames.

    Parameters
    ----------
    poses, links
        After fine registration.
    scale_px : float
        Distance from which a tie point loses weight.
    known : bool
        The lenses' distortion is known and stays.
    """
    usual = (camera_group, scale_px, focal_from_exif)

    def turned(free: Sequence[int]) -> tuple[float, Adjustment]:
        start = poses if known else only_free(poses, FOCAL)
        problem = Adjustment(start, links, *usual, free, _SEARCH_POINTS, PRIOR_WEIGHT)
        return descend(problem, 20), problem

    def swung(
        start: Poses, pupil: Array, free: Sequence[int], points: int, rounds: int
    ) -> tuple[float, _PupilAdjustment]:
        problem = _PupilAdjustment(start, links, *usual, free, points, PRIOR_WEIGHT)
        problem.begin(pupil)
        return descend(problem, rounds), problem

    def found(start: Poses, free: Sequence[int]) -> tuple[float, _PupilAdjustment]:
        trials = (swung(start, np.array(pupil), free, _SEARCH_POINTS, 12) for pupil in _STARTS)
        return min(trials, key=lambda t: t[0])

    cost, plain = turned(FOCAL)
    if len(plain.link) < 30:
        return None
    free: Sequence[int] = FOCAL
    least, best = found(plain.result(), free)
    if not known:
        bent_cost, bent = turned(BENT)
        cost = min(cost, bent_cost)
        distorted = min(
            found(bent.result(), BENT),
            swung(best.result(), best.state.pupil, BENT, _SEARCH_POINTS, 12),
            key=lambda t: t[0],
        )
        if distorted[0] < DISTORTED * least:
            free, (least, best) = BENT, distorted
    if least > _BELIEVED * cost:
        return None
    _cost, whole = swung(best.result(), best.state.pupil, free, 10**9, 20)
    freed, parallax = whole.result(), _told(whole)
    return (freed, parallax, whole.inverse_depths()) if parallax.largest_px > _STANDS_OUT * freed.rms_px else None


def _told(problem: _PupilAdjustment) -> Parallax:
    """The pupil with its errors, from the inverse of the normal equations."""
    state = problem.state
    normal, _ = problem.normal_equations()
    variance = problem.variance()
    try:
        covariance = np.linalg.inv(normal)[-3:, -3:] * variance
        # along the pupil itself nothing is known: only its direction counts
        across = np.eye(3) - np.outer(state.pupil, state.pupil)
        direction_sigma = math.sqrt(max(0.0, float(np.linalg.eigvalsh(across @ covariance @ across)[-1])))
    except np.linalg.LinAlgError:
        direction_sigma = math.nan
    _r, weight, _j, by_near = problem.linear_parts()
    share = float(np.quantile(state.near, _NEAR))
    at = np.argsort(np.abs(state.near - share))[:20]
    own = math.sqrt(variance / max(float((weight[at, None] * by_near[at] ** 2).sum()), 1e-12))
    # a pupil that stands elsewhere asks for other shares in proportion
    sigma = math.hypot(own, share * direction_sigma)
    largest = float(np.linalg.norm(by_near * state.near[:, None], axis=1).max())
    return Parallax(tuple(state.pupil.tolist()), direction_sigma, share, sigma, largest)
