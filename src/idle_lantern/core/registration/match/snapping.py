"""A point set by hand made exact: where a frame shows the very thing that was marked in another one."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.lenses import Lens, transfer
from idle_lantern.core.registration.match.by_hand import SIGMA_PX

_HALF = 12  # half the patch in pixels
_REACH = 14  # pixels that a hand may miss by
_ALIKE = 0.8  # likeness from which the place is believed
#: Standard error of a place that was snapped.
SNAPPED_PX = 0.05


@dataclass(frozen=True)
class Snapped:
    """The place in the other frame, how far it was moved, how well it is known, and how alike both places are (-1 to 1)."""

    xy: tuple[float, float]
    moved_px: float
    sigma_px: float
    alike: float

    @property
    def sentence(self) -> str:
        """What was done, in words."""
        if self.sigma_px < SIGMA_PX:
            return f"Snapped to the same detail, {self.moved_px:.1f} px from where you clicked."
        return "Kept where you clicked: the frames show no detail there that is alike."


def snapped(
    picture_a: Array,
    xy_a: tuple[float, float],
    picture_b: Array,
    xy_b: tuple[float, float],
    b_from_a: Array | None = None,
) -> Snapped:
    """Where ``picture_b`` (H, W, 3) shows what lies at ``xy_a`` of ``picture_a``, near ``xy_b``; by likeness of a patch, then
    by the steps of Lucas and Kanade (1981) to a hundredth of a pixel. Where nothing is alike the place stays.

    ``b_from_a`` (2, 2) says how things about the place are drawn in b, of those in a (``drawn_as``): wide lenses shear them.
    """
    kept = Snapped(xy_b, 0.0, SIGMA_PX, 0.0)
    template = _patch(picture_a, xy_a, _HALF, None if b_from_a is None else np.linalg.inv(b_from_a))
    around = _patch(picture_b, xy_b, _HALF + _REACH)
    if template is None or around is None or template.std() < 2.0:
        return kept
    likeness = cv2.matchTemplate(around, template, cv2.TM_CCOEFF_NORMED)
    _low, best, _at, (column, row) = cv2.minMaxLoc(likeness)
    if best < _ALIKE:
        return Snapped(xy_b, 0.0, SIGMA_PX, float(best))
    # rivals as good elsewhere: a fence, a row of windows
    others = likeness.copy()
    cv2.circle(others, (column, row), 4, -1.0, -1)
    if others.max() > best - 0.02:
        return Snapped(xy_b, 0.0, SIGMA_PX, float(best))
    start = np.array([column - _REACH, row - _REACH], float) + xy_b
    fine, found = _lucas_kanade(template, picture_b, start)
    if not found:
        return Snapped(xy_b, 0.0, SIGMA_PX, float(best))
    moved = float(np.hypot(*(fine - xy_b)))
    return Snapped((float(fine[0]), float(fine[1])), moved, SNAPPED_PX, float(best))


def drawn_as(
    lens_a: Lens, lens_b: Lens, xy_a: tuple[float, float], xy_b: tuple[float, float], b_from_a: Array
) -> Array | None:
    """How one pixel right and one down of a place in a are drawn in b, (2, 2), where cameras are turned by ``b_from_a``."""
    start = np.array(xy_a, float)
    beside = start + np.array([[1.0, 0], [-1.0, 0], [0, 1.0], [0, -1.0]])
    places, valid = transfer(lens_a, lens_b, b_from_a, beside)
    if not (valid.all() and np.isfinite(places).all()):
        return None
    warp = np.stack([places[0] - places[1], places[2] - places[3]], -1) / 2
    return warp if 0.2 < abs(float(np.linalg.det(warp))) < 5 else None


def _patch(picture: Array, xy: tuple[float, float] | Array, half: int, warp: Array | None = None) -> Array | None:
    """Brightness of a square about a place between pixels, drawn through ``warp``; None where it leaves the frame."""
    h, w = picture.shape[:2]
    x, y = float(xy[0]), float(xy[1])
    side = np.arange(-half, half + 1, dtype=float)
    off = np.stack(np.meshgrid(side, side), -1)
    if warp is not None:
        off = off @ warp.T
    reach = int(np.ceil(np.abs(off).max())) + 2
    if not (reach <= x < w - reach and reach <= y < h - reach):
        return None
    left, top = int(x) - reach, int(y) - reach
    part = picture[top : top + 2 * reach + 2, left : left + 2 * reach + 2]
    if part.dtype == np.uint16:
        part = (part >> 8).astype(np.uint8)
    grey = cv2.cvtColor(np.ascontiguousarray(part), cv2.COLOR_RGB2GRAY).astype(np.float32)
    at = (off + np.array([x - left, y - top])).astype(np.float32)
    return np.asarray(cv2.remap(grey, at, None, cv2.INTER_CUBIC))


def _lucas_kanade(template: Array, picture: Array, start: Array) -> tuple[Array, bool]:
    """Shift until nothing more is gained, gain and offset of the light free; whether it settled near the start."""
    gy, gx = np.gradient(template)
    ones = np.ones_like(template)
    design = np.stack([gx, gy, template, ones], -1).reshape(-1, 4)
    place = start.copy()
    for _ in range(30):
        patch = _patch(picture, place, _HALF)
        if patch is None:
            return start, False
        # patch = gain * template(shifted) + offset: the slope of the template tells the step
        solution = np.linalg.lstsq(design, patch.ravel(), rcond=None)[0]
        gain = solution[2]
        if abs(gain) < 0.2:
            return start, False
        step = -solution[:2] / gain
        place = place + np.clip(step, -1.5, 1.5)
        if np.hypot(*step) < 1e-3:
            break
    return place, bool(np.hypot(*(place - start)) < 3.0)
