"""Poses -> the canvas: which projection and why, its scale, size and middle."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

import numpy as np

from idle_lantern.core.base.arrays import Array, Directions, Flags, Places, Rotations
from idle_lantern.core.base.errors import InputError, JoinError
from idle_lantern.core.compositing.canvas.stretch import Stretch
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.projections import Projection, panini_parameters, suited
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.geometry.sphere import azimuth_altitude, direction
from idle_lantern.core.registration.solve.covered_field import Field, spread_rays
from idle_lantern.core.registration.solve.poses import Poses

_REASONS = {
    "rectilinear": "The picture spans {}: flat keeps straight lines straight.",
    "cylindrical": "One band of {}: the cylinder keeps uprights upright.",
    "equirectangular": "The picture spans {}: only the sphere holds so much height.",
}
#: Canvases beyond this are a mistake of projection or scale, not a picture.
_MOST_PIXELS = 60e9
#: So many places across a frame, and down it, tell where the canvas ends.
_ACROSS = 65


@dataclass(frozen=True)
class Canvas:
    """Where directions lie on the picture, as in the join contract.

    ``reason`` says why the projection was chosen. With a ``stretch`` width and height are those of the bent canvas, and
    all else is told of the flat one.
    """

    projection: Projection
    width: int
    height: int
    px_per_rad: float
    centre_px: tuple[float, float]
    canvas_from_world: Rotations = field(default_factory=lambda: np.eye(3))
    full_circle: bool = False
    reason: str = ""
    stretch: Stretch | None = None

    def directions(self, pixels: Places, *, over_the_pole: bool = False) -> Directions:
        """Unit world directions of canvas pixels (..., 2); NaN where the canvas has none."""
        flat = np.asarray(pixels) if self.stretch is None else self.stretch.flat(pixels)
        plane = (flat - np.asarray(self.centre_px)) / self.px_per_rad
        result: Array = self.projection.inverse(plane, over_the_pole=over_the_pole) @ self.canvas_from_world
        return result

    def pixels(self, directions: Directions) -> Places:
        """Canvas pixels (..., 2) of world directions (..., 3); NaN where there is no place."""
        plane = self.projection.forward(np.asarray(directions) @ self.canvas_from_world.T)
        flat: Array = plane * self.px_per_rad + np.asarray(self.centre_px)
        return flat if self.stretch is None else self.stretch.bent(flat)

    def scaled(self, factor: float) -> Canvas:
        """The same canvas with fewer pixels; a full circle still closes exactly."""
        width = max(8, round(self.width * factor))
        exact = width / self.width
        height = max(8, round(self.height * exact))
        cx, cy = ((c + 0.5) * exact - 0.5 for c in self.centre_px)
        stretch = None if self.stretch is None else self.stretch.scaled(exact)
        scale = self.px_per_rad * exact
        return replace(self, width=width, height=height, px_per_rad=scale, centre_px=(cx, cy), stretch=stretch)

    def cut(self, box: Rectangle) -> Canvas:
        """The part of it inside a rectangle; a full circle stays one only where nothing of its width goes."""
        centre, stretch = self.centre_px, self.stretch
        if stretch is None:
            centre = (centre[0] - box.left, centre[1] - box.top)
        else:
            stretch = stretch.cut(box.left, box.top)
        full = self.full_circle and box.width == self.width
        return replace(self, width=box.width, height=box.height, centre_px=centre, stretch=stretch, full_circle=full)


_BY_HAND = "Chosen by hand."
#: Beyond so wide a field flat pictures are stretched too much at the rim (common practice, no source).
_FLAT_DEG = 110


def choose_projection(seen: Field) -> tuple[str, str]:
    """The projection that suits the field, with the reason in a sentence."""
    width, height = math.degrees(seen.width_rad), math.degrees(seen.high_rad - seen.low_rad)
    name = suited(seen.width_rad, seen.low_rad, seen.high_rad)
    return name, _REASONS[name].format(f"{width:.0f}° x {height:.0f}°")


def make_canvas(
    poses: Poses,
    seen: Field,
    projection: str = "auto",
    width_px: int | None = None,
    parameters: dict[str, float] | None = None,
    *,
    across: int = _ACROSS,
) -> Canvas:
    """A canvas that holds all frames at their own scale, or at ``width_px`` across.

    Its bounds are told by ``across`` by ``across`` places of each frame.

    Raises
    ------
    JoinError
        Nothing of the picture fits the projection.
    """
    reason = _BY_HAND
    if projection == "auto":
        projection, reason = choose_projection(seen)
    plane = Projection(projection, dict(parameters or (panini_parameters() if projection == "panini" else {})))
    # known directions stay as they are told; the canvas turns to the middle of the picture
    canvas_from_world = np.eye(3) if seen.full_circle else rotations.about_y(-seen.middle_rad)
    middle_altitude = (seen.low_rad + seen.high_rad) / 2
    wide = seen.high_rad - seen.low_rad > math.radians(100)
    if projection == "stereographic" or (
        projection == "rectilinear" and abs(middle_altitude) > math.radians(25) and not wide
    ):
        # looking far up or down: the plane stands square to the look
        canvas_from_world = rotations.about_x(-middle_altitude) @ canvas_from_world
    scale = max(lens.focal_px for lens in poses.lenses)
    draft = Canvas(plane, 1, 1, 1.0, (0.0, 0.0), canvas_from_world)
    box, cut = _bounds(poses, draft, across)
    if reason == _BY_HAND:
        reason += _warning(projection, box, cut)
    if plane.wraps and seen.full_circle:
        if width_px is None:
            width_px = 2 * round(math.pi * scale)
        scale = width_px / (2 * math.pi)
        left, right = -math.pi, math.pi
    else:
        left, right = box[0], box[2]
        if width_px is not None:
            scale = width_px / (right - left)
    top, bottom = box[1], box[3]
    width = max(1, math.ceil((right - left) * scale - 1e-6))
    height = max(1, math.ceil((bottom - top) * scale - 1e-6))
    if projection == "equirectangular" and bottom - top > math.pi - 1e-4:
        height = round(width / 2)  # a whole sphere is twice as wide as high, and has no row past the poles
        top, bottom = -height / 2 / scale, height / 2 / scale
    if width * height > _MOST_PIXELS:
        raise InputError(
            f"The canvas would have {width} x {height} pixels", remedy="Choose another projection or give --width"
        )
    centre = (-0.5 - left * scale, -0.5 - top * scale)
    full = plane.wraps and seen.full_circle
    return replace(
        draft, width=width, height=height, px_per_rad=scale, centre_px=centre, full_circle=full, reason=reason
    )


def _bounds(poses: Poses, draft: Canvas, across: int) -> tuple[tuple[float, float, float, float], float]:
    """Left, top, right, bottom in radians of what lies within the projection's reach, and the share that does not."""
    found, within = [], []
    for lens, rotation in zip(poses.lenses, poses.world_from_camera):
        plane, inside = _reached(draft, spread_rays(lens, across) @ rotation.T)
        ends_here = bool(inside.any()) and not inside.all()
        if ends_here and across < _ACROSS:  # where on the frame, many places tell
            plane, inside = _reached(draft, spread_rays(lens, _ACROSS) @ rotation.T)
        found.append(plane)
        within.append(inside.mean())
        for pole in (-1.0, 1.0):
            if lens.sees(rotation.T @ np.array([0.0, pole, 0.0])):
                turn = np.linspace(-math.pi, math.pi, 73)
                ring = np.stack([np.sin(turn) * 1e-6, np.full_like(turn, pole), np.cos(turn) * 1e-6], -1)
                found.append(_reached(draft, ring)[0])
    plane = np.concatenate(found)
    if len(plane) == 0:
        raise JoinError(f"Nothing of the picture fits the {draft.projection.name} projection", remedy="Choose another")
    return (*map(float, plane.min(0)), *map(float, plane.max(0))), float(1 - np.mean(within))  # type: ignore[return-value]


def _reached(draft: Canvas, world: Directions) -> tuple[Places, Flags]:
    """Where directions (N, 3) within the projection's reach lie on its plane, (M, 2) in radians, and which they are, (N,) bool."""
    limits = draft.projection.limits
    local: Directions = world @ draft.canvas_from_world.T
    if draft.projection.name in ("rectilinear", "stereographic"):
        off_axis = np.arccos(np.clip(local[:, 2] / np.linalg.norm(local, axis=1), -1, 1))
        within = off_axis <= limits.longitude_rad
    else:
        azimuth, altitude = azimuth_altitude(local)
        within = np.abs(azimuth) <= limits.longitude_rad + 1e-9
        local = direction(azimuth, np.clip(altitude, -limits.latitude_rad, limits.latitude_rad))
    plane = draft.projection.forward(local[within])
    return plane[np.isfinite(plane).all(1)], np.asarray(within)


def _warning(projection: str, box: tuple[float, float, float, float], cut: float) -> str:
    """What a projection that was chosen by hand costs here."""
    told = f" It cannot show all: {100 * cut:.0f} % of what the frames' rims enclose is cut off." if cut > 0.01 else ""
    if projection == "rectilinear":
        half = math.atan(max(-box[0], box[2]))
        if math.degrees(2 * half) > _FLAT_DEG:
            told += (
                f" Flat over {math.degrees(2 * half):.0f}° draws the rim {1 / math.cos(half) ** 2:.0f} times as wide as the "
                "middle: cylinder or panini suit better."
            )
    return told
