"""How far a row may step and what it covers, by pitch, for any lens and for many pitches at once.

All of it samples the lens itself, so that rectilinear and fisheye lenses take the
same way; arrays run over pitches, since planning asks for hundreds of them.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens

_POLE = math.pi / 2
_MOST_TURN = 2 * math.pi / 3
_STEEP = math.radians(55)
_LEAST_TURN = math.radians(0.02)
#: Directions count as shown from this far inside the frame on.
_RIM_PX = 1.0


@lru_cache(maxsize=32)
def frame_rays(lens: Lens, side: int) -> Array:
    """Directions of ``side`` x ``side`` even places of the frame, (N, 3), without those it cannot show."""
    pixels = lens.places_px(side).reshape(-1, 2)
    rays = lens.unproject(pixels)
    shown = np.isfinite(rays[:, 0])
    if math.isfinite(lens.circle_px):
        shown &= np.hypot(*(pixels - lens.principal_px).T) <= lens.circle_px
    return rays[shown]


def shared(lens: Lens, rays: Array, b_from_a: Array, cell: int) -> Array:
    """Share of frame a that frame b shows too, (K,) for rotations (K, 3, 3).

    Each ray stands for a cell of the frame (``cell`` x ``cell`` of them) and counts by
    how much of its cell lies inside b, so that the share changes smoothly with the turn.
    """
    seen = rays @ np.swapaxes(b_from_a, -1, -2)
    pixels, valid = lens.project(seen)
    (u0, v0), (du, dv) = lens.principal_px, (lens.width / cell, lens.height / cell)
    across = np.clip((lens.width / 2 - np.abs(pixels[..., 0] - u0 + lens.cx)) / du + 0.5, 0, 1)
    up = np.clip((lens.height / 2 - np.abs(pixels[..., 1] - v0 + lens.cy)) / dv + 0.5, 0, 1)
    part = np.where(valid, across * up, 0.0)
    if math.isfinite(lens.circle_px):
        part *= np.hypot(pixels[..., 0] - u0, pixels[..., 1] - v0) <= lens.circle_px
    result: Array = part.mean(-1)
    return result


def turns_for_overlap(lens: Lens, pitches: Array, overlap: float) -> Array:
    """Largest turn about the vertical, by pitch (K,), that keeps the overlap between neighbours of a row."""
    cell = 13
    rays = frame_rays(lens, cell)
    camera = rotations.about_x(np.asarray(pitches, float))

    def share(turn: Array) -> Array:
        return shared(lens, rays, np.swapaxes(camera, -1, -2) @ rotations.about_y(-turn) @ camera, cell)

    return _largest(share, overlap, np.full(len(pitches), _MOST_TURN))


def tilt_for_overlap(lens: Lens, overlap: float) -> float:
    """Largest change of pitch that keeps the overlap between frames above each other."""
    cell = 15
    rays = frame_rays(lens, cell)
    return float(
        _largest(lambda a: shared(lens, rays, rotations.about_x(-a), cell), overlap, np.array([_MOST_TURN]))[0]
    )


def _largest(share: Any, overlap: float, most: Array) -> Array:
    low, high = np.zeros_like(most), most.copy()
    at_low, at_high = np.ones_like(most), share(high)
    for _ in range(8):
        middle = (low + high) / 2
        at = share(middle)
        enough = at >= overlap
        low, at_low = np.where(enough, middle, low), np.where(enough, at, at_low)
        high, at_high = np.where(enough, high, middle), np.where(enough, at_high, at)
    fall = np.maximum(at_low - at_high, 1e-9)
    between = low + (high - low) * np.clip((at_low - overlap) / fall, 0, 1)
    return np.maximum(np.where(at_high >= overlap, high, between), _LEAST_TURN)


def bands(lens: Lens, pitches: Array, half_steps: Array) -> tuple[Array, Array]:
    """Lowest and highest altitude that rows cover at every azimuth, each of shape (K,).

    Between two neighbours the band is narrowest somewhere between the middle of a
    frame and half a step beside it; where a row leaves gaps the band is empty
    (inf, -inf).
    """
    p = np.asarray(pitches, float)[:, None]
    offsets = np.minimum(np.asarray(half_steps, float), math.pi)[:, None] * np.linspace(0, 1, 6)
    # on the frame's middle line the altitude sinks towards the sides
    start = np.arctan2(np.sin(p) * np.cos(offsets), np.cos(p) + 0 * offsets)

    def sees(altitudes: Array) -> Array:
        return lens.sees(_in_frame(p, offsets, altitudes), _RIM_PX)

    within = sees(start)
    # near a pole what lies far beside the frame's middle line is seen only nearer to the pole
    for share in (0.25, 0.5, 0.75) if not within.all() else ():
        nearer = start + share * (np.copysign(_POLE, p) - start)
        found = ~within & (np.abs(p) > _STEEP) & sees(nearer)
        start, within = np.where(found, nearer, start), within | found
    inside = within.all(1)

    def edge(end: float) -> Array:
        reached = sees(np.full_like(start, end))
        good, bad = start.copy(), np.full_like(start, end)
        for _ in range(12):
            middle = (good + bad) / 2
            seen = sees(middle)
            good, bad = np.where(seen, middle, good), np.where(seen, bad, middle)
        return np.where(reached, end, good)

    low, high = edge(-_POLE).max(1), edge(_POLE).min(1)
    return np.where(inside, low, np.inf), np.where(inside, high, -np.inf)


def _in_frame(pitch: Array, offset: Array, altitude: Array) -> Array:
    """Directions by azimuth from the frame's own and altitude, in the frame of a camera at ``pitch``."""
    level, up = np.cos(altitude), np.sin(altitude)
    ahead = level * np.cos(offset)
    c, s = np.cos(pitch), np.sin(pitch)
    return np.stack([level * np.sin(offset), ahead * s - up * c, ahead * c + up * s], -1)


def half_widths(lens: Lens, pitches: Array, bottoms: Array, tops: Array) -> Array:
    """Azimuth to one side that a frame covers at all altitudes between ``bottoms`` and ``tops``, (K,)."""
    altitudes = bottoms[:, None] + (tops - bottoms)[:, None] * np.linspace(0, 1, 11)
    p = np.asarray(pitches, float)[:, None]

    def sees(offsets: Array) -> Array:
        return lens.sees(_in_frame(p, offsets, altitudes), _RIM_PX)

    # near a pole a frame may show what lies behind it and not what lies beside: look all the way, then closer
    ways = np.linspace(0, math.pi, 19)
    shown = lens.sees(_in_frame(p[..., None], ways, altitudes[..., None]), _RIM_PX)
    first_gap = np.where(shown.all(-1), len(ways), (~shown).argmax(-1))
    good = ways[np.maximum(first_gap - 1, 0)]
    bad = ways[np.minimum(first_gap, len(ways) - 1)]
    for _ in range(11):
        middle = (good + bad) / 2
        seen = sees(middle)
        good, bad = np.where(seen, middle, good), np.where(seen, bad, middle)
    reach = np.where(first_gap == len(ways), math.pi, np.where(first_gap == 0, 0.0, good))
    result: Array = reach.min(1)
    return result


def cap_reach(lens: Lens, overlap: float) -> float:
    """How far from the pole the next row may begin when one frame looks straight up or down.

    Without a hole (the circle that fits into the frame) and with the wanted share
    of the frame shown by the row as well.
    """
    rays = frame_rays(lens, 25)
    theta = np.arccos(np.clip(rays[:, 2], -1, 1))
    inscribed = min(lens.field_rad()) / 2
    return float(min(inscribed, np.quantile(theta, 1 - overlap)))
