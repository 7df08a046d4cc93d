"""The true vertical from what the frames show: uprights of buildings and masts, and the horizon of the sea.

A straight edge and the eye span a plane. Planes of upright edges hold the vertical; the
plane of the sea's horizon stands square to it. The direction that suits most long edges,
near the one that the cameras' x-axes give, is the vertical.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.straight_edges import Edges, straight_edges

#: The vertical is looked for so far from where the cameras' x-axes put it.
_REACH_RAD = math.radians(12.0)
#: Edges are straight and upright to about this; what misses by more counts for less.
_SCALE_RAD = math.radians(0.35)
#: Edges shorter than this share of the frame's longer side say little.
_SHORTEST = 0.04
#: A horizon runs across a good part of the frame.
_HORIZON_LENGTH = 0.2
#: So many edges at least, and together as long as so many frames.
_LEAST_EDGES, _LEAST_LENGTH = 6, 0.8
_ROUNDS = 12
#: Frames that are searched for edges: those that look most level, where uprights and the horizon show.
_FRAMES = 10
#: A vertical known worse than this is not better than the cameras' x-axes.
_WORST_SIGMA_RAD = math.radians(0.25)
#: Below this the frames stand upright already and are left as they are.
_WORTH_RAD = math.radians(0.03)


@dataclass(frozen=True)
class Level:
    """How the vertical was found.

    Attributes
    ----------
    edges : int
        Edges that agree with it.
    sigma_rad : float
        Its standard error in the less known direction.
    lean_rad : float
        Angle between the turning axis (square to the cameras' x-axes) and the vertical.
    lean_toward_rad : float
        Azimuth towards which the axis leans, in the levelled picture.
    """

    edges: int
    sigma_rad: float
    lean_rad: float
    lean_toward_rad: float

    def sentence(self, *, held_in_hand: bool = False) -> str:
        """What was found, in words; a camera that was held in the hand had no axis that leaned."""
        lean, sigma = math.degrees(self.lean_rad), math.degrees(self.sigma_rad)
        told = f"{self.edges} edges and horizons tell the vertical to ± {sigma:.2f}°."
        if held_in_hand:
            return told
        if self.lean_rad > max(math.radians(0.3), 3 * self.sigma_rad):
            toward = f"{math.degrees(self.lean_toward_rad):+.0f}".replace("-", "−")  # as on the map
            return f"{told} The turning axis leaned {lean:.1f}° towards {toward}°: level the base, not the camera."
        return f"{told} The turning axis stood upright within {max(lean, sigma):.1f}°."


def levelled(poses: Poses, working: Sequence[WorkingFrame]) -> tuple[Poses, Level | None]:
    """Poses with the vertical taken from edges; as they are, and None, where too few tell it.

    ``poses`` are upright by their x-axes; ``working`` in the order of ``poses.frames``.
    """
    edges = _edges(poses, working)
    normals, lengths, share = edges.normals, edges.lengths, edges.shares
    if len(normals) < _LEAST_EDGES:
        return poses, None
    down = np.array([0.0, 1.0, 0.0])
    # an edge tells of the vertical by what its plane's normal has along it (upright) or across it (horizon)
    upright = np.abs(normals @ down) < math.sin(_REACH_RAD)
    flat = (np.abs(normals @ down) > math.cos(_REACH_RAD / 2)) & (share > _HORIZON_LENGTH)
    scale = _REACH_RAD / 2
    information = np.zeros((3, 3))
    for _ in range(_ROUNDS):
        side = normals @ down
        miss = np.where(upright, side, np.sqrt(np.maximum(0, 1 - side**2)))
        weight = np.where(upright | flat, lengths, 0) / (1 + (miss / scale) ** 2) ** 2
        # down is the direction with least weighted squares along uprights' normals and most along horizons'
        one, other = normals[upright], normals[flat]
        information = (one * weight[upright, None]).T @ one - (other * weight[flat, None]).T @ other
        values, vectors = np.linalg.eigh(information)
        new = vectors[:, 0] * np.sign(vectors[:, 0] @ down)
        down, scale = new, max(_SCALE_RAD, scale * 0.6)
    agree = (upright | flat) & (miss < 3 * _SCALE_RAD)
    sigma = _sigma(values, weight, miss)
    angle = math.acos(min(1.0, abs(float(down[1]))))
    if (
        agree.sum() < _LEAST_EDGES
        or share[agree].sum() < _LEAST_LENGTH
        or not sigma < _WORST_SIGMA_RAD
        or angle > _REACH_RAD
    ):
        return poses, None
    axis = np.cross(down, [0.0, 1.0, 0.0])
    length = float(np.linalg.norm(axis))
    turn = rotations.from_vector(axis / length * angle) if length > 1e-12 else np.eye(3)
    # where the old vertical, which is the turning axis, points now
    up = turn @ np.array([0.0, -1.0, 0.0])
    level = Level(int(agree.sum()), sigma, angle, math.atan2(up[0], up[2]))
    if angle < max(_WORTH_RAD, sigma):
        return poses, level
    return replace(poses, world_from_camera=turn @ poses.world_from_camera), level


def _sigma(values: Array, weight: Array, miss: Array) -> float:
    """Standard error of the vertical in its less known direction, from the spread of the edges."""
    spread = float((weight * miss**2).sum() / max(float(weight.sum()), 1e-12))
    effective = float(weight.sum() ** 2 / max(float((weight**2).sum()), 1e-12))
    second = float(values[1] - values[0]) / max(float(weight.sum()), 1e-12)
    return math.sqrt(spread / max(second * effective, 1e-12))


def _edges(poses: Poses, working: Sequence[WorkingFrame]) -> Edges:
    """Straight edges of the frames that look most level."""
    tilt = np.abs(poses.world_from_camera[:, 1, 2])
    found = []
    for i in sorted(np.argsort(tilt, kind="stable")[:_FRAMES].tolist()):
        grey = cv2.cvtColor(working[i].picture.pixels, cv2.COLOR_RGB2GRAY)
        turned = poses.world_from_camera[i]
        found.append(
            straight_edges(grey, poses.lenses[i], turned, working[i].scale, upright=_SHORTEST, level=_HORIZON_LENGTH)
        )
    return Edges.together(found)
