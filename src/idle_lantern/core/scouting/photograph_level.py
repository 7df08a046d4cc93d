"""How a single photograph was held: by uprights, or by a straight border of the sky."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.horizon import sky_ends
from idle_lantern.core.registration.solve.level import Level, levelled, turn_upright
from idle_lantern.core.registration.solve.poses import Poses

#: Tilts from which a border of the sky is looked for, since land is told from it by where it lies.
_TILTS_DEG = (0.0, -12.0, 12.0)
#: A border is straight to so much, in such a share of the columns where the sky ends clearly, over so wide an angle.
_STRAIGHT_RAD, _LEAST_SHARE, _LEAST_SPAN_DEG = math.radians(0.25), 0.8, 25.0
#: A straight border of the sky is the horizon, or a shore, hills or tops of trees a little above it.
_BORDER_SIGMA_RAD = math.radians(3.5)
#: What the uprights of one frame tell at best.
_EDGES_SIGMA_RAD = math.radians(0.5)
#: Nobody holds a camera more askew: what asks for more is no horizon.
_MOST_TILT_RAD, _MOST_ROLL_RAD = math.radians(20.0), math.radians(7.0)


def levelled_photograph(straight: Poses, look: WorkingFrame) -> tuple[Poses, Level | None]:
    """The pose of one photograph with the vertical that it shows; as it is, and None, where nothing tells it."""
    poses, level = levelled(straight, [look])
    if level is not None:
        # over one frame's width a line a little above the horizon lies in a plane as well as the horizon does, and edges err alike
        sigma = max(2 * level.sigma_rad, _EDGES_SIGMA_RAD) if level.edges else _BORDER_SIGMA_RAD
        return poses, replace(level, sigma_rad=sigma)
    for tilt in _TILTS_DEG:
        by_border = _by_border(_tilted(straight, tilt), look)
        if by_border is not None:
            return by_border
    return straight, None


def _tilted(straight: Poses, tilt_deg: float) -> Poses:
    return replace(straight, world_from_camera=rotations.about_x(math.radians(tilt_deg)) @ straight.world_from_camera)


def _by_border(poses: Poses, look: WorkingFrame) -> tuple[Poses, Level] | None:
    """The vertical square to the plane of the sky's border, where that is straight."""
    azimuth, ends = sky_ends(poses, 0, look)
    known = np.isfinite(ends)
    if known.sum() < 8 or np.ptp(np.degrees(azimuth[known])) < _LEAST_SPAN_DEG:
        return None
    rays = direction(azimuth[known], np.radians(ends[known]))
    down, straight = _plane(rays)
    if straight < _LEAST_SHARE or known.mean() < 0.5:
        return None
    turn, lean = turn_upright(down)
    level = Level(0, _BORDER_SIGMA_RAD, lean, math.atan2(down[0], down[2]), _BORDER_SIGMA_RAD)
    turned = replace(poses, world_from_camera=turn @ poses.world_from_camera)
    _yaw, pitch, roll = rotations.to_yaw_pitch_roll(turned.world_from_camera[0])
    return (turned, level) if abs(pitch) < _MOST_TILT_RAD and abs(roll) < _MOST_ROLL_RAD else None


def _plane(rays: Array) -> tuple[Array, float]:
    """Down (3,) square to the plane through the eye that most rays (N, 3) lie in, and the share of them that do."""
    kept = np.ones(len(rays), bool)
    down = np.array([0.0, 1.0, 0.0])
    for _ in range(6):
        vectors = np.linalg.eigh(rays[kept].T @ rays[kept])[1]
        down = vectors[:, 0] * np.sign(vectors[1, 0])
        off = np.abs(np.arcsin(np.clip(rays @ down, -1, 1)))
        within = max(_STRAIGHT_RAD, float(np.median(off)) * 1.5)
        if (off < within).sum() < 8:
            break
        kept = off < within
    return down, float((np.abs(np.arcsin(np.clip(rays @ down, -1, 1))) < _STRAIGHT_RAD).mean())
