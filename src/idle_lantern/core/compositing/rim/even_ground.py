"""Where a gap borders on sky, grass or water and may be filled from more of it, place by place.

What something is is told by its colour, how it lies to the horizon and how rough it is; near long edges stands something made.
What cannot be told from asphalt or a wall is not taken for sky or water: a gap stays rather than that something is invented.
"""

from __future__ import annotations

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Flags

#: Kinds of even ground; 0 is anything else.
SKY, GRASS, WATER = 1, 2, 3
#: Sky is smoother than this, clouds too (standard deviation of display values over some pixels), and no redder than blue by more than
#: this, or as bright as that share of the brightest.
_SMOOTH, _REDDER, _BRIGHT = 20.0, 8.0, 0.85
#: Grass and leaves are greener than red and blue by so much, water bluer than red.
_GREENER, _BLUER = 5.0, 6.0
#: Below the horizon by more than this lies no sky, above it by more no water, as sine of the altitude.
_HORIZON = 0.03
#: A rim is of a kind where so much about it is, within so many pixels.
_SURE, _ABOUT_PX = 0.7, 9
#: Edges as long as this share of the picture's longer side are of something made, and nothing is even so near them.
_LONG, _NEAR_PX = 0.05, 10
#: An edge of something made is lighter on the same side all along, by so much so many pixels beside it.
_STEP, _BESIDE_PX = 8.0, 2.5
#: A line so near the horizon, as sine of the altitude, and so level is the horizon.
_ON_HORIZON, _LEVEL = 0.04, 0.1


def kinds_of_ground(picture: Array, shown: Flags, up: Array) -> Array:
    """Of each pixel of a picture (h, w, 3) uint8 that is ``shown`` (h, w) what it shows, (h, w) uint8; ``up`` (h, w) is the sine of its altitude."""
    red, green, blue = (picture[..., i].astype(np.float32) for i in range(3))
    grey = cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY).astype(np.float32)
    weight = cv2.blur(shown.astype(np.float32), (9, 9)) + np.float32(1e-6)
    known = np.where(shown, grey, 0)
    mean = cv2.blur(known, (9, 9)) / weight
    # of the slope of a sky nothing is rough
    rough = np.sqrt(cv2.blur(np.where(shown, (grey - _plane_about(known, shown)) ** 2, 0), (9, 9)) / weight)
    bright = mean > _BRIGHT * float(np.percentile(grey[shown], 98))
    kind = np.zeros(shown.shape, np.uint8)
    kind[(up > -_HORIZON) & (rough < _SMOOTH) & ((blue >= red - _REDDER) | bright)] = SKY
    kind[(green > red + _GREENER) & (green > blue + _GREENER)] = GRASS
    kind[(up < _HORIZON) & (blue > red + _BLUER) & (kind == 0)] = WATER
    kind[~shown | _near_edges(grey, shown, up)] = 0
    return kind


def even_gaps(kind: Array, shown: Flags) -> Array:
    """Of each pixel of a gap the kind of ground of the rim nearest to it, (h, w) uint8; 0 where the gap stays."""
    missing = ~shown
    side = 2 * _ABOUT_PX + 1
    count = cv2.boxFilter(shown.astype(np.float32), -1, (side, side), normalize=False)
    share = np.stack(
        [cv2.boxFilter((kind == k).astype(np.float32), -1, (side, side), normalize=False) for k in (SKY, GRASS, WATER)]
    )
    best = share.argmax(0)
    # two kinds of even ground beside each other are even all the same
    sure = share.sum(0) >= _SURE * np.maximum(count, 1)
    at_rim = np.where(sure, best + 1, 0).astype(np.uint8)
    _far, label = cv2.distanceTransformWithLabels(
        missing.astype(np.uint8), cv2.DIST_L2, 5, labelType=cv2.DIST_LABEL_PIXEL
    )
    # every shown pixel has a label of its own: what it is of is looked up by it
    of_label = np.zeros(int(label.max()) + 1, np.uint8)
    of_label[label[shown]] = at_rim[shown]
    return np.where(missing, of_label[label], 0).astype(np.uint8)


def _plane_about(grey: Array, shown: Flags) -> Array:
    """Brightness as it is about each pixel, slopes kept: the mean of a blur and of what it misses."""
    weight = cv2.GaussianBlur(shown.astype(np.float32), (0, 0), 3.0) + np.float32(1e-6)
    soft = cv2.GaussianBlur(grey, (0, 0), 3.0) / weight
    missed = cv2.GaussianBlur(np.where(shown, grey - soft, 0), (0, 0), 3.0) / weight
    return np.asarray(soft + missed)


def _near_edges(grey: Array, shown: Flags, up: Array) -> Flags:
    """What lies near long straight edges: those of things that were made. The rim itself and the horizon are none."""
    found = cv2.createLineSegmentDetector().detect(grey.astype(np.uint8))[0]
    near = np.zeros(shown.shape, np.uint8)
    inside = cv2.distanceTransform(shown.astype(np.uint8), cv2.DIST_L2, 3)
    for x0, y0, x1, y1 in () if found is None else found.reshape(-1, 4):
        length = float(np.hypot(x1 - x0, y1 - y0))
        if length < _LONG * max(shown.shape):
            continue
        along = np.linspace(0, 1, 5)
        columns = np.clip(np.rint(x0 + along * (x1 - x0)).astype(int), 0, shown.shape[1] - 1)
        rows = np.clip(np.rint(y0 + along * (y1 - y0)).astype(int), 0, shown.shape[0] - 1)
        if np.median(inside[rows, columns]) < 3:  # along the rim
            continue
        if np.abs(up[rows, columns]).max() < _ON_HORIZON and abs(y1 - y0) < _LEVEL * length:
            continue
        beside = _BESIDE_PX / length * np.array([y0 - y1, x1 - x0])
        steps = _at(grey, columns + beside[0], rows + beside[1]) - _at(grey, columns - beside[0], rows - beside[1])
        if max(steps.min(), -steps.max()) < _STEP:  # wisps of cloud, waves
            continue
        cv2.line(near, (columns[0], rows[0]), (columns[-1], rows[-1]), 1, 2 * _NEAR_PX + 1)
    return np.asarray(near > 0)


def _at(grey: Array, x: Array, y: Array) -> Array:
    """Brightness at the pixels nearest to places (N,) each."""
    h, w = grey.shape
    return np.asarray(grey[np.clip(np.rint(y).astype(int), 0, h - 1), np.clip(np.rint(x).astype(int), 0, w - 1)])
