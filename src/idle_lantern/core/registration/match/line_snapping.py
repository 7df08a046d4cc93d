"""A straight line set by hand made exact: to the edge that a frame shows along it."""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.by_hand import SIGMA_PX

_EVERY_PX = 3.0  # between places along a line
_FEWEST = 16  # places
_MOST = 240  # places
#: The slope across a line is taken from a smoothed profile.
_SMOOTH_PX = 1.2  # by so many pixels
_NEAR_PX = 3.5  # about the edge, on each side of the line
_ROUNDS = 4  # of moving the line onto the edge
#: What a line needs to be believed.
_SHARE = 0.6  # of its places that show the edge
_ON_IT_PX = 1.0  # from the straight line
_FAINTEST = 1.0  # grey levels a pixel
#: Blocks of neighbouring places miss together: lens and sampling, not chance.
_ALIKE, _BEST_PX = 4, 0.03

Ends = tuple[tuple[float, float], tuple[float, float]]


@dataclass(frozen=True)
class SnappedLine:
    """Ends on the edge, how far they moved, how well the line is known across; ``brighter`` is 1 where the edge grows brighter to the
    right of the way from the first end to the second as one looks at the picture, -1 where darker, 0 where it is no edge."""

    ends: Ends
    moved_px: float
    sigma_px: float
    brighter: int

    @property
    def sentence(self) -> str:
        """What was done, in words."""
        if self.brighter:
            return f"Snapped to the edge, {self.moved_px:.1f} px from where you drew it."
        return "Kept as you drew it: there is no clear edge along it."


def snapped_line(
    picture: Array, ends: Ends, lens: Lens | None = None, *, reach_px: float = 8.0, brighter: int = 0
) -> SnappedLine:
    """The edge of ``picture`` (H, W, 3) along a line drawn between ``ends``, at most ``reach_px`` off.

    With its ``lens`` a straight line of the place may be drawn as a bow. ``brighter`` asks for an edge of that kind.
    """
    kept = SnappedLine(ends, 0.0, SIGMA_PX, 0)
    now = np.array(ends, float)
    length = math.dist(*ends)
    count = int(np.clip(length / _EVERY_PX, _FEWEST, _MOST))
    along = np.linspace(0, 1, count)
    reach, sign = reach_px, brighter
    sigma, share = SIGMA_PX, 0.0
    for round_ in range(_ROUNDS):
        places, across = _drawn(now, along, lens)
        slopes, offs = _slopes(picture, places, across, reach)
        if slopes is None:
            return kept
        if round_ == 0:
            middle = slopes.mean(0)
            nearer = 1 - 0.4 * np.abs(offs) / reach
            strength = middle * nearer * sign if sign else np.abs(middle) * nearer
            best = int(strength.argmax())
            if strength[best] < _FAINTEST / 2:
                return kept
            sign = sign or int(np.sign(middle[best]))
            start = np.full(count, offs[best])
        else:
            start = np.zeros(count)
        found, clear = _edges(sign * slopes, offs, start)
        line, on_it = _straight(along, found, clear)
        share = float(on_it.mean())
        if share < _SHARE:
            return kept
        miss = (found - line[0] - line[1] * along)[on_it]
        sigma = max(_BEST_PX, 2 * float(miss.std()) * math.sqrt(_ALIKE / on_it.sum()))
        now = now + (line[0] + line[1] * np.array([0.0, 1.0]))[:, None] * across[[0, -1]]
        reach = _NEAR_PX + 2
    fine = ((float(now[0, 0]), float(now[0, 1])), (float(now[1, 0]), float(now[1, 1])))
    moved = max(math.dist(a, b) for a, b in zip(ends, fine))
    return SnappedLine(fine, moved, sigma, sign)


def _drawn(ends: Array, along: Array, lens: Lens | None) -> tuple[Array, Array]:
    """Places along a line (N, 2), and the ways to its right there, in pixels."""
    straight = ends[0] + along[:, None] * (ends[1] - ends[0])
    places = straight
    if lens is not None:
        rays = lens.unproject(ends)
        bowed, valid = lens.project(rays[0] + along[:, None] * (rays[1] - rays[0]))
        places = bowed if valid.all() and np.isfinite(bowed).all() else straight
    way = np.gradient(places, axis=0)
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    return places, np.stack([-way[:, 1], way[:, 0]], -1)


def _slopes(picture: Array, places: Array, across: Array, reach: float) -> tuple[Array | None, Array]:
    """Slope of the brightness across the line at each place, (N, M), and how far off the line; None where it leaves the frame."""
    half = math.ceil(reach)
    offs = np.arange(-half - 4, half + 5, dtype=float)
    at = places[:, None] + offs[None, :, None] * across[:, None]
    h, w = picture.shape[:2]
    low = np.maximum(np.floor(at.reshape(-1, 2).min(0)).astype(int) - 3, 0)
    high = np.minimum(np.ceil(at.reshape(-1, 2).max(0)).astype(int) + 4, [w, h])
    part = picture[low[1] : high[1], low[0] : high[0]]
    if min(part.shape[:2]) < 4 or not ((places >= 0) & (places <= [w - 1, h - 1])).all():
        return None, offs
    if part.dtype == np.uint16:
        part = (part >> 8).astype(np.uint8)
    grey = cv2.cvtColor(np.ascontiguousarray(part), cv2.COLOR_RGB2GRAY).astype(np.float32)
    profile = cv2.remap(
        grey, (at - low).astype(np.float32), None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE
    )  # (N, M)
    profile = cv2.GaussianBlur(profile, (0, 0), sigmaX=_SMOOTH_PX, sigmaY=0.8)
    return np.gradient(profile.astype(float), axis=1)[:, 4:-4], offs[4:-4]


def _edges(slopes: Array, offs: Array, start: Array) -> tuple[Array, Array]:
    """Where each profile (N, M) rises most near ``start`` (N,), to a part of a pixel, and which of them rise clearly."""
    near = np.abs(offs[None] - start[:, None]) <= _NEAR_PX
    held = np.where(near, slopes, -np.inf)
    k = np.clip(held.argmax(1), 1, len(offs) - 2)
    rows = np.arange(len(slopes))
    before, peak, after = slopes[rows, k - 1], slopes[rows, k], slopes[rows, k + 1]
    bow = before - 2 * peak + after
    with np.errstate(divide="ignore", invalid="ignore"):
        part = np.where(bow < 0, 0.5 * (before - after) / bow, 0.0)
    return offs[k] + np.clip(part, -1, 1), (peak >= _FAINTEST) & (peak >= before) & (peak >= after)


def _straight(along: Array, found: Array, clear: Array) -> tuple[Array, Array]:
    """Offset and slope of the straight line through most of the edges (least squares, again and again without what misses), and which
    lie on it."""
    on_it = clear.copy()
    line = np.zeros(2)
    limit = 3 * _ON_IT_PX
    for _ in range(6):
        if on_it.sum() < _FEWEST // 2:
            return line, np.zeros_like(clear)
        design = np.stack([np.ones(int(on_it.sum())), along[on_it]], -1)
        line = np.linalg.lstsq(design, found[on_it], rcond=None)[0]
        on_it = clear & (np.abs(found - line[0] - line[1] * along) < limit)
        limit = max(_ON_IT_PX, limit / 1.7)
    return line, on_it
