"""Exposures of one place aligned on their base, where the camera moved between them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture

#: Frames are compared at this many million pixels.
_COMPARE_MP = 1.2
#: A move below this at the corners leaves frames as they are: no pixel is touched.
_STAYS_PX = 0.35
_STAYS_EXACTLY_PX = 0.05  # where frames are averaged, those that moved less stay
_MOST_LEFT_PX = 3.0  # what matches can miss by at most
_LEAST_RESPONSE = 0.05  # of the measured rest: below, it is not believed
#: Of the middle so many pixels are compared at full size; a repeat with less detail than this share is not averaged.
_MIDDLE_PX, _AS_SHARP = 1024, 0.85
_LEAST_MATCHES = 12
_RATIO = 0.75
#: Differences of logarithms beyond the noise that say that something moved, in EV.
_MOVED_EV = 0.45
#: Linear light between which an exposure tells how bright a place is.
_LEAST_LIGHT, _MOST_LIGHT = 0.004, 0.8


@dataclass(frozen=True)
class AlignedExposures:
    """A picture aligned on the base; ``weight`` (H, W) is 0 where it shows nothing of it, None where it all counts."""

    picture: Picture
    weight: Array | None
    moved_px: float
    found: bool = True


@dataclass(frozen=True)
class BaseLook:
    """What of a base is needed to lay others on it: small, so that the base itself need not be held."""

    width: int
    height: int
    full_scale: int
    factor: float
    shape: tuple[int, int]
    points: Array
    described: Array | None
    linear: Array
    middle: Array

    @classmethod
    def of(cls, base: Picture | BaseLook) -> BaseLook:
        """The look of a picture."""
        if isinstance(base, BaseLook):
            return base
        factor = _factor(base)
        grey = _compared(base, factor)
        points, described = _described(grey)
        shape = grey.shape[0], grey.shape[1]
        return cls(
            base.width, base.height, base.full_scale, factor, shape, points, described, _linear(base), _middle(base)
        )


def on_base(
    base: Picture | BaseLook, other: Picture, focal_px: float | None = None, *, exactly: bool = False
) -> AlignedExposures:
    """Lay ``other`` on ``base``: a turn of the camera where its focal length is known, else any plane move.

    What cannot be matched (burnt out, black) is taken to lie as it is. ``exactly`` is for frames exposed alike, which
    are averaged: what the matches leave is measured at full size.
    """
    base = BaseLook.of(base)
    move = _move(base, other, focal_px)
    if move is None:
        return AlignedExposures(other, None, 0.0, found=False)
    aligned = _aligned(base, other, move, _STAYS_EXACTLY_PX if exactly else _STAYS_PX)
    if not exactly:
        return aligned
    right, down = _left_over(base.middle / base.full_scale, aligned.picture)
    if math.hypot(right, down) < _STAYS_EXACTLY_PX:
        return aligned
    return _aligned(base, other, move @ np.array([[1, 0, right], [0, 1, down], [0, 0, 1.0]]), 0.0)


def as_sharp(base: Picture | BaseLook, aligned: AlignedExposures) -> bool:
    """Whether a repeat shows nearly as much detail as its base, so that the mean of both loses none."""
    one, two = _detail(BaseLook.of(base).middle), _detail(_middle(aligned.picture))
    return two > _AS_SHARP * one


def _middle(picture: Picture) -> Array:
    """Green of the middle at full size."""
    half_h, half_w = min(picture.height, _MIDDLE_PX) // 2, min(picture.width, _MIDDLE_PX) // 2
    y, x = picture.height // 2, picture.width // 2
    return np.asarray(picture.pixels[y - half_h : y + half_h, x - half_w : x + half_w, 1], np.float32)


def _detail(grey: Array) -> float:
    """Strength of edges two to four pixels wide, above the noise of single pixels."""
    fine, coarse = cv2.GaussianBlur(grey, (0, 0), 1.0), cv2.GaussianBlur(grey, (0, 0), 2.0)
    return float(np.quantile(np.abs(fine - coarse), 0.98))


def _left_over(one: Array, aligned: Picture) -> tuple[float, float]:
    """Pixels by which a aligned picture still lies beside its base, in the middle."""
    two = _middle(aligned) / aligned.full_scale
    window = cv2.createHanningWindow(one.shape[::-1], cv2.CV_32F)
    (right, down), response = cv2.phaseCorrelate(one, two, window)
    return (right, down) if response > _LEAST_RESPONSE and math.hypot(right, down) < _MOST_LEFT_PX else (0.0, 0.0)


def _aligned(base: BaseLook, other: Picture, move: Array, stays_px: float) -> AlignedExposures:
    corners = np.array([[0, 0], [base.width - 1, 0], [0, base.height - 1], [base.width - 1, base.height - 1]], float)
    moved = cv2.perspectiveTransform(corners[None], move)[0]
    by = float(np.abs(moved - corners).max())
    if by < stays_px:
        return AlignedExposures(other, None, by)
    size = (base.width, base.height)
    flags = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
    pixels = cv2.warpPerspective(other.pixels, move, size, flags=flags, borderMode=cv2.BORDER_REPLICATE)
    inside = np.full(other.pixels.shape[:2], 255, np.uint8)
    inside = cv2.warpPerspective(inside, move, size, flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)
    weight = (inside == 255).astype(np.float32)
    return AlignedExposures(Picture(np.ascontiguousarray(pixels), None, other.space), weight, by)


def _move(base: BaseLook, other: Picture, focal_px: float | None) -> Array | None:
    """Homography from pixels of the base to those of the other, None where too little matches."""
    p1, d1 = base.points, base.described
    p2, d2 = _described(_compared(other, base.factor))
    if d1 is None or d2 is None or min(len(p1), len(p2)) < _LEAST_MATCHES:
        return None
    pairs = [
        (m[0].queryIdx, m[0].trainIdx)
        for m in cv2.BFMatcher(cv2.NORM_L2).knnMatch(d1, d2, k=2)
        if len(m) == 2 and m[0].distance < _RATIO * m[1].distance
    ]
    if len(pairs) < _LEAST_MATCHES:
        return None
    scale = base.width / base.shape[1], base.height / base.shape[0]
    p = (p1[[i for i, _ in pairs]] + 0.5) * scale - 0.5
    q = (p2[[j for _, j in pairs]] + 0.5) * scale - 0.5
    tolerance = 1.5 / base.factor
    homography, inliers = cv2.findHomography(p, q, cv2.USAC_MAGSAC, tolerance, maxIters=3000, confidence=0.999)
    if homography is None or int(inliers.sum()) < _LEAST_MATCHES:
        return None
    keep = inliers.ravel() > 0
    if focal_px is None:
        return np.asarray(homography)
    return _turn(p[keep], q[keep], focal_px, base)


def _turn(p: Array, q: Array, focal_px: float, base: BaseLook) -> Array:
    """The homography of a turn about the lens: ``K R K^-1`` (Hartley and Zisserman 2004, 8.4)."""
    centre = np.array([(base.width - 1) / 2, (base.height - 1) / 2])

    def rays(points: Array) -> Array:
        d = np.column_stack([(points - centre) / focal_px, np.ones(len(points))])
        return np.asarray(d / np.linalg.norm(d, axis=1, keepdims=True))

    u, _s, vt = np.linalg.svd(rays(q).T @ rays(p))
    rotation = u @ np.diag([1, 1, np.linalg.det(u @ vt)]) @ vt
    k = np.array([[focal_px, 0, centre[0]], [0, focal_px, centre[1]], [0, 0, 1]])
    return np.asarray(k @ rotation @ np.linalg.inv(k))


def _factor(picture: Picture) -> float:
    """By how much pictures are reduced to be compared."""
    return min(1.0, math.sqrt(_COMPARE_MP * 1e6 / (picture.width * picture.height)))


def _described(grey: Array) -> tuple[Array, Array | None]:
    """Places (N, 2) of a small picture, and their descriptors."""
    found, described = cv2.SIFT.create(nfeatures=1500, contrastThreshold=0.01).detectAndCompute(grey, None)
    return np.array([k.pt for k in found]).reshape(-1, 2), described


def _linear(picture: Picture) -> Array:
    """Linear light (h, w), small."""
    factor = _factor(picture)
    size = (max(8, round(picture.width * factor)), max(8, round(picture.height * factor)))
    small = cv2.resize(picture.pixels, size, interpolation=cv2.INTER_AREA).astype(np.float32)
    return np.asarray(picture.space.to_linear(small.mean(2) / picture.full_scale))


def _compared(picture: Picture, factor: float) -> Array:
    """Small and grey, alike for all exposures: every part stretched to the same contrast."""
    pixels = picture.pixels if picture.pixels.dtype == np.uint8 else (picture.pixels >> 8).astype(np.uint8)
    grey = cv2.cvtColor(pixels, cv2.COLOR_RGB2GRAY)
    if factor < 1:
        size = (max(16, round(picture.width * factor)), max(16, round(picture.height * factor)))
        grey = cv2.resize(grey, size, interpolation=cv2.INTER_AREA)
    return np.asarray(cv2.createCLAHE(3.0, (8, 8)).apply(grey))


def unmoved(
    base: Picture | BaseLook, others: Sequence[AlignedExposures], steps_ev: Sequence[float]
) -> list[Array | None]:
    """For each picture that lies on the base, where it shows what the base shows, (h, w): 0 where something moved.

    ``steps_ev`` tells how much more each was exposed than the base. Where the base is clipped or black it says nothing,
    and the others count.
    """
    base = BaseLook.of(base)
    return [_unmoved(base, aligned, ev) for aligned, ev in zip(others, steps_ev)]


def _unmoved(base: BaseLook, aligned: AlignedExposures, ev: float) -> Array | None:
    one, two = base.linear, _linear(aligned.picture)
    # what the other should show, as far as it can: black and full tell no more than that
    expected = np.clip(one * 2.0**ev, _LEAST_LIGHT, _MOST_LIGHT)
    off = np.abs(np.log2(np.clip(two, _LEAST_LIGHT, _MOST_LIGHT) / expected))
    off[(one < _LEAST_LIGHT) | (one > _MOST_LIGHT)] = 0
    # a whole thing, not grains: noise and edges that miss by half a pixel are no move
    off = cv2.medianBlur(off.astype(np.float32), 5)
    moved = cv2.morphologyEx((off > _MOVED_EV).astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3), np.uint8))
    if not moved.any():
        return aligned.weight
    moved = cv2.dilate(moved, np.ones((9, 9), np.uint8)).astype(np.float32)
    stays = 1 - cv2.GaussianBlur(moved, (0, 0), 3)
    whole = cv2.resize(np.clip(stays, 0, 1), (base.width, base.height), interpolation=cv2.INTER_LINEAR)
    return np.asarray(whole if aligned.weight is None else whole * aligned.weight)
