"""Distances all over a photograph, by a second one whose turn and step against it are known.

Both are turned so that a thing shifts along rows only (Fusiello, Trucco and Verri, *A compact algorithm for rectification
of stereo pairs*, 2000), and each place's shift is sought by semi-global matching (Hirschmueller, 2008); OpenCV does both. The
shift by pixel tells the inverse distance: 1 / Z = shift / (focal length * step).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens

#: Standard error of a shift, in pixels, within a surface (set on simulated pairs), and share of it that all errs alike.
_SHIFT_PX = 0.6
#: Shifts are sought up to those of things at such a share of the nearest distance known so far, and of the width at most.
_NEARER, _WIDEST = 0.35, 0.45
#: Blocks of so many pixels a side are compared; regions of fewer pixels are specks.
_BLOCK, _SPECK = 5, 150
#: The nearest thing is what such a share of the picture does not come nearer than, and it takes up so many pixels.
_NEAREST_SHARE = 0.01
#: Of the picture so much must be known.
_LEAST_KNOWN = 0.15


@dataclass(frozen=True)
class DenseDistances:
    """Distances (N,) in metres along rays (N, 3) of the first photograph, with their standard errors; ``known`` is their share of it."""

    rays: Array
    metres: Array
    sigma_m: Array
    known: float

    def nearest(self) -> tuple[float, float, float, float] | None:
        """Distance that one hundredth of what is known comes nearer than, its standard error, azimuth and altitude in degrees there."""
        if self.known < _LEAST_KNOWN:
            return None
        order = np.argsort(self.metres)
        at = order[int(_NEAREST_SHARE * len(order))]
        # of what stands about there, so that one place's own error counts little
        about = order[int(0.5 * _NEAREST_SHARE * len(order)) : int(1.5 * _NEAREST_SHARE * len(order)) + 1]
        metres = float(np.median(self.metres[about]))
        x, y, z = self.rays[about[np.abs(self.metres[about] - metres).argmin()]]
        spread = float(np.subtract(*np.percentile(self.metres[about], [75, 25]))) / 1.35
        sigma = math.hypot(float(self.sigma_m[at]), spread)
        return metres, sigma, math.degrees(math.atan2(x, z)), math.degrees(math.atan2(-y, math.hypot(x, z)))

    def about(self, azimuth_deg: float, altitude_deg: float, within_deg: float) -> tuple[float, float] | None:
        """Median distance of what is known about a direction, and its standard error; None where little is."""
        azimuth = np.degrees(np.arctan2(self.rays[:, 0], self.rays[:, 2]))
        altitude = np.degrees(np.arctan2(-self.rays[:, 1], np.hypot(self.rays[:, 0], self.rays[:, 2])))
        off = np.hypot((azimuth - azimuth_deg) * math.cos(math.radians(altitude_deg)), altitude - altitude_deg)
        near = off <= within_deg
        if near.sum() < _SPECK:
            return None
        return float(np.median(self.metres[near])), float(np.median(self.sigma_m[near]))


def dense_distances(
    first: Array, second: Array, lens_a: Lens, lens_b: Lens, b_from_a: Array, step: Array, nearest_m: float
) -> DenseDistances | None:
    """Distances all over the first photograph (h, w, 3); None where the step leads too much towards what is shown.

    ``step`` (3,) is where the second stood, in metres in the first's frame, ``nearest_m`` the nearest distance known so far.
    """
    if abs(step[2]) > 0.7 * float(np.linalg.norm(step)):
        return None
    size = (lens_a.width, lens_a.height)
    cameras = [np.array([[s.focal_px, 0, s.principal_px[0]], [0, s.focal_px, s.principal_px[1]], [0, 0, 1.0]]) for s in (lens_a, lens_b)]  # fmt: skip
    turned_a, turned_b, plane_a, plane_b, _q, _r, _s = cv2.stereoRectify(
        cameras[0],
        np.zeros(5),
        cameras[1],
        np.zeros(5),
        size,
        b_from_a,
        (-b_from_a @ step)[:, None],
        flags=cv2.CALIB_ZERO_DISPARITY,
        alpha=-1,
        newImageSize=size,
    )
    sheets = [
        cv2.remap(
            pixels[..., :3],
            *cv2.initUndistortRectifyMap(camera, None, turned, plane, size, cv2.CV_32FC1),
            interpolation=cv2.INTER_LINEAR,
        )
        for pixels, camera, turned, plane in zip((first, second), cameras, (turned_a, turned_b), (plane_a, plane_b))
    ]
    upright = abs(plane_b[1, 3]) > abs(plane_b[0, 3])  # a step up or down: columns stand for rows
    along = float(plane_b[1, 3] if upright else plane_b[0, 3])  # minus focal length times step
    if upright:
        sheets = [np.ascontiguousarray(np.transpose(s, (1, 0, 2))) for s in sheets]
    mirrored = along > 0  # the second stood to the left
    if mirrored:
        sheets = [np.ascontiguousarray(s[:, ::-1]) for s in sheets]
    shift = _shifts(sheets[0], sheets[1], abs(along) / (_NEARER * nearest_m))
    if mirrored:
        shift = shift[:, ::-1]
    if upright:
        shift = shift.T
    v, u = np.nonzero(shift > 1.0)
    found = shift[v, u].astype(float)
    focal, middle = plane_a[0, 0], plane_a[:2, 2]
    rays = np.stack([(u - middle[0]) / focal, (v - middle[1]) / focal, np.ones(len(u))], -1)
    length = np.linalg.norm(rays, axis=1)
    metres = abs(along) / found * length
    shown = lens_a.sees(rays @ turned_a / length[:, None])
    rays, metres, found = (rays @ turned_a / length[:, None])[shown], metres[shown], found[shown]
    return DenseDistances(rays, metres, metres * _SHIFT_PX / found, float(len(metres)) / shift.size)


def _shifts(left: Array, right: Array, most_px: float) -> Array:
    """Shift to the left of each place of the one sheet on the other, in pixels, 0 where it is not known."""
    count = 16 * max(1, math.ceil(min(most_px, _WIDEST * left.shape[1]) / 16))
    grey = [cv2.cvtColor(s, cv2.COLOR_RGB2GRAY) for s in (left, right)]
    matcher: Any = cv2.StereoSGBM_create(  # type: ignore[attr-defined]
        minDisparity=0,
        numDisparities=count,
        blockSize=_BLOCK,
        P1=8 * _BLOCK**2,
        P2=32 * _BLOCK**2,
        disp12MaxDiff=1,
        preFilterCap=31,
        uniquenessRatio=12,
        speckleWindowSize=_SPECK,
        speckleRange=2,
        mode=cv2.STEREO_SGBM_MODE_SGBM_3WAY,
    )
    # room at the left, where things of the one sheet lie beyond the other
    padded = [cv2.copyMakeBorder(g, 0, 0, count, 0, cv2.BORDER_CONSTANT) for g in grey]
    found = matcher.compute(*padded)[:, count:].astype(np.float32) / 16
    return np.asarray(np.where(found > 0, found, 0.0))
