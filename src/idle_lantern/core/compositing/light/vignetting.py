"""Light fall-off of the lens, found from the overlaps and taken out of the frames.

What lies at the rim of one frame lies further inside its neighbour, so the two tell how
much darker the rim is. The model is log V(rho) = c1 rho^2 + c2 rho^4 with rho the radius
as a share of the half diagonal, one for all frames, in linear light.
"""

from __future__ import annotations

import math
from dataclasses import replace
from functools import lru_cache

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.compositing.canvas.overview import Overview, Patch, meeting
from idle_lantern.core.geometry.lenses import Lens

Vignetting = tuple[float, float]

NONE: Vignetting = (0.0, 0.0)
#: Below this change at the corner nobody sees it and nothing is done.
_NOTICEABLE = 0.012
#: Fall-off darkens and rarely takes more than three stops; what is beyond is a misreading.
_DARKEST = -3 * math.log(2)
#: Of the overview's rows and columns every so many give samples, and of an overlap so many are taken.
_EVERY, _SAMPLES = 2, 2000
_ROUNDS = 5
#: Log-light beyond which a sample counts for less: texture and small misregistration.
_SCALE = 0.06
_PRIOR_WEIGHT = 0.02
#: Rows of a frame at a time, so that what lies between stays in the processor's cache.
_ROWS = 64


def solve_vignetting(overview: Overview, count: int) -> Vignetting:
    """c1 and c2 from the overlaps of ``count`` frames, with a free gain for each frame."""
    c1, c2 = fitted(count, *_samples(overview))
    return NONE if abs(c1 + c2) < _NOTICEABLE else (c1, c2)


def fitted(count: int, frames_a: Array, frames_b: Array, terms: Array, right: Array) -> Vignetting:
    """c1 and c2 by samples of pairs of ``count`` frames, whatever gain each frame has.

    Parameters
    ----------
    frames_a, frames_b : (N,) int
    terms : (N, 2)
        rho^2 and rho^4 in a less those in b.
    right : (N,)
        Natural logarithm of the light in b over that in a.
    """
    if len(right) < 200:
        return NONE
    solution: Array = np.zeros(count + 2)
    for _ in range(_ROUNDS):
        miss = solution[frames_a] - solution[frames_b] - terms @ solution[count:] - right
        weight = 1 / (1 + (miss / _SCALE) ** 2)
        normal, side = np.zeros((count + 2, count + 2)), np.zeros(count + 2)
        between = np.bincount(frames_a * count + frames_b, weight, count * count).reshape(count, count)
        normal[:count, :count] = np.diag(between.sum(0) + between.sum(1)) - between - between.T
        for sign, frame in ((1, frames_a), (-1, frames_b)):
            side[:count] += np.bincount(frame, sign * weight * right, count)
            for t in range(2):
                normal[:count, count + t] -= np.bincount(frame, sign * weight * terms[:, t], count)
        normal[count:, :count] = normal[:count, count:].T
        normal[count:, count:] = (terms * weight[:, None]).T @ terms
        side[count:] = -terms.T @ (weight * right)
        normal[np.diag_indices(count + 2)] += _PRIOR_WEIGHT
        solution = np.linalg.solve(normal, side)
    c1, c2 = float(solution[count]), float(solution[count + 1])
    return (c1, c2) if _DARKEST < c1 + c2 < 0.3 else NONE


def without_vignetting(pixels: Array, lens: Lens, vignetting: Vignetting, space: ColourSpace = SRGB) -> Array:
    """A frame (H, W, 3) of display values of ``space`` with its fall-off taken out, same dtype; ``lens`` is of the frame's size."""
    if vignetting == NONE:
        return pixels
    brighter = _brighter(lens, vignetting)
    even = np.empty_like(pixels)
    for top in range(0, len(pixels), _ROWS):
        rows = slice(top, top + _ROWS)
        even[rows] = _even(pixels[rows], brighter[rows], space)
    return even


def _even(pixels: Array, brighter: Array, space: ColourSpace) -> Array:
    """Pixels (H, W, 3) of linear light times ``brighter`` (H, W), as their dtype has them."""
    factor = cv2.merge([brighter] * 3)
    if pixels.dtype == np.uint8:
        to_linear, to_display = _tables(space)
        linear = cv2.multiply(cv2.LUT(pixels, to_linear), factor, dtype=cv2.CV_16U)
        return np.asarray(cv2.LUT(linear, to_display))
    linear = space.to_linear(pixels.astype(np.float32) / 65535) * factor
    return np.asarray(np.rint(np.clip(space.from_linear(linear), 0, 1) * 65535).astype(np.uint16))


def even_overview(overview: Overview, vignetting: Vignetting) -> Overview:
    """The overview with the fall-off taken out of every patch."""
    if vignetting == NONE:
        return overview
    even = (_even_patch(p, vignetting, overview.space) for p in overview.patches)
    return replace(overview, patches=tuple(even))


def _even_patch(patch: Patch, vignetting: Vignetting, space: ColourSpace) -> Patch:
    return replace(patch, pixels=evened_at(patch.pixels, patch.radius2, vignetting, space))


def evened_at(pixels: Array, radius2: Array, vignetting: Vignetting, space: ColourSpace = SRGB) -> Array:
    """Pixels (H, W, 3) of ``space`` that stand at squared radii (H, W) of their frame (shares of the half diagonal), fall-off taken out."""
    return _even(pixels, np.exp(-radius2 * (vignetting[0] + radius2 * vignetting[1])).astype(np.float32), space)


def _samples(overview: Overview) -> tuple[Array, Array, Array, Array]:
    """Frames, differences of the radial terms, and log ratios of green light of overlap pixels."""
    table = overview.space.light_table(255)[:, 1]
    shape = (overview.canvas.height, overview.canvas.width)
    value, radius2 = np.zeros(shape, np.uint8), np.zeros(shape, np.float32)
    frames_a, frames_b, terms, right = [], [], [], []
    thin = np.s_[::_EVERY, ::_EVERY]
    for one, others in zip(overview.patches, meeting(overview)):
        value[...] = 0
        value[one.index] = np.where(one.inside, one.pixels[..., 1], 0)
        radius2[one.index] = one.radius2
        for other in (overview.patches[j] for j in others):
            mine, there = value[other.index][thin], other.inside[thin]
            theirs = np.where(there, other.pixels[..., 1][thin], 0)
            usable = np.argwhere((mine > 12) & (mine < 247) & (theirs > 12) & (theirs < 247))
            if len(usable) < 20:
                continue
            y, x = usable[:: max(1, len(usable) // _SAMPLES)].T
            a2, b2 = radius2[other.index][thin][y, x], other.radius2[thin][y, x]
            frames_a.append(np.full(len(y), one.frame))
            frames_b.append(np.full(len(y), other.frame))
            terms.append(np.stack([a2 - b2, a2**2 - b2**2], -1))
            right.append(np.log(table[theirs[y, x]] / table[mine[y, x]]))
    if not right:
        empty = np.zeros(0, int)
        return empty, empty, np.zeros((0, 2)), np.zeros(0)
    return np.concatenate(frames_a), np.concatenate(frames_b), np.concatenate(terms), np.concatenate(right)


@lru_cache(maxsize=2)
def _brighter(lens: Lens, vignetting: Vignetting) -> Array:
    """Factor that undoes the fall-off, (H, W) float32; nearly always one for all frames."""
    u0, v0 = lens.principal_px
    half = np.float32((lens.width**2 + lens.height**2) / 4)
    u, v = (
        np.arange(lens.width, dtype=np.float32) - np.float32(u0),
        np.arange(lens.height, dtype=np.float32) - np.float32(v0),
    )
    r2 = (u[None, :] ** 2 + v[:, None] ** 2) / half
    return np.asarray(np.exp(-r2 * (np.float32(vignetting[0]) + r2 * np.float32(vignetting[1]))))


@lru_cache(maxsize=4)
def _tables(space: ColourSpace) -> tuple[Array, Array]:
    """Light as a share of white, 16 bit, by display value, and back to 8 bit, as OpenCV looks them up: (N,), or (1, N, 3) by colour."""
    shown, light = (np.arange(n)[:, None].repeat(3, 1) / (n - 1.0) for n in (256, 65536))
    tables = (
        np.rint(space.to_linear(shown) * (65535 / space.transfer.white)).astype(np.uint16),
        np.rint(np.clip(space.from_linear(light * space.transfer.white), 0, 1) * 255).astype(np.uint8),
    )
    one, other = (t[None] if space.transfer.by_colour else np.ascontiguousarray(t[:, 0]) for t in tables)
    return one, other
