"""Where the sky ends, column by column of a sheet of directions.

Sky is what can be reached from the top of the sheet without crossing an edge: a clear sky, haze, and the glow of a sunset
change by little from place to place, however much they change over all. Clouds are islands in it, land reaches to the
bottom. How strong an edge must be is not known, so several strengths are tried, and a height is told only where some agree;
where a wall may be the sky, or the sky a wall, none is told.
"""

from __future__ import annotations

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Flags

#: Pixels of a sheet to a degree, in azimuth and altitude, and the altitude of its top; its bottom lies as far below the horizon.
PX_PER_DEG = 4.0
HIGH_DEG = 60.0
#: A column must show the sky up to so high, and so much of it above its skyline.
_LEAST_TOP_DEG, _SKY_DEG = 4.0, 1.0
#: Strengths of an edge that are tried, in units of CIELAB by pixel, and times the noise of what is shown at least.
_EDGES, _OVER_NOISE, _SMOOTHEST = tuple(0.8 * 1.25**k for k in range(11)), 4.0, 5
#: An edge is so many pixels wide at most.
_EDGE_PX = 5
#: Heights agree within so much; so many strengths beside each other must.
_AGREE_DEG, _LEAST_AGREEING = 0.8, 3
#: The step across a skyline, in CIELAB, from so far on each side.
_STEP, _BESIDE_DEG = 6.0, (0.5, 1.5)
#: Its slope is such a share of the steepest one in its column: a cloud's is less than that of the land below it.
_OF_STRONGEST = 0.3
#: Below this altitude lies land; a skyline is such a share of the way from the light of the sky to that of the land.
_LAND_DEG, _OF_DARKNESS = -3.0, 0.35
#: The sky is hardly ever darker than the land below it: clouds, lit walls and windows are lighter than what is above them.
_DARKER = 2.0
#: Parts of the sky that differ by less, where only a mast or a tree stands between them, are one sky.
_ONE_SKY, _BESIDE_COLUMNS_DEG = 10.0, 3.0
#: Another part that is so wide by the widest may as well be the sky.
_RIVAL = 0.5
#: The sky is so much lighter or bluer than a rival wall, or nothing is told.
_CLEARLY = 8.0


def sky_border(pixels: Array, shown: Flags) -> tuple[Array, Array]:
    """Altitude in degrees at which the sky ends in each column, and its doubt, both (W,) and NaN where that is not clear.

    ``pixels`` (H, W, 3) uint8 of sRGB lie ``PX_PER_DEG`` to a degree from ``HIGH_DEG`` downwards; ``shown`` (H, W) are
    those that show anything.
    """
    if not shown.any():
        return np.full(shown.shape[1], np.nan), np.full(shown.shape[1], np.nan)
    lab = cv2.cvtColor(pixels.astype(np.float32) / 255, cv2.COLOR_RGB2LAB)
    lab = cv2.GaussianBlur(lab, (0, 0), 0.7)
    slope = _slope(lab)
    least = _OVER_NOISE * float(np.percentile(slope[shown], _SMOOTHEST))
    edges = sorted({max(edge, least) for edge in _EDGES})
    return _agreed(np.array([_tops(lab, slope, shown, edge) for edge in edges]))


def _slope(lab: Array) -> Array:
    """Change by pixel of all three parts together."""
    x, y = (cv2.Sobel(lab, cv2.CV_32F, *d, scale=1 / 8) for d in ((1, 0), (0, 1)))
    return np.asarray(np.sqrt((x * x + y * y).sum(-1)))


def _tops(lab: Array, slope: Array, shown: Flags, edge: float) -> Array:
    """Altitude of the skyline by column with edges of that strength, NaN where there is none or the sky is in doubt."""
    height, width = shown.shape
    at = np.arange(width)
    top = shown.argmax(0)
    start = shown.any(0) & (HIGH_DEG - top / PX_PER_DEG >= _LEAST_TOP_DEG)
    _n, smooth = cv2.connectedComponents((shown & (slope < edge)).astype(np.uint8), connectivity=4)
    reached = np.unique([smooth[np.clip(top[start] + k, 0, height - 1), at[start]] for k in range(4)])
    sky = np.isin(smooth, reached[reached > 0])
    _n, rest = cv2.connectedComponents((shown & ~sky).astype(np.uint8), connectivity=8)
    bottom = height - 1 - shown[::-1].argmax(0)
    grounded = np.unique([rest[np.clip(bottom[start] - k, 0, height - 1), at[start]] for k in range(4)])
    land = np.isin(rest, grounded[grounded > 0])
    row = land.argmax(0)
    known = start & land.any(0) & (row > top + _SKY_DEG * PX_PER_DEG)
    # the edge itself, not where its slope begins
    near = np.clip(row + np.arange(_EDGE_PX)[:, None], 0, height - 1)
    row = near[slope[near, at].argmax(0), at]
    above, below = (_mean_about(lab, shown, row, side) for side in (-1, 1))
    step = np.linalg.norm(above - below, axis=1)
    strongest = np.where(shown, slope, 0.0).max(0)
    # haze and clouds are but a little darker than the sky above them, land is as dark as what lies farther below
    ground = shown & (np.arange(height) > (HIGH_DEG - _LAND_DEG) * PX_PER_DEG)[:, None]
    darkness = np.full(width, np.nan)
    low = ground.any(0)
    darkness[low] = np.nanmedian(np.where(ground, lab[..., 0], np.nan)[:, low], axis=0)
    known &= above[:, 0] - below[:, 0] >= _OF_DARKNESS * (above[:, 0] - darkness)
    known &= (step >= _STEP) & (slope[row, at] >= _OF_STRONGEST * strongest)
    known &= above[:, 0] > below[:, 0] - _DARKER
    known &= _of_one_sky(lab, smooth, row, top, known)
    altitude = HIGH_DEG - (row + 0.5) / PX_PER_DEG
    return np.where(known, altitude, np.nan)


def _mean_about(lab: Array, shown: Flags, row: Array, side: int) -> Array:
    """Mean colour a little above (-1) or below (1) a row of each column, (W, 3)."""
    steps = np.arange(round(_BESIDE_DEG[0] * PX_PER_DEG), round(_BESIDE_DEG[1] * PX_PER_DEG) + 1)
    at = np.clip(row + side * steps[:, None], 0, len(lab) - 1)
    columns = np.arange(lab.shape[1])
    return np.asarray(lab[at, columns].mean(0))


def _of_one_sky(lab: Array, smooth: Array, row: Array, top: Array, known: Flags) -> Flags:
    """Columns (W,) above whose skyline lies the widest sky, and not a wall that fills the picture to its top."""
    if not known.any():
        return known
    height, width = smooth.shape
    at = np.arange(width)
    part = np.zeros(width, int)
    for k in range(round(_SKY_DEG * PX_PER_DEG)):  # the part of the sky just above the skyline, past what hides it
        part = np.where(part == 0, np.where(known, smooth[np.clip(row - _EDGE_PX - k, 0, height - 1), at], 0), part)
    middle = np.clip((row + top) // 2, 0, height - 1)
    colours = np.array([lab[np.clip(middle + k, 0, height - 1), at] for k in range(-3, 4)]).mean(0)
    groups = _joined_parts(part, colours)
    sizes = {g: int((groups == g).sum()) for g in np.unique(groups[groups > 0])}
    if not sizes:
        return np.zeros(width, bool)
    order = sorted(sizes, key=lambda g: -sizes[g])
    main = order[0]
    for rival in order[1:]:
        if sizes[rival] < _RIVAL * sizes[main]:
            break
        one, other = (np.median(colours[groups == g], axis=0) for g in (main, rival))
        if _clearly_sky(one, other):
            continue
        if not _clearly_sky(other, one):
            return np.zeros(width, bool)
        main = rival
    return np.asarray(groups == main)


def _clearly_sky(one: Array, other: Array) -> bool:
    """Whether the first colour is so much lighter, or bluer and no darker, that it is the sky beside the other."""
    lighter, bluer = one[0] - other[0], other[2] - one[2]
    return bool(lighter >= _CLEARLY or (bluer >= _CLEARLY and lighter > -_CLEARLY))


def _joined_parts(part: Array, colours: Array) -> Array:
    """Parts of the sky (W,) by number, where those whose colours go on from the one to the next have one number."""
    groups = part.copy()
    runs = np.flatnonzero(np.diff(np.concatenate([[0], part, [0]])) != 0)
    pieces = [(a, b, part[a]) for a, b in zip(runs, runs[1:]) if part[a] > 0]
    beside = round(_BESIDE_COLUMNS_DEG * PX_PER_DEG)
    for (a0, b0, one), (a1, b1, other) in zip(pieces, [*pieces[1:], *pieces[:1]]):
        before, after = colours[max(a0, b0 - beside) : b0], colours[a1 : min(b1, a1 + beside)]
        if one != other and np.linalg.norm(np.median(before, 0) - np.median(after, 0)) < _ONE_SKY:
            groups[groups == groups[a1]] = groups[a0]
    return groups


def _agreed(tried: Array) -> tuple[Array, Array]:
    """Of altitudes (E, W) by strength and column the one that some strengths agree on, and its doubt; NaN where several or none."""
    strengths, width = tried.shape
    best, doubt = np.full(width, np.nan), np.full(width, np.nan)
    for x in np.flatnonzero(np.isfinite(tried).sum(0) >= _LEAST_AGREEING):
        found: list[tuple[float, float]] = []
        first = 0
        for k in range(1, strengths + 1):
            run = tried[first:k, x]
            if (
                k < strengths
                and np.isfinite(tried[first : k + 1, x]).all()
                and np.ptp(tried[first : k + 1, x]) <= _AGREE_DEG
            ):
                continue
            if len(run) >= _LEAST_AGREEING and np.isfinite(run).all():
                found.append((float(np.median(run)), float(np.ptp(run))))
            first = k
        if len(found) == 1:
            best[x], doubt[x] = found[0]
    return best, doubt
