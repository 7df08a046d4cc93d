"""What a projection costs a picture: how much larger its rim is drawn, how far straight lines bend, what a crop loses."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.geometry.rectangles import inner_rectangle
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.registration.solve.covered_field import Field

#: Of the largest scales this share is left out: a single pixel at a pole is no picture.
_NEARLY_ALL = 99.5
#: The line whose bend is told lies so much of the way up or down, but not farther up than this.
_LINE_AT, _HIGHEST_LINE_RAD = 0.5, math.radians(40)
#: It goes over so much of the width, and is no longer than an eye takes for one line.
_LINE_OVER, _LONGEST_LINE_RAD = 0.8, math.radians(110)


@dataclass(frozen=True)
class Costs:
    """What a canvas costs.

    Attributes
    ----------
    stretch : float
        By how many times things at the rim are drawn larger than in the middle, along the side that grows most.
    bend : float
        How far a straight line of the world bows, as a share of its length.
    loss : float
        Share of the canvas that the largest rectangle without gaps leaves out.
    """

    stretch: float
    bend: float
    loss: float


def costs_of(canvas: Canvas, shown: Array, line: Array) -> Costs:
    """The costs of a canvas of which ``shown`` (h, w) bool, at any size, tells where its picture shows anything.

    ``line`` (2, 3) are the directions of the ends of the straight line whose bend is told, such as ``straight_line``.
    """
    small = canvas.scaled(min(1.0, math.sqrt(40_000 / (canvas.width * canvas.height))))
    rows = np.clip((np.arange(small.height) + 0.5) * shown.shape[0] / small.height, 0, shown.shape[0] - 1).astype(int)
    columns = np.clip((np.arange(small.width) + 0.5) * shown.shape[1] / small.width, 0, shown.shape[1] - 1).astype(int)
    there = shown[np.ix_(rows, columns)]
    return Costs(_stretch(small, there), _bend(small, line), _loss(there))


def straight_line(seen: Field) -> Array:
    """Ends (2, 3) of a straight line of the world, level and above or below the middle, such as an eaves or a quay: what bends most."""
    half = min(_LINE_OVER * seen.width_rad / 2, _LONGEST_LINE_RAD / 2)
    up = min(_LINE_AT * max(seen.high_rad, seen.low_rad, key=abs), _HIGHEST_LINE_RAD, key=abs)
    return direction(np.array([seen.middle_rad - half, seen.middle_rad + half]), np.array([up, up]))


def _stretch(small: Canvas, there: Array) -> float:
    u, v = np.meshgrid(np.arange(small.width, dtype=float), np.arange(small.height, dtype=float))
    place = np.stack([u, v], -1)
    half = 0.25
    right, below = np.array([half, 0]), np.array([0, half])
    with np.errstate(invalid="ignore", divide="ignore"):
        across = (small.directions(place + right) - small.directions(place - right)) / (2 * half)
        down = (small.directions(place + below) - small.directions(place - below)) / (2 * half)
        # the least angle that one pixel spans in any direction: the smaller singular value of both steps
        a, b, c = ((one * other).sum(-1) for one, other in ((across, across), (across, down), (down, down)))
        least = (a + c) / 2 - np.sqrt(((a - c) / 2) ** 2 + b**2)
        scale = 1 / np.sqrt(np.maximum(least, 1e-18)) / small.px_per_rad
    good = there & np.isfinite(scale)
    return float(np.percentile(scale[good], _NEARLY_ALL)) if good.any() else 1.0


def _bend(small: Canvas, line: Array) -> float:
    along = np.linspace(0, 1, 33)[:, None]
    with np.errstate(invalid="ignore"):
        places = small.pixels(line[0] + along * (line[1] - line[0]))  # a chord seen from the middle is a straight line
    if small.full_circle:
        places[:, 0] = np.unwrap(places[:, 0], period=small.width)
    off = places - places[0]
    length = float(np.hypot(*off[-1]))
    if not np.isfinite(places).all() or length < 1:
        return 0.0
    return float(np.abs(off[:, 0] * off[-1, 1] - off[:, 1] * off[-1, 0]).max() / length**2)


def _loss(there: Array) -> float:
    if not there.any():
        return 0.0
    return float(1 - inner_rectangle((there * 255).astype(np.uint8), working_px=400).area / there.size)
