"""Where frames of a carried camera stood, roughly: by the direction for each pair that leaves least of its misses.

All directions of the sphere are tried, each with the turn of the pair free: things may be near along the move of the
pupil, and never nearer than far against it.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.base.progress import Progress
from idle_lantern.core.geometry import sphere
from idle_lantern.core.join.solve.adjustment import LENS_INTRINSICS, Adjustment

Array = NDArray[Any]

#: Directions tried for each pair; how often its turn is adjusted for each, and how many of the best are asked on.
_DIRECTIONS, _TURNS = 300, ((2, 100), (5, 30), (8, 1))
#: By what share a focal length is off that was adjusted as if the camera had only turned.
_FOCAL_SHARE = 0.02


def likely_places(problem: Adjustment, progress: Progress) -> Array:
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
            cost = _left_over(r[at], slope[at], nuisance[at], likely, turns, problem.scale_px)
            likely, usual = likely[np.argsort(cost)[:kept]], float(np.median(cost))
        apart[k, a], apart[k, b] = 1, -1
        move[k] = problem.state.rotation[b] @ likely[0]
        # where all directions serve alike nothing is known
        weight[k] = max(usual - float(cost.min()), 0) + 1e-6
    root = np.sqrt(weight)[:, None]
    return np.asarray(np.linalg.lstsq(root * apart, root * move, rcond=None)[0])


def _left_over(r: Array, slope: Array, nuisance: Array, tried: Array, turns: int, scale_px: float) -> Array:
    """Cauchy cost (D,) of one link's misses r (P, 2) if the pupil moved along each of ``tried`` (D, 3).

    Misses change by ``slope`` (P, 2, 3) with the direction of a point and by ``nuisance`` (P, 2, 4) with the turn and
    the focal length, which are adjusted for each, so many times.
    """
    along = np.einsum("pij,dj->dpi", slope, tried)
    along /= np.linalg.norm(along, axis=-1, keepdims=True) + 1e-12
    nuisance_along = np.einsum("dpi,pij->dpj", along, nuisance)
    step = np.zeros((len(tried), nuisance.shape[-1]))
    held = np.diag([1e-9, 1e-9, 1e-9, _FOCAL_SHARE**-2])
    c2 = scale_px**2
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
