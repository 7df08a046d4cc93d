"""A frame that nothing ties, laid over the picture by hand: where it looks, how it is drawn there, the points that follow. No Qt."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np

from idle_lantern.app.tie_model import lens_for
from idle_lantern.core.base import units
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.render.single_frame import frames_showing
from idle_lantern.core.frames.reading import probe, read
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.joining import prior_of
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.request.choices import TiePoint

#: The longest side that a frame is held with while it is moved, and that it is drawn with at most.
_HELD_PX, _DRAWN_PX = 900, 640
#: Places of a frame at which points are set, as shares of its size.
_PLACES = (0.12, 0.37, 0.63, 0.88)
_HAND_SCREEN_PX = 3.0  # how well a hand lays a frame down, in pixels of the screen
_BEST_PX = 1.5  # but not better than this, in pixels of the frame
_WORST_PX = 90.0  # a frame laid down on a small view is known no worse
#: Points that place a frame at all.
_ENOUGH = 3


@dataclass(frozen=True)
class HeldFrame:
    """A frame in the hand: its id, name, lens, small pixels (h, w, 3) uint8, and where it looks now."""

    frame: str
    name: str
    lens: Lens
    pixels: Array
    world_from_camera: Array

    def dragged(self, joined: JoinResult, start: tuple[float, float], end: tuple[float, float]) -> HeldFrame:
        """The frame after what lay at a place of the picture was dragged to another one."""
        rays = joined.canvas.directions(np.array([start, end], float))
        if not np.isfinite(rays).all():
            return self
        axis = np.cross(rays[0], rays[1])
        sine = float(np.linalg.norm(axis))
        if sine < 1e-12:
            return self
        turn = rotations.from_vector(axis / sine * math.atan2(sine, float(rays[0] @ rays[1])))
        return replace(self, world_from_camera=turn @ self.world_from_camera)

    def rolled(self, angle_deg: float) -> HeldFrame:
        """The frame turned about its own axis, clockwise."""
        roll = rotations.about_z(math.radians(angle_deg))
        return replace(self, world_from_camera=self.world_from_camera @ roll)


def held(outing: Outing, joined: JoinResult, frame: str, path: Path, middle: tuple[float, float]) -> HeldFrame:
    """A frame taken into the hand: where the head told it to be, as the others lie, or at ``middle`` of the picture in sight.

    Raises
    ------
    UnreadableFrame
        It cannot be read.
    InputError
        The picture ends there, the frames of the join are gone, or nothing tells the frame's lens.
    """
    solution = joined.solution
    ref = outing.frame(frame)
    if solution is None or ref is None:
        raise InputError("The frames of this join are gone", remedy="Join again")
    info = probe(path)
    lens = lens_for(joined, info)
    if lens is None:
        raise InputError(
            f"{ref.file} tells no focal length, and has another size than the frames of the picture",
            remedy="Tie it by points in the two-frame view",
        )
    pixels = read(path).in_space(SRGB).pixels
    scale = min(1.0, _HELD_PX / max(pixels.shape[:2]))
    small = cv2.resize(pixels, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA)
    if small.dtype == np.uint16:
        small = (small >> 8).astype(np.uint8)
    pose = _as_told(outing, joined, frame)
    if pose is None:
        ray = joined.canvas.directions(np.array(middle, float))
        if not np.isfinite(ray).all():
            raise InputError("The picture ends there", remedy="Show the part of it where the frame belongs")
        pose = rotations.from_yaw_pitch_roll(*azimuth_altitude(ray))
    return HeldFrame(frame, ref.file.rsplit("/", 1)[-1], lens, np.ascontiguousarray(small), pose)


def _as_told(outing: Outing, joined: JoinResult, frame: str) -> Array | None:
    """Where the head told a frame to be, turned as the join turned the others against what it told of them."""
    solution = joined.solution
    assert solution is not None

    def told(frame_id: str) -> Array | None:
        ref = outing.frame(frame_id)
        return None if ref is None else prior_of(ref)

    mine = told(frame)
    turns = [
        solution.poses.world_from_camera[i] @ other.T
        for i, f in enumerate(solution.poses.frames)
        if f < len(joined.frame_ids) and (other := told(joined.frame_ids[f])) is not None
    ]
    if mine is None or not turns:
        return None
    return rotations.nearest(np.sum(turns, axis=0)) @ mine


def drawn(joined: JoinResult, held_: HeldFrame, zoom: float) -> tuple[Array, tuple[float, float, float, float]] | None:
    """The frame as the picture would show it, (h, w, 4) uint8, and its rectangle (left, top, width, height) in pixels of the
    picture; None where it lies nowhere near it. ``zoom`` is how many pixels of the screen one of the picture takes."""
    canvas, lens = joined.canvas, held_.lens
    t = np.linspace(0, 1, 9)
    rim = np.concatenate(
        [np.stack([t, 0 * t], 1), np.stack([t, 0 * t + 1], 1), np.stack([0 * t, t], 1), np.stack([0 * t + 1, t], 1)]
    )
    rays = lens.unproject(rim * [lens.width - 1, lens.height - 1])
    places = canvas.pixels(rays @ held_.world_from_camera.T)
    places = places[np.isfinite(places).all(1)]
    if len(places) < _ENOUGH:
        return None
    # beyond the rim of the picture it is drawn as well: that is where it carries on
    left, top = np.maximum(places.min(0), [-canvas.width / 2, -canvas.height])
    right, bottom = np.minimum(places.max(0), [1.5 * canvas.width, 2.0 * canvas.height])
    if right - left < 2 or bottom - top < 2:
        return None
    step = max(1 / max(zoom, 1e-6), max(right - left, bottom - top) / _DRAWN_PX)
    u, v = np.meshgrid(np.arange(left, right, step), np.arange(top, bottom, step))
    directions = canvas.directions(np.stack([u, v], -1)) @ held_.world_from_camera
    pixel, valid = lens.project(np.nan_to_num(directions, nan=-1.0))
    h, w = held_.pixels.shape[:2]
    across, down = (pixel[..., 0] + 0.5) * w / lens.width - 0.5, (pixel[..., 1] + 0.5) * h / lens.height - 0.5
    shown = (
        valid
        & np.isfinite(directions[..., 0])
        & (across > -0.5)
        & (across < w - 0.5)
        & (down > -0.5)
        & (down < h - 0.5)
    )
    colour = cv2.remap(
        held_.pixels,
        across.astype(np.float32),
        down.astype(np.float32),
        cv2.INTER_LINEAR,
        borderMode=cv2.BORDER_REPLICATE,
    )
    rgba = np.dstack([colour, np.where(shown, 255, 0).astype(np.uint8)])
    return rgba, (float(left), float(top), float(u.shape[1] * step), float(u.shape[0] * step))


def laid_down(joined: JoinResult, held_: HeldFrame, zoom: float) -> Edit:
    """The edit that ties the frame where the hand laid it: points between it and the frames that show the same there, each known
    as well as the hand is on a screen that shows the picture at ``zoom``.

    Raises
    ------
    InputError
        No frame of the picture shows anything of it.
    """
    solution = joined.solution
    assert solution is not None
    poses, lens = solution.poses, held_.lens
    sigma = min(_WORST_PX, max(_BEST_PX, _HAND_SCREEN_PX / max(zoom, 1e-6) * lens.focal_px / joined.canvas.px_per_rad))
    points = []
    for x in _PLACES:
        for y in _PLACES:
            place = np.array([x * (lens.width - 1), y * (lens.height - 1)])
            ray = held_.world_from_camera @ lens.unproject(place[None])[0]
            at = joined.canvas.pixels(ray[None])[0]
            if not np.isfinite(at).all():
                continue
            for i in frames_showing(poses, joined.canvas, float(at[0]), float(at[1]))[:1]:
                other, _valid = poses.lenses[i].project((ray @ poses.world_from_camera[i])[None])
                frame = joined.frame_ids[poses.frames[i]]
                mine = float(place[0]), float(place[1])
                points.append(
                    TiePoint(held_.frame, mine, frame, (float(other[0][0]), float(other[0][1])), round(sigma, 2))
                )
    if len(points) < _ENOUGH:
        raise InputError(
            f"{held_.name} lies beside the picture there", remedy="Lay it so that it overlaps what the picture shows"
        )
    known = tuple(points)

    def apply(outing: Outing) -> Outing:
        # points of an earlier try go; those that were set one by one are better and stay
        kept = tuple(p for p in outing.choices.points if held_.frame not in (p.a, p.b) or p.sigma_px < _BEST_PX)
        return replace(outing, choices=replace(outing.choices, points=(*kept, *known)))

    return Edit(f"Lay {held_.name} down by hand", apply)


def told(held_: HeldFrame, zoom: float, joined: JoinResult) -> str:
    """What to do with a frame in the hand."""
    sigma_px = _HAND_SCREEN_PX / max(zoom, 1e-6)
    close = units.angle(math.degrees(sigma_px / joined.canvas.px_per_rad), 2)
    return (
        f"Drag {held_.name} to its place. [,] and [.] roll it, [X] difference, [B] blink. "
        f"[Enter] lays it down to about {close}; zoom in to be closer."
    )
