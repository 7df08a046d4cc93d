"""The skyline of a place: how high land, houses and trees stand against the sky, by direction.

What the top of the ground shows tells the colours of the sky, what lies below the horizon those of the land. In each column the
line stands where most of what is above is sky, and on an edge; from column to column it is a path of dynamic programming (the
idea of Lie, Lin and Hung, *A robust dynamic programming algorithm to extract skyline in images*, Pattern Recognition Letters 26,
2005; cited from memory).
"""

from __future__ import annotations

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.scouting.reprojection import ReprojectedScouts, on_sphere
from idle_lantern.core.scouting.scout_picture import SkylineRow

_SIZE = (1440, 720)  # a quarter of a degree a pixel
#: Nothing stands higher against the sky for one who looks for a panorama, and the sea's horizon lies hardly lower.
_HIGH_DEG, _LOW_DEG = 60.0, -2.0
#: Land is what lies between these altitudes, sky the topmost part of what is shown above the horizon.
_LAND_DEG, _SKY_PART = (-30.0, -3.0), 0.4
#: Bins of a colour's three parts; a colour is so many times as likely sky as land at most, in logarithms.
_BINS, _MOST_LIKELY = 16, 3.0
#: A slope of so many display values by pixel counts fully as an edge, and as much as so many pixels of sky.
_FULL, _EDGE = 18.0, 4.0
#: What a step up or down costs by pixel, and at most: house corners stand upright.
_BY_PIXEL, _AT_MOST = 0.5, 6.0
#: So much sky must be seen above it; colours of sky and land must differ in such a share of what is shown.
_SKY_DEG, _APART = 1.0, 0.6


def skyline_of(ground: ReprojectedScouts) -> tuple[SkylineRow, ...]:
    """The skyline in the ground's own azimuths, a row a degree, where the picture shows both land and sky."""
    px = _SIZE[0] / 360
    sheet = on_sphere([ground], _SIZE)
    shown = cv2.erode((sheet[..., 3] > 0).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    likely = _sky_likelihood(sheet[..., :3], shown, px)
    if likely is None:
        return ()
    top, bottom = (round((90 - a) * px) for a in (_HIGH_DEG, _LOW_DEG))
    edges = (_edges(sheet[..., :3]) * shown)[top:bottom]
    gain, shown = likely[top:bottom] * shown[top:bottom], shown[top:bottom]
    rows: dict[int, list[tuple[float, float]]] = {}
    for first, last in _runs(shown.any(0)):
        path = _path(np.cumsum(gain[:, first:last], 0) + _EDGE * edges[:, first:last])
        for x, y in zip(range(first, last), path.tolist()):
            above = shown[max(0, y - round(_SKY_DEG * px) - 2) : max(0, y - 2), x]
            if above.sum() < _SKY_DEG * px or not shown[min(y + 1, len(shown) - 1), x]:
                continue
            near = edges[max(0, y - 6) : y + 7, x] >= max(0.05, edges[y, x] / 2)
            azimuth = (x + 0.5) / px - 180
            rows.setdefault(int(np.floor(azimuth)), []).append(
                (_HIGH_DEG - (y + 0.5) / px, max(1.0, near.sum()) / 2 / px)
            )
    return tuple(
        (degree + 0.5, round(float(np.median(found[:, 0])), 2), round(float(np.median(found[:, 1])), 2))
        for degree, found in ((d, np.array(r)) for d, r in sorted(rows.items()))
        if len(found) >= 2
    )


def _sky_likelihood(pixels: Array, shown: Array, px: float) -> Array | None:
    """How much likelier each place's colour is in the sky than on land, in logarithms; None where they cannot be told apart."""
    altitude = 90 - (np.arange(_SIZE[1]) + 0.5) / px
    land = shown & ((altitude > _LAND_DEG[0]) & (altitude < _LAND_DEG[1]))[:, None]
    highest = np.where(shown.any(0), altitude[shown.argmax(0)], -90.0)
    sky = shown & (altitude[:, None] > np.maximum(highest * (1 - _SKY_PART), 2.0))
    if min(land.sum(), sky.sum()) < 400:
        return None
    bins = cv2.cvtColor(cv2.GaussianBlur(pixels, (0, 0), 0.8), cv2.COLOR_RGB2LAB).astype(int) // (256 // _BINS)
    at = (bins[..., 0] * _BINS + bins[..., 1]) * _BINS + bins[..., 2]
    counts = [np.bincount(at[where], minlength=_BINS**3).reshape((_BINS,) * 3) for where in (sky, land)]
    as_sky, as_land = (_spread(c / c.sum()) for c in counts)
    likely = np.clip(np.log((as_sky + 1e-5) / (as_land + 1e-5)), -_MOST_LIKELY, _MOST_LIKELY).ravel()[at]
    if (likely[sky] > 0).mean() < _APART or (likely[land] < 0).mean() < _APART:
        return None
    return np.asarray(likely)


def _spread(shares: Array) -> Array:
    """Shares by colour, spread to the next bins."""
    for axis in range(3):
        shares = (np.roll(shares, 1, axis) + 2 * shares + np.roll(shares, -1, axis)) / 4
    return shares


def _edges(pixels: Array) -> Array:
    """How much each place is an edge, 0 to 1, in any of the colours."""
    smooth = cv2.GaussianBlur(pixels, (0, 0), 0.8).astype(np.float32)
    x, y = (cv2.Sobel(smooth, cv2.CV_32F, *d, scale=1 / 8) for d in ((1, 0), (0, 1)))
    return np.asarray(np.clip(np.hypot(x, y).max(-1) / _FULL, 0, 1))


def _runs(known: Array) -> list[tuple[int, int]]:
    """First and last column of each run of columns that show something."""
    steps = np.flatnonzero(np.diff(np.concatenate([[0], known.astype(int), [0]])))
    return [(int(a), int(b)) for a, b in zip(steps[::2], steps[1::2])]


def _path(gain: Array) -> Array:
    """The path through the columns on which most is gained."""
    height, width = gain.shape
    cost = -gain
    at = np.arange(height)
    total, back = cost[:, 0].copy(), np.zeros((height, width), int)
    for x in range(1, width):
        reached, came = _stepped(total, at)
        back[:, x] = came
        total = reached + cost[:, x]
    path = np.zeros(width, int)
    path[-1] = int(total.argmin())
    for x in range(width - 1, 0, -1):
        path[x - 1] = back[path[x], x]
    return path


def _stepped(total: Array, at: Array) -> tuple[Array, Array]:
    """The cheapest way to each row from the column before, and from which row it comes."""
    down, down_from = _running(total - _BY_PIXEL * at, at)
    up, up_from = _running((total + _BY_PIXEL * at)[::-1], at)
    ways = np.stack([down + _BY_PIXEL * at, up[::-1] - _BY_PIXEL * at, np.full(len(at), total.min() + _AT_MOST)])
    came = np.stack([down_from, len(at) - 1 - up_from[::-1], np.full(len(at), int(total.argmin()))])
    best = ways.argmin(0)
    return ways[best, at], came[best, at]


def _running(values: Array, at: Array) -> tuple[Array, Array]:
    """The least value so far and where it stands."""
    least = np.minimum.accumulate(values)
    return least, np.maximum.accumulate(np.where(values <= least, at, 0))
