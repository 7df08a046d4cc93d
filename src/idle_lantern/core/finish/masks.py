"""Masks: where a step works, and how much. They live in directions, so another projection, level or crop keeps them.

A strength is 1 inside, 0 outside, and falls evenly over the feather, which lies outside. What is not in directions is told by what is
seen there, or by a picture.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import lru_cache, reduce
from pathlib import Path
from typing import Annotated, Any

import cv2
import msgspec
import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.finish.drawn import MOST_PLACES, Pitch, Place, Stroke, Yaw, enclosed, painted
from idle_lantern.core.finish.strengths import direction_of, hue_strength, ramp
from idle_lantern.core.finish.tile_look import Ground, TileLook

Share = Annotated[float, Meta(ge=0, le=1)]
Feather = Annotated[float, Meta(ge=0, le=180, extra={"title": "Feather", "unit": "degrees"})]


class MaskKind(msgspec.Struct, frozen=True, tag_field="kind", forbid_unknown_fields=True, kw_only=True):
    """A mask; its strength is a function of the tile alone."""

    @property
    def of_place(self) -> bool:
        """Whether it asks where a tile lies only, and not what is seen there."""
        return True

    @property
    def files(self) -> tuple[str, ...]:
        """The files that it names."""
        return ()

    def strength(self, look: TileLook) -> Array:
        """How much of a step is seen, (h, w) float32 from 0 to 1."""
        raise NotImplementedError

    def check(self, ground: Ground) -> None:
        """Say before the work starts whether the mask can be used with a picture; raises InputError."""


class InDirections(MaskKind, frozen=True, kw_only=True):
    """A mask that asks where the picture looks."""

    def check(self, ground: Ground) -> None:
        """As of ``MaskKind``."""
        _ = ground.direction_canvas


class Directions(InDirections, frozen=True, tag="directions", kw_only=True):
    """Between two azimuths, to the right from the first to the second, and between two altitudes."""

    yaw_deg: tuple[Yaw, Yaw] = (-180.0, 180.0)
    pitch_deg: tuple[Pitch, Pitch] = (-90.0, 90.0)
    feather_deg: Feather = 0.0

    def strength(self, look: TileLook) -> Array:
        """(h, w) float32; as of ``MaskKind``."""
        x, y, z = look.directions
        low, high = sorted(self.pitch_deg)
        strength = np.ones(look.alpha.shape, np.float32)
        if low > -90 or high < 90:
            pitch = np.arctan2(-y, np.sqrt(x * x + z * z)) * _DEG
            strength = ramp(np.maximum(low - pitch, pitch - high), self.feather_deg)
        wide = self.yaw_deg[1] - self.yaw_deg[0]
        if abs(wide) >= 360:
            return strength
        half = (wide % 360) / 2
        middle = math.radians(self.yaw_deg[0] + half)
        # about the middle of the part, so that nothing jumps at the back
        cos, sin = np.float32(math.cos(middle)), np.float32(math.sin(middle))
        off = np.abs(np.arctan2(x * cos - z * sin, z * cos + x * sin)) * _DEG - np.float32(half)
        return strength * ramp(off, self.feather_deg)


class Gradient(InDirections, frozen=True, tag="gradient", kw_only=True):
    """Nothing at the first place and beyond, all of it at the second and beyond, evenly between."""

    begin_deg: Place
    end_deg: Place

    def strength(self, look: TileLook) -> Array:
        """(h, w) float32; as of ``MaskKind``."""
        begin, end = direction_of(self.begin_deg), direction_of(self.end_deg)
        across = end - (end @ begin) * begin
        length = float(np.linalg.norm(across))
        if length < 1e-9:
            return np.zeros(look.alpha.shape, np.float32)
        along = np.arctan2(_dot(look.directions, across / length), _dot(look.directions, begin))
        return np.asarray(np.nan_to_num(np.clip(along / math.atan2(length, float(end @ begin)), 0, 1)), np.float32)


class Round(InDirections, frozen=True, tag="round", kw_only=True):
    """Within an angle of a place."""

    centre_deg: Place
    radius_deg: Annotated[float, Meta(gt=0, le=180, extra={"title": "Radius", "unit": "degrees"})]
    feather_deg: Feather = 0.0

    def strength(self, look: TileLook) -> Array:
        """(h, w) float32; as of ``MaskKind``."""
        middle = direction_of(self.centre_deg)
        x, y, z = (d - np.float32(m) for d, m in zip(look.directions, middle))
        # by the chord, which tells small angles exactly
        apart = np.arcsin(np.minimum(np.sqrt(x * x + y * y + z * z) / 2, 1)) * (2 * _DEG)
        return ramp(apart - np.float32(self.radius_deg), self.feather_deg)


class Sky(InDirections, frozen=True, tag="sky", kw_only=True):
    """Above a skyline of azimuths and altitudes, straight between them; where it has none within six degrees there is no sky."""

    skyline: Annotated[tuple[Place, ...], Meta(min_length=2, max_length=MOST_PLACES)]
    feather_deg: Feather = 0.5

    def strength(self, look: TileLook) -> Array:
        """(h, w) float32; as of ``MaskKind``."""
        yaw, pitch = look.angles_deg
        azimuth, altitude = np.array(sorted((place[0] % 360, place[1]) for place in self.skyline)).T
        at = yaw.astype(np.float64)
        height = np.interp(at, azimuth, altitude, period=360)
        strength = ramp(np.asarray(height - pitch, np.float32), self.feather_deg)
        gaps = np.diff(np.append(azimuth, azimuth[0] + 360))
        if gaps.max() > 2 * _NEAR_DEG:
            after = np.searchsorted(azimuth, at % 360) % len(azimuth)
            apart = [np.abs((azimuth[k % len(azimuth)] - at + 180) % 360 - 180) for k in (after, after - 1)]
            strength[np.minimum(*apart) > _NEAR_DEG] = 0
        return strength


class Brightness(MaskKind, frozen=True, tag="brightness", kw_only=True):
    """Where what is shown is between two brightnesses: the display value of its luminance, for a grey its own value."""

    range: tuple[Share, Share] = (0.0, 1.0)
    feather: Share = 0.0

    @property
    def of_place(self) -> bool:
        """As of ``MaskKind``."""
        return False

    def strength(self, look: TileLook) -> Array:
        """(h, w) float32; as of ``MaskKind``."""
        # what is black or white, or beyond, belongs to the ends
        shown = np.clip(look.ground.brightness(look.seen("linear")), 0, 1)
        low, high = sorted(self.range)
        return ramp(np.maximum(low - shown, shown - high), self.feather)


class Colour(MaskKind, frozen=True, tag="colour", kw_only=True):
    """Where the hue (of Oklab, in degrees: about 30 red, 110 yellow, 145 green, 260 blue) lies within a width of one.

    ``chroma`` is from which strength of colour on; a grey has no hue.
    """

    hue_deg: Yaw
    width_deg: Annotated[float, Meta(ge=0, le=360)] = 40.0
    feather_deg: Feather = 20.0
    chroma: Share = 0.02

    @property
    def of_place(self) -> bool:
        """As of ``MaskKind``."""
        return False

    def strength(self, look: TileLook) -> Array:
        """(h, w) float32; as of ``MaskKind``."""
        lab = look.seen("oklab")
        return hue_strength(lab, self.hue_deg, self.width_deg, self.feather_deg, self.chroma)


class Picture(MaskKind, frozen=True, tag="picture", kw_only=True):
    """A picture in grey, laid over all of this one: white is all of it, black nothing; ``asset`` is its file."""

    asset: Annotated[str, Meta(min_length=1, max_length=1024)]

    @property
    def files(self) -> tuple[str, ...]:
        """As of ``MaskKind``."""
        return (self.asset,)

    def strength(self, look: TileLook) -> Array:
        """(h, w) float32; as of ``MaskKind``."""
        grey = _mask_picture(look.ground.assets(self.asset))
        h, w = grey.shape
        box, (fx, fy) = look.at.box, look.at.scale
        full = look.ground.size
        x = ((np.arange(box.left, box.left + box.width) + 0.5) * fx * w / full[0] - 0.5).clip(0, w - 1)
        y = ((np.arange(box.top, box.top + box.height) + 0.5) * fy * h / full[1] - 0.5).clip(0, h - 1)
        x0, y0 = (np.minimum(v.astype(int), max(0, n - 2)) for v, n in ((x, w), (y, h)))
        x1, y1 = np.minimum(x0 + 1, w - 1), np.minimum(y0 + 1, h - 1)
        right, down = (x - x0).astype(np.float32), (y - y0).astype(np.float32)[:, None]
        upper = grey[y0][:, x0] * (1 - right) + grey[y0][:, x1] * right
        lower = grey[y1][:, x0] * (1 - right) + grey[y1][:, x1] * right
        return np.asarray(upper * (1 - down) + lower * down)

    def check(self, ground: Ground) -> None:
        """As of ``MaskKind``."""
        h, w = _mask_picture(ground.assets(self.asset)).shape
        if abs(w / h / (ground.size[0] / ground.size[1]) - 1) > _OTHER_SHAPE:
            raise InputError(
                f"Is a mask of {w} x {h} pixels, and the picture has another shape",
                where=self.asset,
                remedy="Take the mask that was made for this picture",
            )


class Joined(MaskKind, frozen=True, kw_only=True):
    """A mask made of others."""

    of: Annotated[tuple[Mask, ...], Meta(min_length=1, max_length=100)]

    @property
    def of_place(self) -> bool:
        """As of ``MaskKind``."""
        return all(mask.of_place for mask in self.of)

    @property
    def files(self) -> tuple[str, ...]:
        """As of ``MaskKind``."""
        return tuple(name for mask in self.of for name in mask.files)

    def check(self, ground: Ground) -> None:
        """As of ``MaskKind``."""
        for mask in self.of:
            mask.check(ground)


class All(Joined, frozen=True, tag="all", kw_only=True):
    """Where all of some masks are: the least of their strengths."""

    def strength(self, look: TileLook) -> Array:
        """(h, w) float32; as of ``MaskKind``."""
        return _joined(np.minimum, self.of, look)


class AnyOf(Joined, frozen=True, tag="any", kw_only=True):
    """Where any of some masks is: the greatest of their strengths."""

    def strength(self, look: TileLook) -> Array:
        """(h, w) float32; as of ``MaskKind``."""
        return _joined(np.maximum, self.of, look)


class Not(Joined, frozen=True, tag="not", kw_only=True):
    """Where none of some masks is."""

    def strength(self, look: TileLook) -> Array:
        """(h, w) float32; as of ``MaskKind``."""
        return 1 - _joined(np.maximum, self.of, look)


class Brush(InDirections, frozen=True, tag="brush", kw_only=True):
    """Painted by hand; ``soft`` is the share of the radius over which a stroke's rim falls off."""

    strokes: Annotated[tuple[Stroke, ...], Meta(max_length=MOST_PLACES)] = ()
    soft: Share = 0.5

    def strength(self, look: TileLook) -> Array:
        """(h, w) float32; as of ``MaskKind``."""
        return painted(self.strokes, self.soft, look)


class Polygon(InDirections, frozen=True, tag="polygon", kw_only=True):
    """Inside a line through places, which closes by itself."""

    places_deg: Annotated[tuple[Place, ...], Meta(min_length=3, max_length=MOST_PLACES)]
    feather_deg: Feather = 0.0

    def strength(self, look: TileLook) -> Array:
        """(h, w) float32; as of ``MaskKind``."""
        return enclosed(self.places_deg, self.feather_deg, look)


Mask = Directions | Gradient | Round | Sky | Brightness | Colour | Picture | Brush | Polygon | All | AnyOf | Not

_DEG = np.float32(180 / math.pi)
#: A skyline reaches so far beyond its places.
_NEAR_DEG = 6.0
#: A mask picture of another shape than this share is one of another picture.
_OTHER_SHAPE = 0.02


def _dot(directions: Array, other: Array) -> Array:
    """Products (h, w) of directions (3, h, w) with one (3,)."""
    x, y, z = (np.float32(v) for v in other)
    return np.asarray(directions[0] * x + directions[1] * y + directions[2] * z)


def _joined(by: Callable[[Any, Any], Any], masks: Sequence[Mask], look: TileLook) -> Array:
    return np.asarray(reduce(by, (mask.strength(look) for mask in masks)))


@lru_cache(maxsize=4)
def _mask_picture(path: Path) -> Array:
    """A mask in grey, (h, w) float32 from 0 to 1.

    Raises
    ------
    InputError
        It is missing or no picture.
    """
    grey = cv2.imread(str(path), cv2.IMREAD_GRAYSCALE | cv2.IMREAD_ANYDEPTH)
    if grey is None or grey.dtype.kind != "u":
        raise InputError("Cannot be read as a mask", where=str(path), remedy="Give a PNG in grey")
    return np.asarray(grey / np.float32(np.iinfo(grey.dtype).max), np.float32)
