"""The skyline of a place: how high land, houses and trees stand against the sky, by direction."""

from __future__ import annotations

import math

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.redrawn import redrawn
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.registration.solve.sky_border import HIGH_DEG, PX_PER_DEG, sky_border
from idle_lantern.core.scouting.reprojection import ReprojectedScouts, on_sphere
from idle_lantern.core.scouting.scout_picture import SkylineRow

_SIZE = (round(360 * PX_PER_DEG), round(180 * PX_PER_DEG))
#: The sea's horizon lies hardly lower than this for one who looks for a panorama.
_LOW_DEG = -2.0


def skyline_of(ground: ReprojectedScouts) -> tuple[SkylineRow, ...]:
    """The skyline in the ground's own azimuths, a row a degree, where the picture shows both land and sky."""
    first, last = (round((90 - a) * PX_PER_DEG) for a in (HIGH_DEG, -HIGH_DEG))
    sheet = on_sphere([ground], _SIZE)[first:last]
    shown = cv2.erode((sheet[..., 3] > 0).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    return _by_degree(*sky_border(sheet[..., :3], shown))


def sky_over(picture: Array, canvas: Canvas) -> tuple[tuple[float, float], ...]:
    """The skyline of a joined picture (h, w, 3 or 4) of any size that lies on ``canvas``: azimuths and altitudes in degrees, densely."""
    centre = ((_SIZE[0] - 1) / 2, (_SIZE[1] - 1) / 2)
    sphere = Canvas(Projection("equirectangular"), *_SIZE, PX_PER_DEG * 180 / math.pi, centre, full_circle=True)
    sheet = redrawn(picture, canvas, sphere, most_px=_SIZE[0] * _SIZE[1])
    first, last = (round((90 - a) * PX_PER_DEG) for a in (HIGH_DEG, -HIGH_DEG))
    sheet = sheet[first:last]
    shown = cv2.erode((sheet[..., 3] > 0).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    altitude, _doubt = sky_border(np.ascontiguousarray(sheet[..., :3]), shown)
    azimuth = (np.arange(len(altitude)) + 0.5) / PX_PER_DEG - 180
    found = np.isfinite(altitude) & (altitude >= _LOW_DEG)
    return tuple((round(float(a), 3), round(float(h), 3)) for a, h in zip(azimuth[found], altitude[found]))


def _by_degree(altitude: Array, doubt: Array) -> tuple[SkylineRow, ...]:
    azimuth = (np.arange(len(altitude)) + 0.5) / PX_PER_DEG - 180
    rows = []
    for degree in range(-180, 180):
        mine = (np.floor(azimuth) == degree) & (altitude >= _LOW_DEG)
        if mine.sum() >= 2:
            found = altitude[mine]
            error = max(1 / PX_PER_DEG, float(np.median(doubt[mine])), float(np.std(found)))
            rows.append((degree + 0.5, round(float(np.median(found)), 2), round(error, 2)))
    return tuple(rows)
