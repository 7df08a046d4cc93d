"""A picture that is delivered as a sphere, or a part of one: where its pixels look, and what it shows in any direction."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Protocol

import numpy as np

from idle_lantern.core.base.arrays import Array, Directions, Places
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.directions import CanvasDirections
from idle_lantern.core.pictures.seen_from import SeenFrom
from idle_lantern.core.pictures.source import PictureSource

#: Grid on which it is looked at which part of a sphere a picture shows.
_STEP_DEG = 2
#: Of larger pictures without coarse levels it is told by the canvas alone.
_LOOKED_THROUGH_PX = 16_000_000


class SphereCanvas(CanvasDirections, Protocol):
    """A canvas of the join, as far as a delivery looks at it."""

    @property
    def projection(self) -> Projection:
        """How directions lie on it."""

    @property
    def width(self) -> int:
        """Its pixels across."""

    @property
    def height(self) -> int:
        """Its pixels down."""

    @property
    def px_per_rad(self) -> float:
        """Pixels for a radian in its middle."""

    @property
    def centre_px(self) -> tuple[float, float]:
        """The pixel that looks straight ahead."""

    @property
    def full_circle(self) -> bool:
        """Whether its width closes on itself."""

    @property
    def stretch(self) -> object | None:
        """What bends it, where something does."""

    def cut(self, box: Rectangle) -> SphereCanvas:
        """The part inside a box."""


@dataclass(frozen=True)
class WholeSphere:
    """The canvas of a picture of all directions, twice as wide as high, with azimuth 0 in its middle."""

    width: int
    height: int
    centre_px: tuple[float, float]
    px_per_rad: float
    full_circle: bool = True
    stretch: None = None
    projection: Projection = field(default_factory=lambda: Projection("equirectangular"))

    @staticmethod
    def of(size: tuple[int, int]) -> WholeSphere:
        """That of a picture of that size."""
        return WholeSphere(*size, ((size[0] - 1) / 2, (size[1] - 1) / 2), size[0] / (2 * math.pi))

    def directions(self, pixels: Places) -> Directions:
        """Unit directions (..., 3) of pixels (..., 2)."""
        return self.projection.inverse((np.asarray(pixels) - self.centre_px) / self.px_per_rad)

    def pixels(self, directions: Directions) -> Places:
        """Pixels (..., 2) of directions (..., 3)."""
        return np.asarray(self.projection.forward(directions) * self.px_per_rad + self.centre_px)

    def cut(self, box: Rectangle) -> WholeSphere:
        """The part inside a box."""
        centre = (self.centre_px[0] - box.left, self.centre_px[1] - box.top)
        full = box.width == self.width
        return replace(self, width=box.width, height=box.height, centre_px=centre, full_circle=full)


@dataclass(frozen=True)
class Shown:
    """Which part of the sphere a picture shows, in degrees; ``yaw_deg`` is None where it goes all round."""

    yaw_deg: tuple[float, float] | None
    pitch_deg: tuple[float, float]

    @property
    def middle_deg(self) -> tuple[float, float]:
        """Azimuth and altitude of its middle; ahead at the horizon where it shows that and goes all round."""
        low, high = self.pitch_deg
        if self.yaw_deg is None:
            return 0.0, min(max(0.0, low), high)
        return sum(self.yaw_deg) / 2, (low + high) / 2


@dataclass(frozen=True)
class Ball:
    """A picture and its canvas; the picture may be smaller than the canvas."""

    picture: PictureSource
    canvas: SphereCanvas

    @property
    def px_per_rad(self) -> float:
        """Pixels of the picture for a radian in its middle."""
        return self.canvas.px_per_rad * self.picture.sizes[0][0] / self.canvas.width

    @cached_property
    def seen(self) -> SeenFrom:
        """What it shows in any direction."""
        canvas = self.canvas
        return SeenFrom(self.picture, canvas, (canvas.width, canvas.height), full_circle=canvas.full_circle)

    def shown(self) -> Shown:
        """Which part of the sphere it shows; raises InputError where that is nothing."""
        pitch = np.arange(-90 + _STEP_DEG / 2, 90, _STEP_DEG)
        yaw = np.arange(-180 + _STEP_DEG / 2, 180, _STEP_DEG)
        y, p = np.meshgrid(np.radians(yaw), np.radians(pitch))
        rays = np.dstack([np.cos(p) * np.sin(y), -np.sin(p), np.cos(p) * np.cos(y)])
        if len(self.picture.sizes) > 1 or math.prod(self.picture.sizes[0]) <= _LOOKED_THROUGH_PX:
            there = self.seen.pixels(rays, len(self.picture.sizes) - 1)[..., 3] > 0
        else:  # without coarse levels all of a large picture would be made for this
            with np.errstate(invalid="ignore"):
                u, v = np.moveaxis(self.canvas.pixels(rays), -1, 0)
                there = (u >= -0.5) & (v >= -0.5) & (u < self.canvas.width - 0.5) & (v < self.canvas.height - 0.5)
        if not there.any():
            raise InputError("This picture shows nothing that could be looked round in")
        rows = pitch[there.any(1)]
        return Shown(_arc(yaw[there.any(0)]), (float(rows[0]) - _STEP_DEG / 2, float(rows[-1]) + _STEP_DEG / 2))


def _arc(yaws: Array) -> tuple[float, float] | None:
    """The arc (degrees, from below to above) that azimuths of the grid take up; None where it is all of the circle."""
    gaps = np.diff(np.append(yaws, yaws[0] + 360))
    widest = int(gaps.argmax())
    if gaps[widest] < 3 * _STEP_DEG:
        return None
    start, end = float(yaws[(widest + 1) % len(yaws)]), float(yaws[widest])
    end += 360 if end < start else 0
    turn = 360 * round((start + end) / 2 / 360)
    return start - _STEP_DEG / 2 - turn, end + _STEP_DEG / 2 - turn


def canvas_of_sphere(canvas: SphereCanvas | None, size: tuple[int, int]) -> SphereCanvas:
    """What is known of a picture, or the whole sphere where it is twice as wide as high.

    Raises
    ------
    InputError
        Nothing tells which part of a sphere it is.
    """
    if canvas is not None:
        return canvas
    if size[0] == 2 * size[1]:
        return WholeSphere.of(size)
    raise InputError(
        "Nothing tells which part of a sphere this picture is: it is not twice as wide as high",
        remedy="Give --report REPORT.json, which its join wrote",
    )
