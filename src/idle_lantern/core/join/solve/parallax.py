"""Tie points -> how far the turning axis stood off the lens's no-parallax point.

With e the place of the pupil from the axis, in the camera frame, a thing at distance D
seen along ray a of one frame lies along ``B (a + w e) - w e`` of the other, where B turns
one camera to the other and w = 1 / D. Only the product w e can be seen, so e is given
length 1 and w becomes the offset as a share of each thing's distance. Rotations, lens, e
and one w >= 0 for each tie point are adjusted together; w drops out of the equations point
by point (Schur complement; Triggs et al., *Bundle Adjustment - A Modern Synthesis*, 2000, 6.1).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.geometry import rotations
from idle_lantern.core.join.match.links import Link
from idle_lantern.core.join.solve.adjust import descend, only_free
from idle_lantern.core.join.solve.adjustment import BENT, FOCAL, Adjustment, State
from idle_lantern.core.join.solve.poses import Poses

Array = NDArray[Any]

#: Starts of the search: off forwards, backwards, right, left.
#: Distortion and near things look alike: meanwhile a lens is held to what lenses usually are.
_PRIOR_WEIGHT = 1.0
_STARTS = ((0.0, 0.0, 1.0), (0.0, 0.0, -1.0), (1.0, 0.0, 0.0), (-1.0, 0.0, 0.0))
#: Pull of the shares towards 0: one of so much costs as much as a pixel of misfit.
_USUAL_SHARE = 0.04
#: Offsets beyond this share of the distance are a camera that was carried about, not turned.
_MOST_SHARE = 0.2
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
        metres = nearest_m if nearest_m else 3.0
        told = f"if they stand {metres:g} m off" if nearest_m is None else f"as they stand {metres:g} m off"
        back = " and ".join(
            {"before": "back", "behind": "forward", "right of": "left", "left of": "right"}.get(w, "level")
            for w in words
        )
        return (
            f"The lens's no-parallax point stood {' and '.join(words)} the turning axis by "
            f"{100 * self.near_share:.2g} ± {100 * self.near_sigma:.1g} % of the distance of the nearest matched things "
            f"({self.offset_mm(metres):.0f} mm {told}): slide the camera {back} by that."
        )


@dataclass(frozen=True)
class _PupilState(State):
    """Rotations, lenses, the pupil's direction (3,) and the share w of each point (P,)."""

    pupil: Array
    share: Array


class _PupilAdjustment(Adjustment):
    """The adjustment with a pupil that swings about the axis."""

    state: _PupilState

    def begin(self, pupil: Array) -> None:
        """Start from a direction of the pupil; shares follow from the misses."""
        start = _PupilState(
            self.poses.world_from_camera.copy(),
            self.state.intrinsics,
            np.asarray(pupil, float),
            np.zeros(len(self.link)),
        )
        self.state = start
        r, weight, _j, by_share = self._linear_parts()
        self.state = replace(start, share=self._shares(r, weight, by_share, start.share))

    def aimed(self, state: State, rays: Array) -> tuple[Array, Array]:
        assert isinstance(state, _PupilState)
        turn = self.b_from_a(state.rotation)[self.link]
        swung = state.share[:, None] * state.pupil
        return np.einsum("pij,pj->pi", turn, rays + swung) - swung, turn

    def turned_columns(self, slope: Array, turn: Array, rays: Array, local: Array) -> list[Array]:
        swung = self.state.share[:, None] * self.state.pupil
        by_turns = [slope @ (turn @ -rotations.skew(rays + swung)), slope @ rotations.skew(local + swung)]
        self._by_pupil = slope @ (turn - np.eye(3))
        return by_turns

    def cost(self, state: State) -> float:
        assert isinstance(state, _PupilState)
        return super().cost(state) + float(((state.share / _USUAL_SHARE) ** 2).sum())

    def _linear_parts(self) -> tuple[Array, Array, Array, Array]:
        """Misses, weights, slopes by all that is shared (pupil last), slopes by each point's share (P, 2)."""
        r, weight, j = self.linearised()
        by_share = self._by_pupil @ self.state.pupil
        return r, weight, np.concatenate([j, self.state.share[:, None, None] * self._by_pupil], -1), by_share

    def normal_equations(self) -> tuple[Array, Array]:
        """As without a pupil, with the points' shares eliminated and the pupil's length held."""
        r, weight, j, by_share = self._linear_parts()
        w, prior_weight = weight[:, None], 1 / _USUAL_SHARE**2
        bottom = (w * by_share**2).sum(1) + prior_weight
        side = (w * by_share * r).sum(1) + prior_weight * self.state.share
        free = self.state.share > 0
        # a share that stands at nothing and is pulled below stays there: its point counts as far
        free |= side < 0
        lowered = np.where(free, 1 / bottom, 0)
        across = np.einsum("pk,pki->pi", w * by_share, j)
        weighted = j * w[..., None] - by_share[..., None] * (w * lowered[:, None])[..., None] * across[:, None, :]
        # the misses as they are after each share has taken its own step
        normal, gradient = self.assembled(j, weighted, r)
        pulled = np.einsum("pi,p->pi", across, lowered * prior_weight * self.state.share)
        self._add_to_gradient(gradient, pulled)
        p = np.arange(len(normal) - 3, len(normal))
        held = np.trace(normal[np.ix_(p, p)]) / 3 + 1e-9
        # along the axis of a level row nothing shows where the pupil stands: there it stays
        normal[np.ix_(p, p)] += held * np.outer(self.state.pupil, self.state.pupil) + np.eye(3)
        self._kept = r, weight, j, by_share
        return normal, gradient

    def _add_to_gradient(self, gradient: Array, change: Array) -> None:
        f = len(self.poses.frames)
        sums = np.add.reduceat(change, self.starts, axis=0)
        for a, b, row in zip(self.a.tolist(), self.b.tolist(), sums):
            gradient[3 * a : 3 * a + 3] += row[:3]
            gradient[3 * b : 3 * b + 3] += row[3:6]
            gradient[3 * f :] += row[6:]

    def _shares(self, r: Array, weight: Array, by_share: Array, old: Array) -> Array:
        """Best share of each point for given misses."""
        prior_weight = 1 / _USUAL_SHARE**2
        bottom = weight * (by_share**2).sum(1) + prior_weight
        step = -(weight * (by_share * r).sum(1) + prior_weight * old) / bottom
        return np.asarray(np.clip(old + step, 0, _MOST_SHARE))

    def stepped(self, step: Array) -> _PupilState:
        """State after a step; the pupil's length stays 1."""
        moved = super().stepped(step)
        r, weight, j, by_share = self._kept
        f = len(self.poses.frames)
        own = np.concatenate(
            [
                step[: 3 * f].reshape(f, 3)[self.a[self.link]],
                step[: 3 * f].reshape(f, 3)[self.b[self.link]],
                np.broadcast_to(step[3 * f :], (len(self.link), len(step) - 3 * f)),
            ],
            -1,
        )
        share = self._shares(r + np.einsum("pki,pi->pk", j, own), weight, by_share, self.state.share)
        pupil = self.state.pupil + step[-3:]
        length = float(np.linalg.norm(pupil))
        assert isinstance(moved, _PupilState)
        return replace(moved, pupil=pupil / length, share=np.minimum(share * length, _MOST_SHARE))


def solve_parallax(
    poses: Poses,
    links: Sequence[Link],
    camera_group: Sequence[int],
    *,
    scale_px: float,
    focal_from_exif: bool,
    known: bool = False,
) -> tuple[Poses, Parallax] | None:
    """Poses freed of parallax and where the pupil stood; None where turning alone explains the frames.

    Parameters
    ----------
    poses, links
        After fine registration.
    scale_px : float
        Distance from which a tie point loses weight.
    known : bool
        The lenses' distortion is known and stays.
    """
    free = FOCAL if known else BENT
    best: _PupilAdjustment | None = None
    least = math.inf
    plain = Adjustment(
        poses if known else only_free(poses, FOCAL),
        links, camera_group, scale_px, focal_from_exif, free, _SEARCH_POINTS, _PRIOR_WEIGHT,
    )  # fmt: skip
    if len(plain.link) < 30:
        return None
    turned = descend(plain, 20)
    poses = plain.result()
    for start in _STARTS:
        trial = _PupilAdjustment(
            poses, links, camera_group, scale_px, focal_from_exif, free, _SEARCH_POINTS, _PRIOR_WEIGHT
        )
        trial.begin(np.array(start))
        cost = descend(trial, 12)
        if cost < least:
            best, least = trial, cost
    assert best is not None
    if least > _BELIEVED * turned:
        return None
    whole = _PupilAdjustment(best.result(), links, camera_group, scale_px, focal_from_exif, free, 10**9, _PRIOR_WEIGHT)
    whole.begin(best.state.pupil)
    descend(whole, 20)
    freed, parallax = whole.result(), _told(whole)
    return (freed, parallax) if parallax.largest_px > _STANDS_OUT * freed.rms_px else None


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
    _r, weight, _j, by_share = problem._linear_parts()
    share = float(np.quantile(state.share, _NEAR))
    at = np.argsort(np.abs(state.share - share))[:20]
    own = math.sqrt(variance / max(float((weight[at, None] * by_share[at] ** 2).sum()), 1e-12))
    # a pupil that stands elsewhere asks for other shares in proportion
    sigma = math.hypot(own, share * direction_sigma)
    largest = float(np.linalg.norm(by_share * state.share[:, None], axis=1).max())
    return Parallax(tuple(state.pupil.tolist()), direction_sigma, share, sigma, largest)
