"""Adjustments in which each frame was taken from a place of its own, and each tie point has its own inverse depth.

A pupil that moved between two frames sees near things shifted: what lies along ray a of one frame lies along
``B a + w t`` of the other, where B turns one camera to the other, t is the move of the pupil in that other and
w = 1 / distance. Only the product w t can be seen. One w >= 0 for each tie point is adjusted with all else; it
drops out of the equations point by point (Schur complement; Triggs et al., *Bundle Adjustment - A Modern
Synthesis*, 2000, 6.1).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.registration.solve.adjustment import Adjustment, State

#: Pull of the inverse depth towards 0: one of so much costs as much as a pixel of misfit.
_USUAL = 0.04
#: What would be nearer than this, in moves of the pupil, is a wrong match, or the camera walked.
_MOST = 0.2
#: Distortion and near things look alike: a lens is held to what lenses usually are, and is believed to have distortion
#: where that brings the cost to this share.
PRIOR_WEIGHT, DISTORTED = 1.0, 0.9
#: Distance for which millimetres are told where nobody said how near the nearest things stand.
_USUAL_NEAREST_M = 3.0
#: A tie point tells how near its thing is while it weighs this much of what it would without a miss.
_BELIEVED = 0.2


@dataclass(frozen=True)
class InverseDepthState(State):
    """Rotations, lenses, and the inverse depth w of each point (P,)."""

    near: Array


@dataclass(frozen=True)
class InverseDepths:
    """How near things stand that tie points show.

    Attributes
    ----------
    place : (F, 3)
        Where each frame's pupil stood, in the world and in the unit of the inverse depth.
    near : (N,)
        Of the tie points that fit: inverse distances.
    """

    place: Array
    near: Array


class InverseDepthAdjustment(Adjustment):
    """What is common to a pupil that swung about an axis and to a camera that was carried."""

    state: InverseDepthState

    def places(self, state: InverseDepthState) -> Array:
        """Where the pupil of each frame stood in the world, (F, 3)."""
        raise NotImplementedError

    def by_places(self, slope: Array, turn: Array) -> Array:
        """Change of the misses of points of inverse depth 1 with the unknowns that tell the places, (P, 2, M)."""
        raise NotImplementedError

    def begin_near(self, start: InverseDepthState) -> None:
        """Start from a state; the inverse depth of points follows from the misses."""
        self.state = start
        r, weight, _j, by_near = self.linear_parts()
        self.state = replace(start, near=_nearest(r, weight, by_near, start.near, self.pull(start)))

    def moves(self, state: InverseDepthState) -> Array:
        """Move of the pupil from frame a as frame b sees it, for each link, (L, 3)."""
        place = self.places(state)
        return np.asarray(np.einsum("lji,lj->li", state.rotation[self.b], place[self.a] - place[self.b]))

    def aimed(self, state: State, rays: Array) -> tuple[Array, Array]:
        """Directions in frames b, moved by how near each point is, and the turns (P, 3, 3)."""
        assert isinstance(state, InverseDepthState)
        turned, turn = super().aimed(state, rays)
        return turned + state.near[:, None] * self.moves(state)[self.link], turn

    def turned_columns(self, slope: Array, turn: Array, rays: Array, local: Array) -> list[Array]:
        """As without inverse depth, (P, 2, 3) each; slopes are kept for what moves the points."""
        self._slopes = slope, turn
        return super().turned_columns(slope, turn, rays, local)

    def cost(self, state: State) -> float:
        """As without inverse depth, and that of things nearer than usual."""
        assert isinstance(state, InverseDepthState)
        return super().cost(state) + float((self.pull(state) * state.near**2).sum())

    def pull(self, state: InverseDepthState) -> Array:
        """Weight (P,) with which each point's inverse depth is drawn to 0."""
        return np.full(len(state.near), 1 / _USUAL**2)

    def linear_parts(self) -> tuple[Array, Array, Array, Array]:
        """Misses, weights, slopes by all else (what tells the places last), slopes by each point's inverse depth (P, 2)."""
        r, weight, j = self.linearised()
        slope, turn = self._slopes
        by_near = np.einsum("pij,pj->pi", slope, self.moves(self.state)[self.link])
        by_places = self.state.near[:, None, None] * self.by_places(slope, turn)
        return r, weight, np.concatenate([j, by_places], -1), by_near

    def normal_equations(self) -> tuple[Array, Array]:
        """As without inverse depth, (U, U) and (U,), with that of the points eliminated."""
        r, weight, j, by_near = self.linear_parts()
        w, pull = weight[:, None], self.pull(self.state)
        bottom = (w * by_near**2).sum(1) + pull
        side = (w * by_near * r).sum(1) + pull * self.state.near
        # what stands at nothing and is pulled below stays there: its point counts as far
        free = (self.state.near > 0) | (side < 0)
        lowered = np.where(free, 1 / bottom, 0)
        across = np.einsum("pk,pki->pi", w * by_near, j)
        weighted = j * w[..., None] - by_near[..., None] * (w * lowered[:, None])[..., None] * across[:, None, :]
        # the misses as they are after each point has taken its own step
        normal, gradient = self.assembled(j, weighted, r)
        pulled = np.einsum("pi,p->pi", across, lowered * pull * self.state.near)
        for a, b, row in zip(self.a.tolist(), self.b.tolist(), np.add.reduceat(pulled, self.starts, axis=0)):
            gradient[self.unknowns(a, b, len(row))] += row
        self._kept = r, weight, j, by_near
        return normal, gradient

    def stepped(self, step: Array) -> InverseDepthState:
        """State after a step (U,) of turns and lenses, each point at its best inverse depth."""
        moved = super().stepped(step)
        r, weight, j, by_near = self._kept
        at = np.stack([self.unknowns(a, b, j.shape[2]) for a, b in zip(self.a.tolist(), self.b.tolist())])
        shifted = r + np.einsum("pki,pi->pk", j, step[at][self.link])
        assert isinstance(moved, InverseDepthState)
        return replace(moved, near=_nearest(shifted, weight, by_near, self.state.near, self.pull(self.state)))

    def inverse_depths(self) -> InverseDepths:
        """Where frames stood, and how near the things are that points show, as far as points fit."""
        _r, weight, _j = self.linearised()
        return InverseDepths(self.places(self.state), self.state.near[weight > _BELIEVED])


def in_millimetres(share: float, nearest_m: float | None) -> str:
    """A share of the distance of the nearest things in words, for a usual distance where none is known."""
    metres = nearest_m or _USUAL_NEAREST_M
    return f"{share * metres * 1000:.0f} mm {'as' if nearest_m else 'if'} they stand {metres:g} m off"


def in_unit(near: Array, unit: float) -> Array:
    """Inverse depths (P,) after the places were divided by ``unit``."""
    return np.minimum(near * unit, _MOST)


def _nearest(r: Array, weight: Array, by_near: Array, old: Array, pull: Array) -> Array:
    """Best inverse depth of each point for given misses."""
    bottom = weight * (by_near**2).sum(1) + pull
    step = -(weight * (by_near * r).sum(1) + pull * old) / bottom
    return np.asarray(np.clip(old + step, 0, _MOST))
