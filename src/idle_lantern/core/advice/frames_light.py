"""Frames that stay brighter or darker than their neighbours in the joined picture: light across their outlines."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.compositing.canvas.canvas import Canvas

#: Light is compared across an outline so far in and out, as a share of the frame's width: a blend is over there.
_ACROSS = 0.06
#: So many places along an outline at most, and the least that tell anything.
_PLACES, _LEAST = 240, 40
_DARK, _FULL = 0.004, 0.97
#: Neighbouring places show the same things: so many of them count as one.
_ALIKE = 4.0
#: Corners of an outline as a mask.
_CORNERS = 24


@dataclass(frozen=True)
class OddFrame:
    """A frame by its number in the report, by how many stops it is brighter than what lies about it, the doubt of that, and its outline.

    ``rims`` is at how many of its sides that shows, ``corners_deg`` are azimuths and altitudes.
    """

    number: int
    ev: float
    sigma_ev: float
    rims: int
    corners_deg: tuple[tuple[float, float], ...]


def odd_frames(light: Array, alpha: Array, canvas: Canvas, outlines: Sequence[Sequence[Array]]) -> list[OddFrame]:
    """The frames that stay off: those first that differ at both sides, since at one side alone the neighbour may be the odd one.

    Parameters
    ----------
    light, alpha : (h, w)
        Luminance of all of the joined picture, reduced, and where it shows anything.
    outlines : for each frame of the report, lines (N, 2) in pixels of the canvas
        Of what the picture shows of it.
    """
    scale = np.array([light.shape[1] / canvas.width, light.shape[0] / canvas.height])
    found = []
    for number, lines in enumerate(outlines):
        if len(lines) != 1 or len(lines[0]) < 4:
            continue  # one that shows in several parts, or nowhere, is told by nobody
        line = (np.asarray(lines[0], float) + 0.5) * scale - 0.5
        told = _across(light, alpha, line)
        if told is not None:
            found.append(OddFrame(number, *told, _corners(np.asarray(lines[0], float), canvas)))
    return sorted((f for f in found if f.corners_deg), key=lambda f: (-f.rims, -abs(f.ev)))


def _across(light: Array, alpha: Array, line: Array) -> tuple[float, float, int] | None:
    """Stops by which the inside of an outline (N, 2) is brighter than what lies beyond it, its doubt, and at how many sides; None where
    too little tells.

    What grows brighter to one side does so at both rims, against each other: left and right, above and below count alike.
    """
    closed = np.concatenate([line, line[:1]])
    steps = np.hypot(*np.diff(closed, axis=0).T)
    length = np.concatenate([[0.0], np.cumsum(steps)])
    if length[-1] < 20:
        return None
    at = np.linspace(0, length[-1], _PLACES, endpoint=False)
    places = np.stack([np.interp(at, length, closed[:, k]) for k in range(2)], -1)
    ahead = np.roll(places, -2, 0) - np.roll(places, 2, 0)
    normal = np.stack([-ahead[:, 1], ahead[:, 0]], -1) / np.maximum(np.hypot(*ahead.T), 1e-9)[:, None]
    off = max(2.0, _ACROSS * float(np.ptp(line[:, 0])))
    inward = np.where(_inside(line, places + 2 * normal), 1.0, -1.0)[:, None] * normal
    both = []
    for sign in (1, -1):
        there = places + sign * off * inward
        both.append((_seen(light, there), _seen(alpha, there)))
    (inner, inner_alpha), (outer, outer_alpha) = both
    usable = (np.minimum(inner, outer) > _DARK) & (np.maximum(inner, outer) < _FULL)
    usable &= (np.minimum(inner_alpha, outer_alpha) > 0.99) & _inside(line, places + off * inward)
    if usable.sum() < _LEAST:
        return None
    apart = np.log2(inner[usable] / outer[usable])
    sides = np.arctan2(inward[usable, 1], inward[usable, 0])
    told, doubts = [], []
    for middle in (0.0, math.pi):  # the rims at the left and at the right
        mine = apart[np.cos(sides - middle) > 0.7]
        if len(mine) >= _LEAST // 3:
            told.append(float(np.median(mine)))
            doubts.append(1.25 * 1.48 * float(np.median(np.abs(mine - told[-1]))) / math.sqrt(len(mine) / _ALIKE))
    if not told or (len(told) == 2 and told[0] * told[1] < 0):
        return None
    # of both rims the one that tells less: the other may be what stands there
    k = int(np.argmin(np.abs(told)))
    return told[k], doubts[k], len(told)


def _inside(line: Array, places: Array) -> Array:
    polygon = line.astype(np.float32)[:, None]
    return np.array([cv2.pointPolygonTest(polygon, (float(x), float(y)), False) > 0 for x, y in places])


def _seen(values: Array, places: Array) -> Array:
    smooth = cv2.blur(np.asarray(values, np.float32), (5, 5))
    at = places.astype(np.float32)[None]
    return np.asarray(cv2.remap(smooth, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)[0])


def _corners(line: Array, canvas: Canvas) -> tuple[tuple[float, float], ...]:
    """Corners of an outline in canvas pixels as directions; none where the canvas has no direction for one."""
    closed = np.concatenate([line, line[:1]])
    length = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(closed, axis=0).T))])
    at = np.linspace(0, length[-1], _CORNERS, endpoint=False)
    rays = canvas.directions(np.stack([np.interp(at, length, closed[:, k]) for k in range(2)], -1))
    if not np.isfinite(rays).all():
        return ()
    yaw, pitch = np.arctan2(rays[:, 0], rays[:, 2]), np.arctan2(-rays[:, 1], np.hypot(rays[:, 0], rays[:, 2]))
    return tuple((round(float(a), 3), round(float(b), 3)) for a, b in np.degrees(np.stack([yaw, pitch], -1)))
