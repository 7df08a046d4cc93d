"""Places of a picture covered by clean ground from elsewhere in it, blended so that no rim shows.

Over a place lies what stands beside it, with the difference of both along the rim carried smoothly inwards: the membrane of Poisson
blending (Perez, Gangnet and Blake 2003) by mean value coordinates (Farbman and others 2009, "Coordinates for instant image cloning"),
which need no solver. Any tile of any level shows the same.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Annotated, Any

import cv2
import msgspec
import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.finish.drawn import Place
from idle_lantern.core.finish.strengths import direction_of
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.directions import CanvasDirections
from idle_lantern.core.pictures.source import PictureSource, region

#: Places along the rim, and nodes across a place, at which the membrane is reckoned.
_ROUND, _NODES = 64, 25
#: The rim is softened from this share of the radius on, and read over so many pixels about it.
_HARD, _RIM_PX = 0.85, 1.2
#: A place of fewer pixels than this shows nothing on a level.
_LEAST_PX = 0.6
#: Clean ground is sought at so many pixels of radius, so many radii away, in so many directions.
_SOUGHT_PX, _AWAY, _DIRECTIONS = 20.0, (2.2, 2.8, 3.6, 4.6, 6.0), 28
#: What lies round a place is kept by so many sectors; it is another where it differs by so many 8-bit levels beyond a change of all of it.
_SECTORS, _OTHER_LEVELS = 8, 14.0
#: Farther ground is worse by this for each radius; a thing on it counts so much.
_PER_RADIUS, _THING = 0.004, 0.6
_PATCHES_BYTES = 64_000_000


class Spot(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A place about ``centre_deg``, covered by the ground about ``source_deg``.

    ``seen`` are 8-bit levels of what lay round both when it was healed (``rims_of``), by which another join is told from the same one.
    """

    centre_deg: Place
    radius_deg: Annotated[float, Meta(gt=0, le=45)]
    source_deg: Place
    seen: Annotated[tuple[Annotated[int, Meta(ge=0, le=255)], ...], Meta(max_length=6 * _SECTORS)] = ()


@dataclass(frozen=True)
class SpotPlace:
    """A spot in pixels of a picture's level: its middle, its half sides, and how far away its ground lies."""

    x: float
    y: float
    across: float
    down: float
    away: tuple[float, float]

    def box(self, width: int, height: int) -> Rectangle | None:
        """The pixels that it covers; None where that are none."""
        left, top = max(0, math.floor(self.x - self.across)), max(0, math.floor(self.y - self.down))
        right, bottom = min(width, math.ceil(self.x + self.across) + 1), min(height, math.ceil(self.y + self.down) + 1)
        return Rectangle(left, top, right - left, bottom - top) if right > left and bottom > top else None


def place_of(spot: Spot, canvas: CanvasDirections, full: tuple[int, int], size: tuple[int, int]) -> SpotPlace | None:
    """Where a spot lies on a level of ``size``; None where the picture does not show it."""
    scale = np.array(full) / np.array(size)
    centre, source = (canvas.pixels(direction_of(p)[None])[0] for p in (spot.centre_deg, spot.source_deg))
    halves = sides_px(canvas, spot.centre_deg, spot.radius_deg)
    if not (np.isfinite(centre).all() and np.isfinite(source).all() and np.isfinite(halves).all()):
        return None
    # whole pixels of the full picture, so that ground is not sampled between them
    away = np.rint(source - centre) / scale
    x, y = (centre + 0.5) / scale - 0.5
    return SpotPlace(
        float(x), float(y), float(halves[0] / scale[0]), float(halves[1] / scale[1]), (float(away[0]), float(away[1]))
    )


def sides_px(canvas: CanvasDirections, centre_deg: Place, radius_deg: float) -> Array:
    """Half the width and height (2,) of a circle about a direction, in pixels of the full picture; infinite where it shows none."""
    d = direction_of(centre_deg)
    side = np.cross(d, [0.0, 1.0, 0.0])
    length = float(np.linalg.norm(side))
    side = side / length if length > 1e-9 else np.array([1.0, 0.0, 0.0])
    up, angle = np.cross(d, side), math.radians(radius_deg)
    middle = canvas.pixels(d[None])[0]
    # by a small angle: a picture that closes on itself has no jump then
    small = min(angle, math.radians(0.2))
    moved = canvas.pixels(np.stack([d * math.cos(small) + w * math.sin(small) for w in (side, -side, up, -up)]))
    off = np.hypot(*(moved - middle).T) * (angle / small)
    # one way may lead out of the canvas
    off = np.where(np.isfinite(off), off, math.inf)
    return np.array([off[:2].min(), off[2:].min()])


class HealedPicture:
    """A picture with its spots covered; its own pixels are never changed."""

    def __init__(self, source: PictureSource, spots: Sequence[Spot], ground: Ground) -> None:
        self._source, self._made_of = source, (source, spots, ground)
        self.sizes, self.tile_px, self.space = source.sizes, source.tile_px, source.space
        canvas, full = ground.direction_canvas, source.sizes[0]
        self._places = [[place_of(spot, canvas, full, size) for spot in spots] for size in source.sizes]
        self._patches: SizedCache[tuple[int, int], tuple[Rectangle, Array, Array] | None] = SizedCache(
            self._patch, lambda made: 64 if made is None else int(made[1].nbytes), _PATCHES_BYTES
        )

    def __reduce__(self) -> tuple[Any, ...]:
        return HealedPicture, self._made_of

    def tile(self, level: int, row: int, column: int) -> Array:
        """One tile (h, w, 3 or 4); raises as the source."""
        tile = self._source.tile(level, row, column)
        left, top = column * self.tile_px, row * self.tile_px
        made: Array | None = None
        for k, place in enumerate(self._places[level]):
            if place is None or place.x + place.across < left or place.x - place.across > left + tile.shape[1]:
                continue
            if place.y + place.down < top or place.y - place.down > top + tile.shape[0]:
                continue
            patch = self._patches.load((level, k))
            if patch is not None:
                made = tile.astype(np.float32) if made is None else made
                _laid(made, left, top, *patch)
        if made is None:
            return tile
        return made if tile.dtype.kind == "f" else np.rint(made.clip(0, np.iinfo(tile.dtype).max)).astype(tile.dtype)

    def _patch(self, at: tuple[int, int]) -> tuple[Rectangle, Array, Array] | None:
        """The box of a spot on a level, its new colours (h, w, 3) and how far they cover (h, w)."""
        level, k = at
        place = self._places[level][k]
        assert place is not None
        width, height = self.sizes[level]
        box = place.box(width, height)
        if min(place.across, place.down) < _LEAST_PX or box is None:
            return None
        here = _grown(box, 4, width, height)
        below = _region(self._source, here, level)
        ground = _region_at(self._source, here, place.away, level)
        apart = below - ground
        blur = max(_RIM_PX, 0.05 * min(place.across, place.down))
        apart = cv2.GaussianBlur(apart, (0, 0), blur, borderType=cv2.BORDER_REPLICATE)
        turn = np.linspace(0, 2 * math.pi, _ROUND, endpoint=False)
        rim_x = (place.x + place.across * np.cos(turn) - here.left).astype(np.float32)
        rim_y = (place.y + place.down * np.sin(turn) - here.top).astype(np.float32)
        rim = cv2.remap(apart, rim_x[None], rim_y[None], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[0]
        membrane = (_membrane_weights() @ rim.reshape(_ROUND, 3)).reshape(_NODES, _NODES, 3).astype(np.float32)
        x = (np.arange(box.left, box.left + box.width) - place.x) / place.across
        y = (np.arange(box.top, box.top + box.height) - place.y) / place.down
        across, down = (((v + 1) / 2 * (_NODES - 1)).clip(0, _NODES - 1).astype(np.float32) for v in (x, y))
        inner = cv2.remap(membrane, *np.meshgrid(across, down), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        top, left = box.top - here.top, box.left - here.left
        colours = ground[top : top + box.height, left : left + box.width] + inner
        radius = np.hypot(x[None], y[:, None])
        share = np.clip((1 - radius) / (1 - _HARD), 0, 1).astype(np.float32)
        return box, colours, share * share * (3 - 2 * share)


def covered(spots: Sequence[Spot], canvas: CanvasDirections, size: tuple[int, int]) -> list[tuple[Rectangle, float]]:
    """What of a picture of ``size`` spots cover: the box of each, and how many pixels of it."""
    found = []
    for spot in spots:
        place = place_of(spot, canvas, size, size)
        box = None if place is None else place.box(*size)
        if place is not None and box is not None:
            found.append((box, min(float(box.area), math.pi * place.across * place.down)))
    return found


def rims_of(picture: PictureSource, ground: Ground, spot: Spot) -> tuple[int, ...]:
    """What lies round a place and round its ground, red, green, blue by sectors in 8-bit levels; empty where the picture shows not both."""
    canvas, full = ground.direction_canvas, picture.sizes[0]
    level = _level_for(picture, sides_px(canvas, spot.centre_deg, spot.radius_deg))
    size = picture.sizes[level]
    place = place_of(spot, canvas, full, size)
    if place is None:
        return ()
    told: list[int] = []
    turn = np.linspace(0, 2 * math.pi, 6 * _SECTORS, endpoint=False)
    ring = np.stack([np.stack([np.cos(turn), np.sin(turn)], -1) * r for r in (1.05, 1.2, 1.35)])
    for x, y in ((place.x, place.y), (place.x + place.away[0], place.y + place.away[1])):
        at = ring * [place.across, place.down] + [x, y]
        low, high = np.floor(at.min((0, 1))).astype(int) - 1, np.ceil(at.max((0, 1))).astype(int) + 2
        box = Rectangle(int(low[0]), int(low[1]), int(high[0] - low[0]), int(high[1] - low[1]))
        if box.left < 0 or box.top < 0 or box.left + box.width > size[0] or box.top + box.height > size[1]:
            return ()
        pixels = _region(picture, box, level) / _full_scale(picture)
        if picture.space.is_linear:
            pixels = picture.space.up_to(1.0).from_linear(np.clip(pixels, 0, 1))
        off = (at - low).astype(np.float32)
        seen = cv2.remap(pixels, off[..., 0], off[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        sectors = seen.reshape(3, _SECTORS, 6, 3).mean((0, 2))
        told += [int(v) for v in np.rint(sectors.clip(0, 1) * 255).ravel()]
    return tuple(told)


def otherwise(picture: PictureSource, ground: Ground, spots: Sequence[Spot]) -> list[int]:
    """Which spots lie on other ground than when they were healed, or no longer in the picture: another join, which may need them otherwise."""
    found = []
    for k, spot in enumerate(spots):
        if not spot.seen:
            continue
        now = rims_of(picture, ground, spot)
        if len(now) != len(spot.seen):
            found.append(k)
            continue
        new, old = (np.array(levels, float).reshape(2 * _SECTORS, 3) for levels in (now, spot.seen))
        # another exposure or white balance of all of it is no other ground
        gain = np.median((new + 1) / (old + 1), 0)
        if float(np.quantile(np.abs(new - gain * old).mean(-1), 0.9)) > _OTHER_LEVELS:
            found.append(k)
    return found


def _level_for(picture: PictureSource, halves: Array) -> int:
    """The level on which a place of such half sides in full pixels is looked at."""
    sizes, level = picture.sizes, 0
    while level + 1 < len(sizes) and min(halves * np.array(sizes[level + 1]) / np.array(sizes[0])) >= _SOUGHT_PX:
        level += 1
    return level


def ground_for(picture: PictureSource, ground: Ground, centre_deg: Place, radius_deg: float) -> Place | None:
    """Where clean ground for a place is: that whose rim is most like the place's and that has no thing on it.

    None where the picture does not show the place, or has no room beside it.
    """
    canvas, full = ground.direction_canvas, picture.sizes[0]
    halves = sides_px(canvas, centre_deg, radius_deg)
    if not np.isfinite(halves).all():
        return None
    sizes, level = picture.sizes, _level_for(picture, halves)
    here = place_of(Spot(centre_deg, radius_deg, centre_deg), canvas, full, sizes[level])
    if here is None:
        return None
    width, height = sizes[level]
    u, v = np.meshgrid(np.linspace(-1.4, 1.4, 29), np.linspace(-1.4, 1.4, 29))
    off = np.hypot(u, v)
    ring, inside = (off > 1) & (off < 1.4), off < 0.9
    dx, dy = u * here.across, v * here.down
    reach = 1.4 + max(_AWAY)
    box = _grown(
        Rectangle(int(here.x), int(here.y), 1, 1), math.ceil(reach * max(here.across, here.down)) + 2, width, height
    )
    pixels = _region(picture, box, level) / (1 if picture.space.is_linear else _full_scale(picture))
    gap = _gaps(picture, box, level)
    pixels = cv2.GaussianBlur(pixels, (0, 0), 1.0)

    def seen(x: float, y: float) -> tuple[Array, bool]:
        at_x, at_y = (x + dx - box.left).astype(np.float32), (y + dy - box.top).astype(np.float32)
        whole = at_x.min() >= 0 and at_y.min() >= 0 and at_x.max() <= box.width - 1 and at_y.max() <= box.height - 1
        if whole and gap is not None:
            whole = not bool(gap[np.rint(at_y).astype(int), np.rint(at_x).astype(int)].any())
        return cv2.remap(pixels, at_x, at_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE), whole

    own, _whole = seen(here.x, here.y)
    best: tuple[float, float, float] | None = None
    for away in _AWAY:
        for turn in np.arange(_DIRECTIONS) * 2 * math.pi / _DIRECTIONS:
            x, y = here.x + away * here.across * math.cos(turn), here.y + away * here.down * math.sin(turn)
            there, whole = seen(x, y)
            if not whole:
                continue
            # differences in the even part are carried away by the membrane: what stays is texture and edges
            apart = (there - own)[ring]
            alike = float(np.abs(apart - 0.7 * apart.mean(0)).mean())
            thing = float(
                np.abs(there[inside].mean(0) - there[ring].mean(0)).mean()
                + 0.5 * max(0.0, there[inside].std() - there[ring].std())
            )
            cost = alike + _THING * thing + _PER_RADIUS * away
            if best is None or cost < best[0]:
                best = cost, x, y
    if best is None:
        return None
    scale = np.array(full) / np.array(sizes[level])
    d = canvas.directions((np.array(best[1:]) + 0.5) * scale - 0.5)
    if not np.isfinite(d).all():
        return None
    return (
        round(math.degrees(math.atan2(d[0], d[2])), 5),
        round(math.degrees(math.atan2(-d[1], math.hypot(d[0], d[2]))), 5),
    )


def _laid(tile: Array, left: int, top: int, box: Rectangle, colours: Array, share: Array) -> None:
    """Lay a patch over the part of a tile (h, w, 3 or 4) that it covers; gaps stay gaps."""
    x0, y0 = max(left, box.left), max(top, box.top)
    x1, y1 = min(left + tile.shape[1], box.left + box.width), min(top + tile.shape[0], box.top + box.height)
    if x1 <= x0 or y1 <= y0:
        return
    part = tile[y0 - top : y1 - top, x0 - left : x1 - left, :3]
    new = np.s_[y0 - box.top : y1 - box.top, x0 - box.left : x1 - box.left]
    part += share[new][..., None] * (colours[new] - part)


@lru_cache(maxsize=1)
def _membrane_weights() -> Array:
    """Mean value coordinates of nodes over the square about the unit circle by places on it, (_NODES^2, _ROUND)."""
    turn = np.linspace(0, 2 * math.pi, _ROUND, endpoint=False)
    rim = np.stack([np.cos(turn), np.sin(turn)], -1)
    x, y = np.meshgrid(np.linspace(-1, 1, _NODES), np.linspace(-1, 1, _NODES))
    nodes = np.stack([x, y], -1).reshape(-1, 2)
    # beyond the rim nothing is covered: the value there is that of the rim
    nodes = nodes / np.maximum(1, np.hypot(*nodes.T) / 0.97)[:, None]
    to = rim[None] - nodes[:, None]
    length = np.linalg.norm(to, axis=-1)
    way = np.arctan2(to[..., 1], to[..., 0])
    half = (np.roll(way, -1, 1) - way + math.pi) % (2 * math.pi) - math.pi
    tangent = np.tan(half / 2)
    weights = (np.roll(tangent, 1, 1) + tangent) / length
    return np.asarray(weights / weights.sum(1, keepdims=True))


def _grown(box: Rectangle, by: int, width: int, height: int) -> Rectangle:
    left, top = max(0, box.left - by), max(0, box.top - by)
    right, bottom = min(width, box.left + box.width + by), min(height, box.top + box.height + by)
    return Rectangle(left, top, right - left, bottom - top)


def _full_scale(source: PictureSource) -> float:
    dtype = source.tile(len(source.sizes) - 1, 0, 0).dtype
    return 1.0 if dtype.kind == "f" else float(np.iinfo(dtype).max)


def _region(source: PictureSource, box: Rectangle, level: int) -> Array:
    """Colours of a box, (h, w, 3) float32."""
    return region(source, box, level)[..., :3].astype(np.float32)


def _gaps(source: PictureSource, box: Rectangle, level: int) -> Array | None:
    pixels = region(source, box, level)
    return None if pixels.shape[2] == 3 else pixels[..., 3] == 0


def _region_at(source: PictureSource, box: Rectangle, away: tuple[float, float], level: int) -> Array:
    """Colours of a box so far away, between pixels where need be; the rim goes on beyond the picture."""
    width, height = source.sizes[level]
    left, top = box.left + away[0], box.top + away[1]
    wide = Rectangle(math.floor(left) - 1, math.floor(top) - 1, box.width + 3, box.height + 3)
    inside = _grown(
        Rectangle(min(max(wide.left, 0), width - 1), min(max(wide.top, 0), height - 1), 1, 1), 0, width, height
    )
    right, bottom = min(width, max(1, wide.left + wide.width)), min(height, max(1, wide.top + wide.height))
    inside = Rectangle(inside.left, inside.top, max(1, right - inside.left), max(1, bottom - inside.top))
    pixels = _region(source, inside, level)
    x = (left + np.arange(box.width) - inside.left).astype(np.float32)
    y = (top + np.arange(box.height) - inside.top).astype(np.float32)
    return np.asarray(cv2.remap(pixels, *np.meshgrid(x, y), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))
