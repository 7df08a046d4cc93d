"""Where frames of a carried camera stood, roughly: by the direction for each pair that leaves least of its misses.

All directions of the sphere are tried, each with the turn of the pair free: things may be near along the move of the
pupil, and never nearer than far against it.
"""

from __future__ import annotations

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.geometry import sphere
from idle_lantern.core.registration.solve.adjustment import LENS_INTRINSICS, Adjustment

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
    held = np.diag([1e-9, 1e-9, 1e-9, _FOCAL_SHARE**-2])
    tried = sphere.even_samples((-np.pi, np.pi), (-np.pi / 2, np.pi / 2), _DIRECTIONS)
    apart = np.zeros((len(problem.a), len(problem.poses.frames)))
    move, weight = np.zeros((len(problem.a), 3)), np.zeros(len(problem.a))
    progress.begin("adjust", len(apart))
    for k, (a, b) in enumerate(zip(problem.a.tolist(), problem.b.tolist())):
        progress.advance()
        at = problem.link == k
        likely = tried
        for turns, kept in _TURNS:
            cost, _step = left_over(r[at], slope[at], nuisance[at], likely, turns, problem.scale_px, held)
            likely, usual = likely[np.argsort(cost)[:kept]], float(np.median(cost))
        apart[k, a], apart[k, b] = 1, -1
        move[k] = problem.state.rotation[b] @ likely[0]
        # where all directions serve alike nothing is known
        weight[k] = max(usual - float(cost.min()), 0) + 1e-6
    root = np.sqrt(weight)[:, None]
    return np.asarray(np.linalg.lstsq(root * apart, root * move, rcond=None)[0])


def left_over(
    r: Array,
    slope: Array,
    nuisance: Array,
    tried: Array,
    turns: int,
    scale_px: float,
    held: Array,
    offset: Array | float = 0.0,
) -> tuple[Array, Array]:
    """Cauchy cost (D,) of misses r (P, 2) if the pupil moved along each of ``tried`` (D, 3), and what was adjusted (D, M).

    Misses change by ``slope`` (P, 2, 3) with the direction of a point, where no move changes them by ``offset`` (P, 2),
    and by ``nuisance`` (P, 2, M) with what is adjusted for each, so many times, and is ``held`` (M, M) to nothing.
    """
    count, points = len(tried), len(r)
    along = (tried @ slope.reshape(-1, 3).T).reshape(count, points, 2) - offset
    along /= np.linalg.norm(along, axis=-1, keepdims=True) + 1e-12
    flat = nuisance.reshape(2 * points, -1)
    nuisance_along = along[..., :1] * nuisance[:, 0] + along[..., 1:] * nuisance[:, 1]
    squares = np.einsum("pij,pik->pjk", nuisance, nuisance).reshape(points, -1)
    step = np.zeros((count, flat.shape[1]))
    c2 = scale_px**2
    for turn in range(turns + 1):
        miss = r + (step @ flat.T).reshape(count, points, 2)
        by = miss[..., 0] * along[..., 0] + miss[..., 1] * along[..., 1]
        # inverse depth takes up what lies along the move; against it nothing can be nearer than far
        nearer = by < 0
        left = miss - np.where(nearer, by, 0)[..., None] * along
        squared = left[..., 0] ** 2 + left[..., 1] ** 2
        if turn == turns:
            break
        weight = 1 / (1 + squared / c2)
        # of those only what stands across the move tells of the nuisance
        taken = np.swapaxes(nuisance_along * (weight * nearer)[..., None], 1, 2) @ nuisance_along
        normal = (weight @ squares).reshape(taken.shape) - taken + held
        side = (left * weight[..., None]).reshape(count, -1) @ flat + step @ held
        step -= np.linalg.solve(normal, side[..., None])[..., 0]
    return np.asarray(c2 * np.log1p(squared / c2).sum(-1) + ((step @ held) * step).sum(-1)), step
