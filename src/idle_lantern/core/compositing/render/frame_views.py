"""How frames show on a tile: places, coverage, share of the label, and who wins."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.reducing import halved
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.render.tile_boxes import Box, part_of
from idle_lantern.core.geometry.lenses import Lens


@dataclass(frozen=True)
class Levels:
    """A frame and its half: blending beyond a seam needs no more than the half."""

    picture: Picture
    half: Array

    @classmethod
    def of(cls, picture: Picture) -> Levels:
        """Pixel (x, y) of the half lies at (2x + 0.5, 2y + 0.5) of the frame."""
        return cls(picture, halved(picture.pixels))

    @property
    def nbytes(self) -> int:
        """Memory it takes."""
        return int(self.picture.pixels.nbytes + self.half.nbytes)


@dataclass(frozen=True)
class FrameView:
    """One frame in a box of a tile: places in the frame, where it shows anything, its share of the label."""

    box: Box
    places: Array
    inside: Array
    share: Array | None


@dataclass(frozen=True)
class Piece:
    """Which frames show at every ``every``-th pixel of a tile, and who wins."""

    views: dict[int, FrameView]
    winner: Array

    @property
    def winners(self) -> list[int]:
        """Frames that win somewhere."""
        return [k for k, view in self.views.items() if (self.winner[view.box] == k).any()]


def reach_rad(lens: Lens) -> float:
    """Angle from the axis to the farthest corner, a little more."""
    corner = float(lens.angle_rad(math.hypot(lens.width / 2 + abs(lens.cx), lens.height / 2 + abs(lens.cy))))
    return (corner if math.isfinite(corner) else lens.limit_rad) + 0.02


def between(places: Array, count: int) -> Array:
    """Weights (N, count) float32 that interpolate ``count`` values linearly at ``places``, the ends repeated outwards."""
    places = np.clip(places, 0, count - 1)
    low = np.minimum(places.astype(int), max(0, count - 2))
    weights, rows = np.zeros((len(places), count), np.float32), np.arange(len(places))
    weights[rows, low] = 1 - (places - low)
    if count > 1:
        weights[rows, low + 1] = places - low
    return weights


def present(label: Array) -> list[int]:
    """Frames that a piece of the label (h, w) names."""
    return np.flatnonzero(np.bincount(label.ravel() + 1)[1:]).tolist()


def winners(views: dict[int, FrameView], size: tuple[int, int]) -> Array:
    """Index of the winning frame for each pixel, (h, w), -1 where none shows anything."""
    winner = np.full(size, -1, np.int16)
    best = np.full(size, -1.0, np.float32)
    for k, view in views.items():
        # a frame that the label does not name still fills what the named ones leave open
        if view.share is None:
            score = np.where(view.inside, np.float32(-0.5), np.float32(-2))
        else:
            score = view.share if view.inside.all() else np.where(view.inside, view.share, np.float32(-2))
        np.copyto(winner[view.box], np.int16(k), where=score > best[view.box])
        np.maximum(best[view.box], score, out=best[view.box])
    return winner


def spread_out(view: FrameView, box: Box) -> Array | None:
    """The view's share (h, w) over a larger box."""
    if view.share is None:
        return None
    rows, columns = box
    share = np.zeros((rows.stop - rows.start, columns.stop - columns.start), np.float32)
    own = part_of(view.box, box)
    if own is not None:
        share[own] = view.share
    return share
