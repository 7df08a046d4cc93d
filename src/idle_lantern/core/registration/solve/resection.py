"""Where frames of a carried camera stood, all others held: a search over places, and a turn for each.

An adjustment from ``likely_places`` may lay frames on the wrong side of their neighbours, with what is near taken for far
and a turn that hides it: no descent leads out of that. (To find a camera by what it shows of known things is a
resection; Wolf & Dewitt, *Elements of Photogrammetry*, from memory.)
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import sphere
from idle_lantern.core.registration.solve.adjustment import Adjustment
from idle_lantern.core.registration.solve.initial_positions import left_over

_ABOUT = 2  # neighbours about which a frame is tried elsewhere, those that share most
_DIRECTIONS = 200  # tried about each
_DISTANCES = (0.6, 1.5)  # tried, as shares of the usual one
#: What lies nearer to where the frames stand, as a share of the usual distance, is left to the adjustment.
_ELSEWHERE = 0.3
#: From rough to fine: scale of the misses, adjustments of the turn, how many of the best go on, and how far about them is tried.
_ROUNDS = ((1.0, 3, 24, 0.2), (0.5, 5, 12, 0.08), (0.25, 6, 8, 0.03))
_ABOUT_EACH = 8  # places tried about each that goes on
_SEED = 1  # of those tries
_TURNS = 8  # adjustments of the turn at the last
#: A place elsewhere must leave so little of what stays where the frames stand.
_BETTER = 0.9


@dataclass(frozen=True)
class Resected:
    """A move (3,) that explains frames better than where they stand, and the turn (3,) that it asks for, in the world."""

    move: Array
    turn: Array


def resected(problem: Adjustment, place: Array, among: Array) -> Resected | None:
    """Where frames that keep together leave less of their misses than where they stand; None where they stand best.

    Parameters
    ----------
    problem
        As if the camera had only turned, with the rotations that go with the places.
    place : (F, 3)
        Of all frames, in the world.
    among : (F,) bool
        Which ones.
    """
    a, b = problem.a[problem.link], problem.b[problem.link]
    at = among[a] != among[b]
    if not at.any():
        return None
    lenses = problem.lenses(problem.state.intrinsics)
    local, _turn = problem.aimed(problem.state, problem.rays(lenses))
    r, _weight, j = problem.linearised()
    first = among[a[at]]
    own, other = np.where(first, a[at], b[at]), np.where(first, b[at], a[at])
    # the move as frame b sees it, by the place of these frames in the world
    sign = np.where(first, 1.0, -1.0)[:, None, None]
    rotation = np.swapaxes(problem.state.rotation, 1, 2)
    slope = sign * problem.slopes(lenses, local)[at] @ rotation[b[at]]
    offset = np.einsum("pij,pj->pi", slope, place[other] - place[own])
    turn = np.where(first[:, None, None], j[at][:, :, :3], j[at][:, :, 3:6]) @ rotation[own]
    held = 1e-9 * np.eye(3)

    def cost(tried: Array, turns: int, scale_px: float) -> tuple[Array, Array]:
        return left_over(r[at], slope, turn, tried, turns, scale_px, held, offset)

    usual = float(np.median(np.linalg.norm(place[problem.a] - place[problem.b], axis=1)))
    around = sphere.even_samples((-np.pi, np.pi), (-np.pi / 2, np.pi / 2), _DIRECTIONS)
    apart, points = np.unique(np.stack([own, other]), axis=1, return_counts=True)
    apart = apart.T[np.argsort(-points, kind="stable")[:_ABOUT]]
    likely = np.concatenate([place[o] - place[f] + usual * share * around for f, o in apart for share in _DISTANCES])
    likely = likely[np.linalg.norm(likely, axis=1) > _ELSEWHERE * usual]
    rng = np.random.default_rng(_SEED)
    for scale_px, turns, kept, reach in _ROUNDS:
        best = likely[np.argsort(cost(likely, turns, scale_px)[0])[:kept]]
        about = best[:, None] + usual * reach * rng.normal(size=(len(best), _ABOUT_EACH, 3))
        likely = np.concatenate([best, about.reshape(-1, 3)])
    left, step = cost(np.concatenate([np.zeros((1, 3)), likely]), _TURNS, problem.scale_px)
    found = int(left.argmin())
    if left[found] > _BETTER * left[0]:
        return None
    return Resected(likely[found - 1], step[found])
