"""A frame that was shot beside what the scouting picture foretold of it: by how much it looks elsewhere."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array, Rotations
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens

_WIDTH_PX = 480  # at which both pictures are compared
_POINTS = 1200  # sought in each
_LEAST = 12  # matches that must agree on one turn
_WITHIN_PX, _TRIES = 4.0, 300


@dataclass(frozen=True)
class Deviation:
    """How a frame looks elsewhere than foretold: positive to the right, up, and clockwise, in degrees."""

    yaw_deg: float
    pitch_deg: float
    roll_deg: float
    matches: int


def deviation(piece: Array, frame: Array, lens: Lens) -> Deviation | None:
    """By how much ``frame`` (h, w, 3) looks elsewhere than ``piece`` (h, w, 4), both through ``lens``; None where too little agrees.

    The turn that explains most matches, as of two pictures taken from one place.
    """
    one, two = (_points(pixels) for pixels in (piece, frame))
    if one is None or two is None:
        return None
    small = lens.scaled(_WIDTH_PX / lens.width)
    pairs = [
        pair[0]
        for pair in cv2.BFMatcher(cv2.NORM_L2).knnMatch(one[1], two[1], 2)
        if len(pair) == 2 and pair[0].distance < 0.8 * pair[1].distance
    ]
    if len(pairs) < _LEAST:
        return None
    foretold = _rays(small, one[0][[p.queryIdx for p in pairs]])
    shot = _rays(small, two[0][[p.trainIdx for p in pairs]])
    turn, agreed = _one_turn(foretold, shot, _WITHIN_PX / small.focal_px)
    if agreed < _LEAST:
        return None
    yaw, pitch, roll = (math.degrees(float(a)) for a in rotations.to_yaw_pitch_roll(turn))
    return Deviation(yaw, pitch, roll, agreed)


def _points(pixels: Array) -> tuple[Array, Array] | None:
    """Places (N, 2) and descriptors of a picture at the width of the comparison."""
    height = max(8, round(pixels.shape[0] * _WIDTH_PX / pixels.shape[1]))
    small = cv2.resize(pixels, (_WIDTH_PX, height), interpolation=cv2.INTER_AREA)
    mask = None
    if small.shape[2] == 4:
        mask = cv2.erode(np.where(small[..., 3] > 250, 255, 0).astype(np.uint8), np.ones((9, 9), np.uint8))
    sift: Any = cv2.SIFT_create(_POINTS)  # type: ignore[attr-defined]
    found, described = sift.detectAndCompute(
        cv2.cvtColor(np.ascontiguousarray(small[..., :3]), cv2.COLOR_RGB2GRAY), mask
    )
    if described is None or len(found) < _LEAST:
        return None
    return np.array([p.pt for p in found]), described


def _rays(lens: Lens, places: Array) -> Array:
    rays = lens.unproject(places)
    return np.asarray(np.nan_to_num(rays))


def _one_turn(a: Array, b: Array, within_rad: float) -> tuple[Array, int]:
    """The rotation with ``a = R b`` for most pairs of rays, and for how many; by pairs at random, then all that agree."""
    rng = np.random.default_rng(3)
    best: Rotations = np.eye(3)
    keep = np.zeros(len(a), bool)
    for _ in range(_TRIES):
        pick = rng.choice(len(a), 2, replace=False)
        turn = rotations.aligning(b[pick], a[pick])
        agree = np.linalg.norm(a - b @ turn.T, axis=1) < within_rad
        if agree.sum() > keep.sum():
            best, keep = turn, agree
    for _ in range(3):
        if keep.sum() < 2:
            break
        best = rotations.aligning(b[keep], a[keep])
        keep = np.linalg.norm(a - b @ best.T, axis=1) < within_rad
    return best, int(keep.sum())
