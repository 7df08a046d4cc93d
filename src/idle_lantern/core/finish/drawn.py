"""Masks that are drawn by hand, as lines of directions: painted along them, or inside them. Any picture of the place shows them alike.

A line is drawn in a tile's own pixels, and the angle from each pixel to the nearest place on it tells the strength. Where a brush is
wide the tile is looked at in steps of several pixels, the same ones for every tile.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import cv2
import msgspec
import numpy as np
from msgspec import Meta

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.finish.strengths import direction_of, ramp
from idle_lantern.core.finish.tile_look import TileLook

Yaw = Annotated[float, Meta(ge=-360, le=360)]
Pitch = Annotated[float, Meta(ge=-90, le=90)]
#: Azimuth and altitude.
Place = tuple[Yaw, Pitch]
#: Most places of a mask that is drawn: some hours of drawing.
MOST_PLACES = 100_000
#: A brush is looked at with a radius of so many steps at most.
_MOST_STEPS = 64
#: Places of a line lie so near, in degrees, that it is straight between them.
_STEP_DEG = 1.0
#: Fractions of a pixel in which OpenCV takes places of a line.
_SHIFT = 4


class Stroke(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A stroke of a brush of that radius through places; ``rubs`` takes away what strokes before it laid."""

    places_deg: Annotated[tuple[Place, ...], Meta(min_length=1, max_length=MOST_PLACES)]
    radius_deg: Annotated[float, Meta(gt=0, le=90)]
    rubs: bool = False


def painted(strokes: Sequence[Stroke], soft: float, look: TileLook) -> Array:
    """Strength (h, w) of strokes, the later over the earlier ones; ``soft`` is the share of the radius that falls off."""
    strength = np.zeros(look.alpha.shape, np.float32)
    for stroke in strokes:
        line = _line(stroke.places_deg)
        reach = _reach_px(look, line, stroke.radius_deg)
        off = _Steps.over(look, reach).off_deg(look, line, reach, stroke.radius_deg)
        if off is None:
            continue
        hard = stroke.radius_deg * (1 - soft)
        laid = ramp(np.maximum(off - hard, 0), stroke.radius_deg - hard)
        strength = strength * (1 - laid) if stroke.rubs else np.maximum(strength, laid)
    return strength


def enclosed(places_deg: Sequence[Place], feather_deg: float, look: TileLook) -> Array:
    """Strength (h, w) inside a line that closes; one round the whole horizon encloses the pole that is nearer to it."""
    line = _line([*places_deg, places_deg[0]])
    reach = _reach_px(look, line, feather_deg) if feather_deg > 0 else 1.0
    steps = _Steps.over(look, reach)
    drawn = np.zeros(steps.shape, np.uint8)
    for path in _paths(look, line, closed=True, up=float(np.mean([p[1] for p in places_deg])) > 0):
        cv2.fillPoly(drawn, [steps.fixed(look, path)], 1, shift=_SHIFT)
    inside = steps.spread(look, drawn.astype(np.float32))
    if feather_deg <= 0 or drawn.all():
        return inside
    off = steps.off_deg(look, line, reach, feather_deg)
    return inside if off is None else np.maximum(inside, ramp(off, feather_deg))


@dataclass(frozen=True)
class _Steps:
    """A grid of places ``step`` pixels of the level apart: over a tile from ``left`` and ``top``, in grid places, of a shape."""

    step: int
    left: int
    top: int
    shape: tuple[int, int]

    @classmethod
    def over(cls, look: TileLook, reach_px: float) -> _Steps:
        """For what reaches so far, in pixels of the level."""
        step = 2 ** max(0, math.floor(math.log2(max(1.0, reach_px / _MOST_STEPS))))
        box = look.at.box
        left, top = box.left // step, box.top // step
        right, bottom = -(-(box.left + box.width) // step) + 1, -(-(box.top + box.height) // step) + 1
        return cls(step, left, top, (bottom - top, right - left))

    def wider(self, by: int) -> _Steps:
        """With so many more on each side."""
        return _Steps(self.step, self.left - by, self.top - by, (self.shape[0] + 2 * by, self.shape[1] + 2 * by))

    def fixed(self, look: TileLook, path: Array) -> Array:
        """Places (n, 2) in full pixels as OpenCV's fixed numbers on this grid."""
        at = ((path + 0.5) / look.at.scale - 0.5) / self.step - (self.left, self.top)
        return np.asarray(np.rint(np.clip(at, -30_000, 30_000) * 2**_SHIFT), np.int32)

    def full(self, look: TileLook, at: Array) -> Array:
        """Grid places (..., 2) of across and down in pixels of the full picture."""
        return np.asarray(((np.add(at, (self.left, self.top))) * self.step + 0.5) * look.at.scale - 0.5)

    def off_deg(self, look: TileLook, line: Array, reach_px: float, reach_deg: float) -> Array | None:
        """The angle of each pixel of the tile from a line of directions (n, 3), (h, w); infinite beyond its reach, None where all is."""
        more = math.ceil(reach_px / self.step) + 2
        wide = self.wider(more)
        canvas = look.ground.direction_canvas
        drawn = np.zeros(wide.shape, np.uint8)
        for path in _paths(look, line):
            cv2.polylines(drawn, [wide.fixed(look, path)], False, 1, shift=_SHIFT)
        if not drawn.any():
            return None
        apart, nearest = cv2.distanceTransformWithLabels(
            1 - drawn, cv2.DIST_L2, cv2.DIST_MASK_5, labelType=cv2.DIST_LABEL_PIXEL
        )
        inner = np.s_[more : more + self.shape[0], more : more + self.shape[1]]
        near = apart[inner] <= more
        if not near.any():
            return None
        rows, columns = np.nonzero(drawn)
        on_line = np.zeros((int(nearest.max()) + 1, 3))
        on_line[nearest[rows, columns]] = canvas.directions(
            wide.full(look, np.stack([columns, rows], -1).astype(float))
        )
        y, x = np.nonzero(near)
        here = canvas.directions(self.full(look, np.stack([x, y], -1).astype(float)))
        between = np.linalg.norm(here - on_line[nearest[inner][near]], axis=-1)
        # what lies far off stays finite: between grid places the angle is evened
        off = np.full(self.shape, 4 * reach_deg + 1, np.float32)
        off[near] = np.nan_to_num(np.degrees(2 * np.arcsin(np.clip(between / 2, 0, 1))), nan=4 * reach_deg + 1)
        return self.spread(look, off)

    def spread(self, look: TileLook, values: Array) -> Array:
        """Values on the grid (rows, columns) for each pixel of the tile, (h, w), evenly between."""
        box = look.at.box
        if self.step == 1:
            return np.asarray(values[: box.height, : box.width])
        rows = _between(box.top, box.height, self.step, self.top, self.shape[0])
        columns = _between(box.left, box.width, self.step, self.left, self.shape[1])
        return np.asarray(rows @ values.astype(np.float32) @ columns.T)


def _between(first: int, count: int, step: int, begin: int, nodes: int) -> Array:
    """Weights (count, nodes) of grid places for pixels from ``first`` on."""
    at = (first + np.arange(count)) / step - begin
    low = np.minimum(at.astype(int), nodes - 2)
    weights = np.zeros((count, nodes), np.float32)
    weights[np.arange(count), low] = 1 - (at - low)
    weights[np.arange(count), low + 1] = at - low
    return weights


def _line(places_deg: Sequence[Place]) -> Array:
    """Directions (n, 3) along a line of places, near enough to each other; a single place is a dot."""
    corners = np.array([direction_of(p) for p in places_deg])
    if len(corners) == 1:
        return np.concatenate([corners, corners])
    made = [corners[:1]]
    for one, other in zip(corners, corners[1:]):
        angle = math.degrees(2 * math.asin(min(1.0, float(np.linalg.norm(one - other)) / 2)))
        share = np.linspace(0, 1, max(2, math.ceil(angle / _STEP_DEG) + 1))[1:, None]
        between = one * (1 - share) + other * share
        made.append(between / np.maximum(np.linalg.norm(between, axis=1, keepdims=True), 1e-9))
    return np.concatenate(made)


def _reach_px(look: TileLook, line: Array, radius_deg: float) -> float:
    """How far a circle of that radius about places of a line reaches, in pixels of the level."""
    canvas, some = look.ground.direction_canvas, line[:: max(1, len(line) // 16)]
    side = np.cross(some, [0.0, 1.0, 0.0])
    side /= np.maximum(np.linalg.norm(side, axis=1, keepdims=True), 1e-9)
    up = np.cross(some, side)
    middle, angle = canvas.pixels(some), math.radians(radius_deg)
    width = look.ground.size[0]
    most = 1.0
    for way in (side, -side, up, -up):
        moved = canvas.pixels(some * math.cos(angle) + way * math.sin(angle)) - middle
        moved[:, 0] = np.where(np.abs(moved[:, 0]) > width / 2, width - np.abs(moved[:, 0]), moved[:, 0])
        far = np.hypot(*moved.T)
        most = max(most, float(np.nanmax(far)) if np.isfinite(far).any() else 1.0)
    return most / min(look.at.scale)


def _paths(look: TileLook, line: Array, *, closed: bool = False, up: bool = True) -> list[Array]:
    """A line in full pixels, (n, 2) each: in parts where the canvas lacks it, again beside itself where the picture closes on itself.

    A closed one that goes once round is led over the pole above or below.
    """
    canvas, (width, height) = look.ground.direction_canvas, look.ground.size
    at = np.asarray(canvas.pixels(line), float)
    known = np.isfinite(at).all(1)
    if not known.all() and closed:
        at, known = at[known], np.ones(int(known.sum()), bool)
    parts = []
    for part in np.split(np.arange(len(at)), np.flatnonzero(np.diff(known.astype(int))) + 1):
        if len(part) < 2 or not known[part[0]]:
            continue
        path = at[part]
        jumps = np.abs(np.diff(path[:, 0])) > width / 2
        if not jumps.any():
            parts.append(path)
            continue
        path[:, 0] = np.unwrap(path[:, 0], period=float(width))
        if closed and abs(path[-1, 0] - path[0, 0]) > width / 2:
            edge = -2.0 if up else height + 1.0
            path = np.concatenate([path, [[path[-1, 0], edge], [path[0, 0], edge]]])
        parts += [np.add(path, (by, 0)) for by in (-width, 0, width)]
    return parts
