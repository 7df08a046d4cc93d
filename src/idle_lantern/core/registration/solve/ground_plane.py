"""Frames of the ground from another standpoint: what the tripod hides, taken by hand after it was moved away.

No turn lays such a frame on the others, but what it shows is a plane, and so one mapping does (a homography: Hartley and Zisserman,
*Multiple View Geometry in Computer Vision*, 2nd edition 2004, section 13.1). It is sought on the ground as one would see it straight
from above, since features change too much where others look across it. It becomes a frame from the tripod's own place: a turn and
a focal length near that mapping, and a local warp that takes up the rest.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.frames.masks import Mask
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.features import WorkingFrame, find_features
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.match.pairs import match
from idle_lantern.core.registration.solve.poses import Poses, bend_at

#: Frames whose axis looks less far down show little ground, and what lies less far down is ground no more.
_DOWN_RAD, _GROUND_RAD = math.radians(-25.0), math.radians(25.0)
#: Points that must agree for a frame of the ground.
_LEAST = 20
_SHARE = 0.25  # of those that match too
_AGREE_PX = 3.0  # of the reduced frame
_SIDE_PX = 1100  # of the ground seen from above
_FOCAL_PX = 300.0  # of that view
_POINTS = 2500  # sought on it and on a frame
#: Share of a frame's width by which the ground must lie elsewhere than a turn puts it.
_ELSEWHERE = 0.02
#: A tie by a smaller share of what matches is a weak one; by so many times its points the ground must fit better.
_WEAK, SURER = 0.35, 2
#: Columns of the local warp; places that the ground does not reach are put so far off.
_COLUMNS, _NOWHERE = 97, 1e5
#: The virtual frame is so much wider than the real one, so that nothing of it is lost.
_WIDER = 0.8
#: From straight down up to here the frame alone shows the ground, up to there it may: a tripod's feet stand at some 30 degrees.
ALONE_RAD, MOST_RAD = math.radians(33.0), math.radians(50.0)
_MASK_PX = 400


@dataclass(frozen=True)
class GroundFrame:
    """How a frame of the ground lies: as of ``Poses``, with the points that fit it and their error in pixels of the frame."""

    lens: Lens
    world_from_camera: Array
    bend: Array
    points: int
    rms_px: float


def ground_frames(poses: Poses, working: Sequence[WorkingFrame], lenses: Mapping[int, Lens]) -> dict[int, GroundFrame]:
    """Which of some untied frames show the ground straight below, from wherever they were taken.

    ``poses`` are upright; ``working`` are all reduced frames, by index into the set; ``lenses`` of the untied frames by index.
    """
    down = [i for i in range(len(poses.frames)) if -poses.world_from_camera[i, 1, 2] < math.sin(_DOWN_RAD)]
    if len(down) < 2 or not lenses:
        return {}
    below = find_features(WorkingFrame(Picture(_from_above(poses, down, working)), (1.0, 1.0)), _POINTS)
    found = {}
    for f, lens in lenses.items():
        mine = find_features(working[f], _POINTS)
        at, theirs = match(mine, below)
        here = lens.unproject(mine.points_px[at])
        good = here[:, 2] > 0.2
        ground = (below.points_px[theirs][good] - _SIDE_PX / 2 + 0.5) / np.array([_FOCAL_PX, -_FOCAL_PX])
        fitted = _fitted(ground, here[good, :2] / here[good, 2:3], lens, max(working[f].scale))
        if fitted is not None:
            found[f] = fitted
    return found


def _from_above(poses: Poses, down: Sequence[int], working: Sequence[WorkingFrame]) -> Array:
    """The ground as a flat picture straight from above the tripod, (S, S, 3) uint8, ahead towards its upper side; each place from the
    frame that looks at it most directly."""
    side = (np.arange(_SIDE_PX) - _SIDE_PX / 2 + 0.5) / _FOCAL_PX
    across, ahead = np.meshgrid(side, -side)
    rays = _unit(np.stack([across, np.ones_like(across), ahead], -1))
    view, best = np.zeros((_SIDE_PX, _SIDE_PX, 3), np.uint8), np.zeros((_SIDE_PX, _SIDE_PX))
    for i in down:
        frame, lens = working[poses.frames[i]], poses.lenses[i]
        local = rays @ poses.world_from_camera[i]
        pixels, _valid = poses.pixels(i, rays)
        direct = np.where(lens.sees(local), local[..., 2], 0)
        mine = direct > best
        at = ((pixels + 0.5) / np.asarray(frame.scale) - 0.5).astype(np.float32)
        drawn = cv2.remap(
            frame.picture.pixels, np.nan_to_num(at), None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
        )
        view[mine], best[mine] = drawn[mine], direct[mine]
    return view


def weakly_tied(poses: Poses, links: Sequence[Link]) -> dict[int, int]:
    """Frames that look down and are tied by a small part of what matches only, with how many points that is: a patch of ground seen
    from elsewhere agrees with a turn as well."""
    weak = {}
    for i, f in enumerate(poses.frames):
        own = [k for k in links if f in (k.a, k.b)]
        down = -poses.world_from_camera[i, 1, 2] < math.sin(_DOWN_RAD)
        if own and down and all(k.inliers < _WEAK * len(k.points_a) for k in own):
            weak[f] = sum(k.inliers for k in own)
    return weak


def with_ground(poses: Poses, found: Mapping[int, GroundFrame]) -> Poses:
    """Poses with these frames as well."""
    if not found:
        return poses
    known = np.full(len(poses.frames), np.nan) if poses.sigma_rad is None else poses.sigma_rad
    sigma = [g.rms_px / g.lens.focal_px for g in found.values()]
    return replace(
        poses,
        frames=(*poses.frames, *found),
        lenses=(*poses.lenses, *(g.lens for g in found.values())),
        world_from_camera=np.concatenate([poses.world_from_camera, [g.world_from_camera for g in found.values()]]),
        bends=(*(poses.bends or [None] * len(poses.frames)), *(g.bend for g in found.values())),
        sigma_rad=np.append(known, sigma),
    )


def ground_masks(poses: Poses, placed_by: Mapping[int, str]) -> dict[int, Mask]:
    """For each such frame (by place in the poses) a mask: it alone shows what lies straight below, and nothing far from it."""
    masks = {}
    for i, f in enumerate(poses.frames):
        if placed_by.get(f) == "ground":
            lens = poses.lenses[i]
            scale = _MASK_PX / max(lens.width, lens.height)
            shape = max(1, round(lens.height * scale)), max(1, round(lens.width * scale))
            inner, outer = (_cone(poses, i, angle, shape, scale) for angle in (ALONE_RAD, MOST_RAD))
            masks[i] = Mask(255 * (1 - outer), 255 * inner)
    return masks


def _cone(poses: Poses, i: int, angle: float, shape: tuple[int, int], scale: float) -> Array:
    """Where a frame shows what lies within an angle of straight down, (h, w) of 0 and 1."""
    turns = np.linspace(0, 2 * math.pi, 120, endpoint=False)
    rays = np.stack(
        [math.sin(angle) * np.cos(turns), np.full_like(turns, math.cos(angle)), math.sin(angle) * np.sin(turns)], -1
    )
    lens, bend = poses.lenses[i], poses.bend(i)
    places, valid = poses.pixels(i, rays)
    if bend is not None:
        places = places + bend_at(bend, places[None], lens)[0]
    part = np.zeros(shape, np.uint8)
    rim = places[valid & (np.abs(places) < _NOWHERE / 10).all(-1)]
    if len(rim) > 2:
        cv2.fillPoly(part, [np.rint((rim + 0.5) * scale - 0.5).astype(np.int32)], (1,))
    return part


def _fitted(ground: Array, seen: Array, lens: Lens, scale_px: float) -> GroundFrame | None:
    """The frame by its places on the ground; None where too few agree, or it does not look straight down."""
    if len(ground) < _LEAST:
        return None
    # its samples are drawn from a seed of its own: the same points give the same mapping
    in_px, inlier = cv2.findHomography(
        ground * _FOCAL_PX, seen * lens.focal_px, cv2.RANSAC, _AGREE_PX * scale_px, None, 5000, 0.999
    )
    agreeing = inlier.ravel() > 0 if inlier is not None else np.zeros(len(ground), bool)
    if in_px is None or agreeing.sum() < max(_LEAST, _SHARE * len(ground)):
        return None
    mapping = np.diag([1 / lens.focal_px, 1 / lens.focal_px, 1.0]) @ in_px @ np.diag([_FOCAL_PX, _FOCAL_PX, 1.0])
    # rows and columns of a direction: across, down, ahead
    camera_from_world = mapping @ np.array([[1.0, 0, 0], [0, 0, 1], [0, 1, 0]])
    determinant = float(np.linalg.det(camera_from_world))
    if abs(determinant) < 1e-9:
        return None
    camera_from_world /= np.cbrt(determinant)
    nadir = camera_from_world @ np.array([0.0, 1.0, 0.0])
    if nadir[2] <= 0 or not bool(lens.sees(nadir)):
        return None
    if _turned_only(camera_from_world, ground[agreeing], lens):
        return None
    shown = cv2.perspectiveTransform(ground[agreeing][None], mapping)[0]
    rms = math.sqrt(float(((shown - seen[agreeing]) ** 2).sum(1).mean())) * lens.focal_px
    return GroundFrame(*_from_the_tripod(camera_from_world, lens), int(agreeing.sum()), rms)


def _turned_only(camera_from_world: Array, ground: Array, lens: Lens) -> bool:
    """Whether a turn alone lays what agrees where the mapping does: then the frame was taken from the tripod like the others."""
    rays = _unit(np.stack([ground[:, 0], np.ones(len(ground)), ground[:, 1]], -1))
    turned = rotations.nearest(camera_from_world)
    apart = lens.project(_unit(rays @ camera_from_world.T))[0] - lens.project(rays @ turned.T)[0]
    return float(np.hypot(*np.nan_to_num(apart).T).max()) < _ELSEWHERE * lens.width


def _from_the_tripod(camera_from_world: Array, lens: Lens) -> tuple[Lens, Array, Array]:
    """Lens, turn and local warp of a camera at the tripod's place that shows what ``camera_from_world`` (3, 3) maps to ``lens``."""
    turned = rotations.nearest(camera_from_world).T
    ring = np.array([[0.0, 1, 0], [0.2, 1, 0], [-0.2, 1, 0], [0, 1, 0.2], [0, 1, -0.2]])
    near, far = (lens.project(_unit(ring @ m))[0] for m in (camera_from_world.T, turned))
    grows = np.linalg.norm(near[1:] - near[0], axis=1) / np.linalg.norm(far[1:] - far[0], axis=1)
    virtual = Lens("rectilinear", lens.focal_px * float(np.median(grows)) * _WIDER, lens.width, lens.height)
    rows = max(2, round(_COLUMNS * lens.height / lens.width))
    u, v = np.meshgrid(np.linspace(0, lens.width - 1, _COLUMNS), np.linspace(0, lens.height - 1, rows))
    places = np.stack([u, v], -1)
    world = virtual.unproject(places) @ turned.T
    local = world @ camera_from_world.T
    real, valid = lens.project(_unit(local))
    shows = valid & (world[..., 1] > math.sin(_GROUND_RAD) / 2) & (local[..., 2] > 0) & np.isfinite(real).all(-1)
    return virtual, turned, np.where(shows[..., None], real - places, _NOWHERE).astype(np.float32)


def _unit(rays: Array) -> Array:
    return np.asarray(rays / np.linalg.norm(rays, axis=-1, keepdims=True))
