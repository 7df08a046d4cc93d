"""Links -> rotations and lenses, adjusted together by Levenberg-Marquardt (bundle adjustment without points)."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import JoinError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.adjustment import (
    ALL,
    BENT,
    BENT_OFF_CENTRE,
    FOCAL,
    LENS_INTRINSICS,
    OFF_CENTRE,
    Adjustment,
    intrinsics_of,
    with_intrinsics,
)
from idle_lantern.core.registration.solve.poses import Poses

#: Points of a link by which the choice among those is made.
_CHOOSING_POINTS = 80
#: Gain (share of the cost) at which its trials end: a further number must gain thousands of times as much to be worth it.
_CHOSEN = 1e-5
#: A known lens may cost this much more than one solved for from these frames alone: it was measured with more.
_KNOWN_MAY_MISS = 1.3


def initial_rotations(frames: Sequence[int], links: Sequence[Link]) -> Array:
    """Rotations (F, 3, 3) along the tree of strongest links, the best-tied frame as world."""
    place = {f: i for i, f in enumerate(frames)}
    strength = np.zeros(len(frames))
    for link in links:
        strength[[place[link.a], place[link.b]]] += link.strength
    result = np.tile(np.eye(3), (len(frames), 1, 1))
    done = {int(strength.argmax())}
    waiting = sorted((k for k in links if k.a in place and k.b in place), key=lambda k: -k.strength)
    while len(done) < len(frames):
        for link in waiting:
            a, b = place[link.a], place[link.b]
            if (a in done) != (b in done):
                if a in done:
                    result[b] = result[a] @ link.b_from_a.T
                    done.add(b)
                else:
                    result[a] = result[b] @ link.b_from_a
                    done.add(a)
                break
        else:
            raise JoinError("The frames fall into separate pictures")
    return result


def adjust(
    poses: Poses,
    links: Sequence[Link],
    camera_group: Sequence[int],
    *,
    scale_px: float,
    focal_from_exif: bool = False,
    free: Sequence[int] = BENT,
    rounds: int = 30,
    most_points: int = 10**9,
    settled: float = 1e-7,
    progress: Progress = SILENT,
) -> Poses:
    """Adjust rotations and lenses jointly to the inliers of ``links``.

    Parameters
    ----------
    poses : Poses
        Start.
    links : sequence of Link
        All between frames of ``poses``; only inliers are used.
    camera_group : sequence of int
        For each frame of the set, which lens intrinsics it shares.
    scale_px : float
        Distance from which a tie point loses weight (Cauchy).
    focal_from_exif : bool
        The focal length comes from metadata: hold it within some per cent.
    free : sequence of int
        Which intrinsics of the lenses are solved for, the others stay as they are.
    most_points : int
        Points taken of each link: first rounds need few.
    settled : float
        Share of the cost below which a step gains too little for another.
    """
    problem = Adjustment(poses, links, camera_group, scale_px, focal_from_exif, free, most_points)
    if len(problem.link) == 0:
        return poses
    descend(problem, rounds, progress, settled)
    return problem.result()


def best_lens(
    poses: Poses,
    links: Sequence[Link],
    camera_group: Sequence[int],
    *,
    scale_px: float,
    focal_from_exif: bool = False,
    known: bool = False,
) -> Poses:
    """The same poses, adjusted with as many intrinsics of the lenses as the tie points ask for.

    Distortion or a shift of the principal point that fits but noise would bend the frames' rims, where
    few tie points hold it; left out where it is there, it does the same. The criterion is that of
    Schwarz, *Estimating the Dimension of a Model* (1978): each further number must lower the squared
    misses, in units of their variance, by the logarithm of how many there are. Other parameters as of
    ``adjust``; ``poses`` are adjusted with ``BENT`` intrinsics. Where their distortion is ``known`` it is
    kept, unless the tie points are met clearly worse by it.
    """
    fullest = Adjustment(poses, links, camera_group, scale_px, focal_from_exif, ALL, _CHOOSING_POINTS)
    reached: list[tuple[float, tuple[int, ...]]] = [(descend(fullest, 12, settled=_CHOSEN), ALL)]
    variance = fullest.variance()
    fewer: tuple[tuple[int, ...], ...] = (BENT_OFF_CENTRE, OFF_CENTRE, BENT, FOCAL)
    for free in fewer:
        trial = Adjustment(
            only_free(poses, free), links, camera_group, scale_px, focal_from_exif, free, _CHOOSING_POINTS
        )
        reached.append((descend(trial, 12, settled=_CHOSEN), free))
    if known:
        held = Adjustment(poses, links, camera_group, scale_px, focal_from_exif, FOCAL, _CHOOSING_POINTS)
        if descend(held, 12, settled=_CHOSEN) <= _KNOWN_MAY_MISS * min(cost for cost, _free in reached):
            return adjust(
                poses, links, camera_group, scale_px=scale_px, focal_from_exif=focal_from_exif, free=FOCAL, rounds=12
            )
    worth = math.log(2 * max(1, len(fullest.link))) * fullest.groups * variance
    _, free = min((cost + len(free) * worth, free) for cost, free in reached)
    return adjust(
        only_free(poses, free),
        links,
        camera_group,
        scale_px=scale_px,
        focal_from_exif=focal_from_exif,
        free=free,
        rounds=12,
    )


def only_free(poses: Poses, free: Sequence[int]) -> Poses:
    """Poses whose lenses have nothing of what is not free."""
    kept = np.isin(np.arange(LENS_INTRINSICS), free)
    return replace(poses, lenses=tuple(with_intrinsics(k, np.array(intrinsics_of(k)) * kept) for k in poses.lenses))


def descend(problem: Adjustment, rounds: int, progress: Progress = SILENT, settled: float = 1e-7) -> float:
    """Levenberg-Marquardt on a problem until it hardly gains; returns the cost reached."""
    damping = 1e-4
    cost = problem.cost(problem.state)
    progress.begin("adjust", rounds)
    for _ in range(rounds):
        progress.advance()
        normal, gradient = problem.normal_equations()
        improved = False
        for _ in range(8):
            damped = normal + np.diag(damping * np.diag(normal) + 1e-12)
            try:
                step = np.linalg.solve(damped, gradient)
            except np.linalg.LinAlgError:
                damping *= 10
                continue
            state = problem.stepped(step)
            new_cost = problem.cost(state)
            if new_cost < cost:
                improved = True
                break
            damping *= 6
        if not improved:
            break
        gain = (cost - new_cost) / max(cost, 1e-12)
        problem.state, cost = state, new_cost
        damping = max(damping / 6, 1e-9)
        if gain < settled:
            break
    return cost
