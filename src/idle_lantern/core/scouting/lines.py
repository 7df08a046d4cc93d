"""Straight things of a place, such as eaves, quays and masts: what a projection may bend.

The ground is drawn flat in pieces, where straight things are straight, and line segments are found there (von Gioi, Jakubowicz,
Morel, Randall, *LSD: a line segment detector*, IPOL 2012, as OpenCV has it).
"""

from __future__ import annotations

import math
from typing import Any

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.scouting.reprojection import ReprojectedScouts, drawn
from idle_lantern.core.scouting.scout_picture import LineRow, ends_of

#: Flat pieces of the sphere in which lines are looked for.
_WIDE_DEG = 70.0
_TALL_DEG = 60.0
_APART_DEG = 45.0
_PX_PER_DEG = 8.0  # in the middle
#: Lines shorter than this are no thing that anyone sees bend (common practice, no source); so many are kept.
_LEAST_DEG, _MOST = 10.0, 40
#: Within so much of the horizon itself a level line stays straight in every projection that is centred on it.
_ON_HORIZON_DEG = 2.5


def lines_of(ground: ReprojectedScouts) -> tuple[LineRow, ...]:
    """The longest straight lines that the ground shows, the longest first; those along the horizon are left out."""
    found: list[tuple[float, LineRow]] = []
    for azimuth in np.arange(-180.0, 180.0, _APART_DEG):
        canvas = _flat(math.radians(azimuth))
        u, v = np.meshgrid(np.arange(float(canvas.width)), np.arange(float(canvas.height)))
        sheet = drawn(canvas.directions(np.stack([u, v], -1)), [ground])
        if (sheet[..., 3] > 0).mean() < 0.15:
            continue
        for segment in _segments(sheet):
            rays = canvas.directions(segment)
            length = math.degrees(math.acos(max(-1.0, min(1.0, float(rays[0] @ rays[1])))))
            a, h = (np.degrees(x) for x in azimuth_altitude(rays))
            if length >= _LEAST_DEG and np.abs(h).max() > _ON_HORIZON_DEG:
                found.append((length, (float(a[0]), float(h[0]), float(a[1]), float(h[1]))))
    kept: list[LineRow] = []
    for _length, line in sorted(found, key=lambda row: -row[0]):
        if len(kept) < _MOST and not any(_same(line, other) for other in kept):
            kept.append((round(line[0], 2), round(line[1], 2), round(line[2], 2), round(line[3], 2)))
    return tuple(kept)


def bow(line: LineRow, canvas: Canvas, world_from_ground: Array) -> float:
    """How far a line, turned by ``world_from_ground`` (3, 3), bows on a canvas, as a share of its length there; 0 where the canvas does not show it whole."""
    one, other = (end @ world_from_ground.T for end in ends_of(line))
    along = np.linspace(0, 1, 17)[:, None]
    with np.errstate(invalid="ignore"):
        places = canvas.pixels(one + along * (other - one))  # the chord between two rays is the line itself
    if not np.isfinite(places).all():
        return 0.0
    if canvas.full_circle:
        places[:, 0] = np.unwrap(places[:, 0], period=canvas.width)
    off = places - places[0]
    length = float(np.hypot(*off[-1]))
    return float(np.abs(off[:, 0] * off[-1, 1] - off[:, 1] * off[-1, 0]).max() / length**2) if length > 1 else 0.0


def _same(a: LineRow, b: LineRow) -> bool:
    """Whether two segments are pieces of one thing: neighbouring flat pieces show it twice."""
    one, other = ends_of(a), ends_of(b)
    normal = np.cross(*other)
    normal = normal / max(1e-12, float(np.linalg.norm(normal)))
    if np.abs(one @ normal).max() > math.sin(math.radians(1.2)):
        return False
    middle = one.sum(0) / np.linalg.norm(one.sum(0))
    reach = math.degrees(math.acos(max(-1.0, min(1.0, float(other[0] @ other[1])))))
    return (
        math.degrees(math.acos(max(-1.0, min(1.0, float(middle @ other.sum(0) / np.linalg.norm(other.sum(0)))))))
        < reach
    )


def _flat(azimuth_rad: float) -> Canvas:
    scale = _PX_PER_DEG * 180 / math.pi
    half = [math.tan(math.radians(side / 2)) * scale for side in (_WIDE_DEG, _TALL_DEG)]
    return Canvas(
        Projection("rectilinear"), round(2 * half[0]), round(2 * half[1]), scale, (half[0] - 0.5, half[1] - 0.5),
        rotations.about_y(-azimuth_rad),
    )  # fmt: skip


def _segments(sheet: Array) -> Array:
    """Line segments (N, 2, 2) of a piece, none of them along the rim of what it shows."""
    grey = cv2.cvtColor(sheet[..., :3], cv2.COLOR_RGB2GRAY)
    detector: Any = cv2.createLineSegmentDetector(cv2.LSD_REFINE_STD)
    lines = detector.detect(grey)[0]
    if lines is None:
        return np.zeros((0, 2, 2))
    inner = cv2.erode(np.where(sheet[..., 3] > 0, 255, 0).astype(np.uint8), np.ones((9, 9), np.uint8))
    segments = np.asarray(lines, float).reshape(-1, 2, 2)
    at = np.clip(np.rint(segments).astype(int), 0, [sheet.shape[1] - 1, sheet.shape[0] - 1])
    return np.asarray(segments[(inner[at[..., 1], at[..., 0]] > 0).all(1)])
