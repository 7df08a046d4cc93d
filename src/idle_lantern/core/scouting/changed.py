"""What differs between two scouting pictures of a place: what moved, or was lit otherwise, by direction."""

from __future__ import annotations

import math

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.scouting.plan_transfer import Change
from idle_lantern.core.scouting.reprojection import ReprojectedScouts, on_sphere

_SIZE = (2880, 1440)  # an eighth of a degree a pixel: a figure at 40 m is 20 of them high
_CELL_DEG = 2.0  # side of the cells that are compared
_SEARCH_DEG = 1.0  # how far a thing may stand from its place
_STEP_DEG = 1.0  # between places that are tried
_CONTRAST = 4.0  # display values: a cell of less tells nothing
_SAME = 0.8  # likeness from which a cell is the same
_LEFT_OVER = 9.0  # display values left over, up to which it is the same too
#: Only what lies between these altitudes is compared: nothing walks overhead, and the map is stretched there.
_REACH_DEG = 60.0


def changes(front: ReprojectedScouts, other: ReprojectedScouts) -> tuple[Change, ...]:
    """Where two pictures that lie on each other differ, the largest first.

    Each cell of one is sought in the other within a degree, by normalised correlation: hands that wander and exposures that
    differ change nothing, a figure that went away does.
    """
    one, two = (on_sphere([ground], _SIZE) for ground in (front, other))
    px = _SIZE[0] / 360
    cell, search, step = round(_CELL_DEG * px), round(_SEARCH_DEG * px), round(_STEP_DEG * px)
    grey_a, grey_b = (cv2.cvtColor(sheet[..., :3], cv2.COLOR_RGB2GRAY) for sheet in (one, two))
    both = cv2.erode(((one[..., 3] > 0) & (two[..., 3] > 0)).astype(np.uint8), np.ones((2 * search + 1,) * 2, np.uint8))
    found = np.zeros(grey_a.shape, np.uint8)
    top, bottom = (round((90 - a) * px) for a in (_REACH_DEG, -_REACH_DEG))
    for y in range(top, bottom - cell, step):
        for x in range(search, _SIZE[0] - cell - search, step):
            if not both[y : y + cell, x : x + cell].all():
                continue
            a, b = grey_a[y : y + cell, x : x + cell], grey_b[y : y + cell, x : x + cell]
            # what is even in both tells nothing; a figure before an even wall is in one of them
            if max(a.std(), b.std()) < _CONTRAST or _again(a, grey_b, x, y, search) or _again(b, grey_a, x, y, search):
                continue
            found[y : y + cell, x : x + cell] = 1
    return _boxes(found, px)


def _again(cell: Array, sheet: Array, x: int, y: int, search: int) -> bool:
    """Whether a cell is found in a sheet about its place."""
    if cell.std() < _CONTRAST / 2:
        return False
    size = cell.shape[0]
    around = sheet[y - search : y + size + search, x - search : x + size + search]
    alike = cv2.matchTemplate(around, cell, cv2.TM_CCOEFF_NORMED)
    v, u = np.unravel_index(int(alike.argmax()), alike.shape)
    left_over = around[v : v + size, u : u + size].astype(float) - cell
    return float(alike[v, u]) >= _SAME or float(left_over.std()) < _LEFT_OVER


def _boxes(found: Array, px: float) -> tuple[Change, ...]:
    count, _labels, stats, _middles = cv2.connectedComponentsWithStats(found, connectivity=8)
    boxes = []
    for at in range(1, count):
        x, y, width, height, area = (float(v) for v in stats[at])
        azimuth, altitude = (x + width / 2) / px - 180, 90 - (y + height / 2) / px
        boxes.append((area * math.cos(math.radians(altitude)), Change(azimuth, altitude, width / px, height / px)))
    return tuple(change for _, change in sorted(boxes, key=lambda row: -row[0]))
