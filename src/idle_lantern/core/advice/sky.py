"""What the sky of a picture tells, on all of it reduced: how much is burnt out, a halo along its border, a polariser's band, haze."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from idle_lantern.core.base.arrays import Array, Flags
from idle_lantern.core.finish.bump import bump
from idle_lantern.core.finish.masks import Sky
from idle_lantern.core.finish.tile_look import Ground, TileLook
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.operations import TilePlace

#: A picture has a sky from this share of it on.
_LEAST_SKY = 0.02
#: A halo lies within so many pixels of the reduced picture above the border; beyond it, between these, the sky is as it should be.
_NEAR_PX, _FAR_PX = (1, 7), (24, 64)
_DARK = 1e-3
#: A band is looked for in bins of azimuth; it must be seen falling to both sides, over so much.
_BIN_DEG, _SIDE_DEG, _LEAST_SPAN_DEG = 3.0, 35.0, 100.0
#: The sky grows brighter towards the sun by itself: by exp(-3 angle) (CIE S 011), and twice as wide in haze.
_GLOW_DEG = (math.degrees(1 / 3), math.degrees(2 / 3))
_WIDTHS_DEG = (40.0, 60.0, 80.0, 100.0)
#: A shape must explain so much of what bins differ by: else they differ by what stands there.
_EXPLAINED = 0.75
#: The sky is compared up from its border; the land for so much down from it.
_ABOVE_DEG, _BELOW_DEG = 3.0, 12.0
_LEAST_IN_BIN, _ABOUT_DEG = 40, 10.0


@dataclass(frozen=True)
class SkySeen:
    """The sky of a reduced picture: where it is (h, w), azimuth and altitude of every pixel (h, w), and its border in directions."""

    mask: Flags
    yaw_deg: Array
    pitch_deg: Array
    skyline: tuple[tuple[float, float], ...]


def sky_of(alpha: Array, skyline: Sequence[tuple[float, float]], ground: Ground) -> SkySeen | None:
    """The sky above a skyline in a reduced picture whose alpha (h, w) from 0 to 1 is given; None where there is none to speak of."""
    if len(skyline) < 2:
        return None
    h, w = alpha.shape
    look = TileLook(
        ground,
        TilePlace(Rectangle(0, 0, w, h), (w, h), ground.size),
        alpha,
        np.zeros((h, w, 3), np.float32),
    )
    mask = (Sky(skyline=tuple(skyline), feather_deg=0.0).strength(look) > 0.5) & (alpha > 0.5)
    return SkySeen(mask, *look.angles_deg, tuple(skyline)) if mask.mean() >= _LEAST_SKY else None


def halo_ev(before: Array, after: Array, sky: Flags) -> float:
    """By how many stops the sky just above its border was made brighter than the same sky farther up; luminance (h, w) before and after.

    What depends on brightness alone, such as a curve, is no halo: the change is compared at the same brightness.
    """
    change = np.log2(np.maximum(after, _DARK) / np.maximum(before, _DARK))
    height = _above_border(sky)
    near = sky & (height >= _NEAR_PX[0]) & (height <= _NEAR_PX[1])
    far = sky & (height >= _FAR_PX[0]) & (height <= _FAR_PX[1])
    if near.sum() < 200 or far.sum() < 200:
        return 0.0
    tone = np.log2(np.maximum(before, _DARK))
    edges = np.quantile(tone[far], np.linspace(0, 1, 9))
    middles, medians = [], []
    for low, high in zip(edges, edges[1:]):
        mine = far & (tone >= low) & (tone <= high)
        if mine.any():
            middles.append(float(np.median(tone[mine])))
            medians.append(float(np.median(change[mine])))
    comparable = near & (tone >= edges[0]) & (tone <= edges[-1])
    if comparable.sum() < 0.2 * near.sum():
        return 0.0
    order = np.argsort(middles)
    expected = np.interp(tone[comparable], np.array(middles)[order], np.array(medians)[order])
    return float(np.median(change[comparable] - expected))


def _above_border(sky: Flags) -> Array:
    """Pixels (h, w) from each place straight down to where the sky ends, 1 at its last row; 0 where it does not end below."""
    height = np.zeros(sky.shape, np.int32)
    for row in range(sky.shape[0] - 2, -1, -1):
        below = np.where(sky[row + 1], height[row + 1], 0)
        ends = ~sky[row + 1]
        height[row] = np.where(sky[row], np.where(ends, 1, np.where(below > 0, below + 1, 0)), 0)
    return height


@dataclass(frozen=True)
class BandFound:
    """A hump over azimuth: its middle and width in degrees, and its height."""

    yaw_deg: float
    width_deg: float
    height: float


def band_of(light: Array, seen: SkySeen) -> BandFound | None:
    """The dark band of a sky, its depth in stops; of luminance (h, w). None where the sky shows none, or too little to tell."""
    line = np.array(sorted((a % 360, h) for a, h in seen.skyline)).T
    border = np.interp(np.nan_to_num(seen.yaw_deg).astype(float), line[0], line[1], period=360)
    mine = seen.mask & (seen.pitch_deg > border + _ABOVE_DEG) & (light > _DARK) & (light < 0.97)
    if mine.sum() < 2000:
        return None
    yaw, pitch, tone = seen.yaw_deg[mine], seen.pitch_deg[mine], np.log2(light[mine])
    bins = np.floor((yaw + 180) / _BIN_DEG).astype(int)
    count = math.ceil(360 / _BIN_DEG)
    # the sky grows darker with height: that is taken out within each azimuth first
    high = np.column_stack([pitch, pitch * pitch])
    number = np.maximum(np.bincount(bins, minlength=count), 1)
    inner = [v - (np.bincount(bins, v, count) / number)[bins] for v in (*high.T, tone)]
    fall = np.linalg.lstsq(np.column_stack(inner[:2]), inner[2], rcond=None)[0]
    flat = tone - high @ fall
    found = _hump(bins, flat, in_sky=True)
    return None if found is None or found.height >= 0 else found


def haze_of(light: Array, seen: SkySeen, alpha: Array) -> BandFound | None:
    """The veil over the land below the sky, by how its darkest places grow brighter toward one side; luminance (h, w), alpha (h, w)."""
    line = np.array(sorted((a % 360, h) for a, h in seen.skyline)).T
    border = np.interp(np.nan_to_num(seen.yaw_deg).astype(float), line[0], line[1], period=360)
    mine = ~seen.mask & (alpha > 0.5) & (seen.pitch_deg < border) & (seen.pitch_deg > border - _BELOW_DEG)
    bins = np.where(mine, np.floor((np.nan_to_num(seen.yaw_deg) + 180) / _BIN_DEG), -1).astype(int)
    dark, at = [], []
    for k in range(math.ceil(360 / _BIN_DEG)):
        values = light[bins == k]
        if len(values) >= _LEAST_IN_BIN:
            at.append(k)
            dark.append(float(np.quantile(values, 0.03)))
    if len(at) < _LEAST_SPAN_DEG / _BIN_DEG:
        return None
    # some azimuths show nothing dark: the darkest of what lies about counts
    darkest = [min(d for d, other in zip(dark, at) if abs(other - k) * _BIN_DEG <= _ABOUT_DEG) for k in at]
    found = _hump(np.array(at), np.array(darkest), in_sky=False)
    return None if found is None or found.height <= 0 else found


def _hump(bins: Array, values: Array, *, in_sky: bool) -> BandFound | None:
    """The hump (``bump``) over bins of azimuth that explains most of the medians of values (N,) in them.

    ``in_sky``: beside the sun's glow and a slope across, and seen falling to both sides.
    """
    order = np.argsort(bins, kind="stable")
    known, first = np.unique(bins[order], return_index=True)
    medians = np.array([np.median(part) for part in np.split(values[order], first[1:])])
    yaw = (known + 0.5) * _BIN_DEG - 180
    # unrolled from the widest gap, so that a sweep over the back is one
    gaps = np.diff(np.append(yaw, yaw[0] + 360))
    start = (int(np.argmax(gaps)) + 1) % len(yaw)
    yaw, medians = np.roll(yaw, -start), np.roll(medians, -start)
    yaw = np.where(yaw < yaw[0], yaw + 360, yaw)
    full = gaps.max() < 2 * _BIN_DEG
    if np.ptp(yaw) < _LEAST_SPAN_DEG:
        return None
    plain = np.ones((len(yaw), 1))
    if in_sky:
        off = np.abs((yaw - yaw[int(np.argmax(medians))] + 180) % 360 - 180)
        plain = np.column_stack([plain, *(np.exp(-off / reach) for reach in _GLOW_DEG)])
        if not full:
            plain = np.column_stack([plain, (yaw - yaw.mean()) / np.ptp(yaw)])
    left = _missed(plain, medians)[0]
    best: tuple[float, BandFound] | None = None
    spare = _SIDE_DEG if in_sky and not full else 0.0
    for width in _WIDTHS_DEG:
        for middle in np.arange(yaw[0] + spare, yaw[-1] - spare + 1e-9, _BIN_DEG):
            missed, weights = _missed(np.column_stack([plain, bump(yaw, middle, width)]), medians)
            if best is None or missed < best[0]:
                middle_deg = (float(middle) + 180) % 360 - 180
                best = missed, BandFound(middle_deg, width, float(weights[-1]))
    if best is None or left <= 0 or 1 - best[0] / left < _EXPLAINED:
        return None
    return best[1]


def _missed(shape: Array, values: Array) -> tuple[float, Array]:
    weights = np.linalg.lstsq(shape, values, rcond=None)[0]
    return float(((values - shape @ weights) ** 2).sum()), weights
