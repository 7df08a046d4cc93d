"""Frames placed by plan or grid, moved to where the little detail that they share with others puts them.

A haze or the rim of a cloud has no corner to match by, but large patches of it can still be laid
on each other once it is known about where. Each patch tells how well it fixes the shift; together
they turn the frame by as much as they know, against the pull of where it was expected. Where they
know nothing, as in a clear sky, the frame stays.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.registration.match.links import BEST_PX, Link
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.tie_points import PATCH_PX, register_faint

#: By how much frames are reduced, from coarse to fine, and once more from where that ended; patches are sought
#: within three pixels of that.
_SCALES = (32, 16, 8, 4, 4)
#: Places across and down a frame round which patches are looked at.
_ACROSS = 14
#: With fewer patches that agree, or a smaller share of those that found a place, nothing is moved.
_FEWEST, _AGREEING = 12, 0.5
#: Standard errors from which a patch loses weight, and rounds of the fit.
_ROBUST, _ROUNDS = 3.0, 8
#: Errors beyond this many of those expected are no fit but chance.
_MOST_SIGMAS = 4.0
#: Frames whose position is known no better than this are not looked for.
_WORST_RAD = math.radians(3.0)


def fitted(
    poses: Poses, loose: Mapping[int, float], grey: Callable[[int], Array], step: Callable[[], None] = lambda: None
) -> Poses:
    """Poses with the ``loose`` frames turned to where their patches agree with those of their neighbours.

    Parameters
    ----------
    poses : Poses
        Of all frames, the loose ones where they are expected.
    loose : mapping of int to float
        Frame -> standard error of its expected rotation, in radians.
    grey : callable
        Frame -> its full-size brightness (H, W), 8 bit, lightly smoothed.
    step : callable
        Called after each frame; may raise to stop.
    """
    settled = [f for f in poses.frames if f not in loose]
    axes = {f: poses.world_from_camera[poses.index(f)][:, 2] for f in poses.frames}
    for frame in sorted(loose, key=lambda f: -max((float(axes[f] @ axes[s]) for s in settled), default=-1.0)):
        poses = _fitted_one(poses, frame, settled, loose[frame], grey)
        settled.append(frame)
        step()
    return poses


def _fitted_one(poses: Poses, frame: int, settled: list[int], sigma_rad: float, grey: Callable[[int], Array]) -> Poses:
    if not 0 < sigma_rad < _WORST_RAD:
        return poses
    own = poses.index(frame)
    lens = poses.lenses[own]
    expected, best = poses.world_from_camera[own], sigma_rad
    for scale in _SCALES:
        # patches must reach as far as the frame may stand off, and not much farther
        if scale > max(_SCALES[-1], 2 * best * lens.focal_px):
            continue
        links = [
            register_faint(other, frame, points, grey(other), grey(frame), poses, scale)
            for other in settled
            for points in [_shared_places(poses, other, own)]
            if len(points) >= _FEWEST
        ]
        # patches that overlap tell part of it twice
        shared = max(1.0, PATCH_PX * scale * _ACROSS / lens.width)
        found = _turned(poses, own, links, expected, sigma_rad, shared)
        if found is not None:
            rotation, best = found
            turned = poses.world_from_camera.copy()
            turned[own] = rotation
            sigmas = np.full(len(poses.frames), np.nan) if poses.sigma_rad is None else poses.sigma_rad.copy()
            sigmas[own] = best
            poses = replace(poses, world_from_camera=turned, sigma_rad=sigmas)
    return poses


def _shared_places(poses: Poses, other: int, own: int) -> Array:
    """Places on an even grid of frame ``other`` that fall on the frame at ``own``, (N, 2)."""
    there = poses.index(other)
    lens, mine = poses.lenses[there], poses.lenses[own]
    down = max(2, round(_ACROSS * lens.height / lens.width))
    places = lens.places_px(_ACROSS, down).reshape(-1, 2)
    rays = np.nan_to_num(poses.directions(there, places))
    return places[mine.sees(rays @ poses.world_from_camera[own])]


def _turned(
    poses: Poses, own: int, links: list[Link], expected: Array, sigma_rad: float, shared: float
) -> tuple[Array, float] | None:
    """The frame's rotation and its standard error by Gauss and Newton, None where too little agrees."""
    if sum(len(k.points_a) for k in links) < _FEWEST:
        return None
    lens = poses.lenses[own]
    rays, points, sqrt_information = [], [], []
    for link in links:
        there = poses.index(link.a)
        rays.append(poses.directions(there, link.points_a))
        points.append(link.points_b)
        sqrt_information.append(link.sqrt_information)
    world, target, white = np.concatenate(rays), np.concatenate(points), np.concatenate(sqrt_information)
    rotation, pull = poses.world_from_camera[own], (BEST_PX / sigma_rad) ** 2
    normal, agree = np.eye(3), np.zeros(len(world), bool)
    for _ in range(_ROUNDS):
        local = world @ rotation
        pixels, valid = lens.project(local)
        miss = np.einsum("pij,pj->pi", white, np.where(valid[:, None], pixels - target, 0))
        weight = valid / (1 + (miss**2).sum(1) / (_ROBUST * BEST_PX) ** 2)
        slope = white @ lens.project_slope(local) @ rotations.skew(local)
        normal = np.einsum("p,pki,pkj->ij", weight, slope, slope) + pull * np.eye(3)
        off = rotations.to_vector(expected.T @ rotation)
        rotation = rotation @ rotations.from_vector(
            -np.linalg.solve(normal, np.einsum("p,pki,pk->i", weight, slope, miss) + pull * off)
        )
        agree = weight > 0.5
    moved = float(np.linalg.norm(rotations.to_vector(expected.T @ rotation)))
    if agree.sum() < max(_FEWEST, _AGREEING * len(agree)) or moved > _MOST_SIGMAS * sigma_rad:
        return None
    return rotation, shared * BEST_PX * math.sqrt(float(np.linalg.eigvalsh(np.linalg.inv(normal))[-1]))
