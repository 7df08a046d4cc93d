"""The true vertical from what the frames show: uprights of buildings and masts, and the horizon of the sea.

A straight edge and the eye span a plane. Planes of upright edges hold the vertical: it is the direction that suits most
long ones, near the one that the cameras' x-axes give. The plane of the sea's horizon stands square to it; that of any
other level edge may lie anyhow.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Flags
from idle_lantern.core.geometry import rotations
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.horizon import horizon
from idle_lantern.core.registration.solve.jackknife import sigma_by_parts
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.registration.solve.straight_edges import Edges, straight_edges

#: The vertical is looked for so far from where the cameras' x-axes put it.
_REACH_RAD = math.radians(12.0)
#: Edges are straight and upright to about this; what misses by more counts for less.
_SCALE_RAD = math.radians(0.35)
#: Edges shorter than this share of the frame's longer side say little.
_SHORTEST = 0.04
#: So many edges at least, and together as long as so many frames.
_LEAST_EDGES, _LEAST_LENGTH = 6, 0.8
_ROUNDS = 12
#: Frames that are searched for edges: those that look most level, where uprights and the horizon show.
_FRAMES = 10
#: A vertical known worse than this is not better than the cameras' x-axes.
_WORST_SIGMA_RAD = math.radians(0.4)
#: The told error counts the jackknife's so many times, since parts of a view share walls, and one edge is plumb to so much:
#: set so that two thirds of the verticals of frames cut from spherical photographs lie within it.
_PARTS_SHARE, _PLUMB_RAD = 1.5, math.radians(0.6)
#: Below this the frames stand upright already and are left as they are.
_WORTH_RAD = math.radians(0.03)


#: Said where nothing tells the vertical.
NOT_KNOWN = "Nothing tells the vertical: no uprights agree, and no plain horizon shows. The picture stands as the cameras were held."


@dataclass(frozen=True)
class Level:
    """How the vertical was found.

    Attributes
    ----------
    edges : int
        Edges that agree with it; 0 where a plain horizon told it.
    sigma_rad : float
        Its standard error in the less known direction.
    lean_rad : float
        Angle between the turning axis (``turning_axis``) and the vertical.
    lean_toward_rad : float
        Azimuth towards which the axis leans, in the levelled picture.
    lean_sigma_rad : float
        Standard error of the lean.
    """

    edges: int
    sigma_rad: float
    lean_rad: float
    lean_toward_rad: float
    lean_sigma_rad: float

    def sentence(self, *, held_in_hand: bool = False) -> str:
        """What was found, in words; a camera that was held in the hand had no axis that leaned."""
        lean, sigma, of_lean = (math.degrees(a) for a in (self.lean_rad, self.sigma_rad, self.lean_sigma_rad))
        what = f"{self.edges} edges tell" if self.edges else "The horizon tells"
        told = f"{what} the vertical to ±\u00a0{max(sigma, 0.01):.2f}°."
        if held_in_hand:
            return told
        if lean > max(0.3, 3 * of_lean):
            toward = f"{math.degrees(self.lean_toward_rad):+.0f}".replace("-", "−")  # as on the map
            return f"{told} The turning axis leaned {lean:.1f}° towards {toward}°: level the base, not the camera."
        return f"{told} The turning axis stood upright within {max(lean, of_lean):.1f}°."


def levelled(poses: Poses, working: Sequence[WorkingFrame]) -> tuple[Poses, Level | None]:
    """Poses with the vertical taken from edges, or else from a plain horizon; as they are, and None, where neither tells it.

    ``poses`` are upright by their x-axes; ``working`` in the order of ``poses.frames``.
    """
    chosen = _most_level(poses)
    found = _by_edges(_edges(poses, working, chosen)) or _by_horizon(poses, working, chosen)
    if found is None:
        return poses, None
    turn, angle = turn_upright(found.down)
    axis, axis_sigma = turning_axis(poses)
    up = -(turn @ axis)
    lean = math.acos(min(1.0, abs(float(up[1]))))
    level = Level(found.edges, found.sigma_rad, lean, math.atan2(up[0], up[2]), math.hypot(found.sigma_rad, axis_sigma))
    if angle < max(_WORTH_RAD, found.sigma_rad):
        return poses, level
    return replace(poses, world_from_camera=turn @ poses.world_from_camera), level


#: Of the height of a frame: rows of a grid stand further apart in pitch, frames of one row closer together.
_ROW_SHARE = 0.2


def turning_axis(poses: Poses) -> tuple[Array, float]:
    """The axis that the frames of each row turn about: its direction, down (3,), and its standard error in radians.

    While a head turns about it, the axis stays where it is in the camera, however that is tilted and rolled on the head. So it is
    the direction whose place in the cameras changes least within the rows (the least eigenvector of the summed scatter matrices).
    Where no row has two frames it is the vertical of ``poses``, which their x-axes tell.
    """
    cameras = poses.world_from_camera
    pitch = -np.arcsin(np.clip(cameras[:, 1, 2], -1, 1))
    order = np.argsort(pitch, kind="stable")
    apart = _ROW_SHARE * float(poses.lenses[0].field_rad()[1])
    rows = np.split(order, np.flatnonzero(np.diff(pitch[order]) > apart) + 1)
    scatter = sum(len(r) * np.eye(3) - (s := cameras[r].sum(0)) @ s.T / len(r) for r in rows)
    spread, vectors = np.linalg.eigh(np.asarray(scatter))
    if spread[1] < _LEAST_TURN:
        return np.array([0.0, 1.0, 0.0]), 0.0
    axis = vectors[:, 0] * (1.0 if vectors[1, 0] > 0 else -1.0)
    # two unknowns of the axis and the place of it in the cameras of each row, of two places told by each frame
    free = max(1, 2 * len(cameras) - 2 * len(rows) - 2)
    return axis, math.sqrt(max(0.0, float(spread[0])) / free / float(spread[1]))


#: Frames that turn by less together tell no axis.
_LEAST_TURN = 0.05


def turn_upright(down: Array) -> tuple[Array, float]:
    """The turn (3, 3) by which a direction down (3,) comes to point down, and its angle in radians."""
    angle = math.acos(min(1.0, abs(float(down[1]))))
    axis = np.cross(down, [0.0, 1.0, 0.0])
    length = float(np.linalg.norm(axis))
    return rotations.from_vector(axis / length * angle) if length > 1e-12 else np.eye(3), angle


@dataclass(frozen=True)
class _Found:
    """Down (3,), its standard error, and how many edges tell it, 0 for a horizon."""

    down: Array
    sigma_rad: float
    edges: int


def _by_edges(edges: Edges) -> _Found | None:
    """The vertical by uprights, where enough agree on it."""
    found = _vertical(edges)
    if found is None or found.agree.sum() < _LEAST_EDGES or edges.shares[found.agree].sum() < _LEAST_LENGTH:
        return None
    sigma, count = _sigma(edges), int(found.agree.sum())
    if abs(float(found.down[1])) < math.cos(_REACH_RAD) or not sigma < _WORST_SIGMA_RAD:
        return None
    return _Found(found.down, math.hypot(_PARTS_SHARE * sigma, _PLUMB_RAD / math.sqrt(count)), count)


def _by_horizon(poses: Poses, working: Sequence[WorkingFrame], chosen: Sequence[int]) -> _Found | None:
    """The vertical by a plain horizon."""
    found = horizon(poses, working, chosen)
    return None if found is None or not found.sigma_rad < _WORST_SIGMA_RAD else _Found(found.down, found.sigma_rad, 0)


@dataclass(frozen=True)
class _Vertical:
    """The direction down (3,) and which edges agree with it (N,)."""

    down: Array
    agree: Flags


def _vertical(edges: Edges) -> _Vertical | None:
    """The direction that most long edges agree on, near the cameras' own; None where there are too few."""
    normals, lengths = edges.normals, edges.lengths
    if len(normals) < 2:
        return None
    down = np.array([0.0, 1.0, 0.0])
    # an upright edge tells of the vertical by what its plane's normal has along it
    upright = np.abs(normals @ down) < math.sin(_REACH_RAD)
    if upright.sum() < 2:
        return None
    one, scale = normals[upright], _REACH_RAD / 2
    for _ in range(_ROUNDS):
        weight = lengths[upright] / (1 + (one @ down / scale) ** 2) ** 2
        vectors = np.linalg.eigh((one * weight[:, None]).T @ one)[1]
        down, scale = vectors[:, 0] * np.sign(vectors[:, 0] @ down), max(_SCALE_RAD, scale * 0.6)
    return _Vertical(down, upright & (np.abs(normals @ down) < 3 * _SCALE_RAD))


def _sigma(edges: Edges) -> float:
    """Standard error of the vertical in its less known direction."""

    def told(kept: Flags) -> Array | None:
        found = _vertical(edges.only(kept))
        return None if found is None else found.down[[0, 2]]

    return sigma_by_parts(np.arctan2(edges.middles[:, 0], edges.middles[:, 2]), edges.lengths, told)


def _most_level(poses: Poses) -> list[int]:
    """Frames, by place, that look most level: there uprights and horizons show."""
    tilt = np.abs(poses.world_from_camera[:, 1, 2])
    return sorted(np.argsort(tilt, kind="stable")[:_FRAMES].tolist())


def _edges(poses: Poses, working: Sequence[WorkingFrame], chosen: Sequence[int]) -> Edges:
    """Straight edges of some frames."""
    found = []
    for i in chosen:
        grey = cv2.cvtColor(working[i].picture.pixels, cv2.COLOR_RGB2GRAY)
        turned = poses.world_from_camera[i]
        found.append(straight_edges(grey, poses.lenses[i], turned, working[i].scale, least=_SHORTEST))
    return Edges.together(found)
