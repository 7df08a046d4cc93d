"""The head and its plate at the nadir: what turns with the camera is left out where another frame shows the ground.

Two frames straight down, turned against each other, show the ground at one place of the world and the head at one place of
the frame. Where the frames agree as they lie on the sensor and disagree as they lie in the world, it is the head. What stands
still, the legs, shows in both alike and stays.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.colours import largest
from idle_lantern.core.compositing.light.dust import alike_held
from idle_lantern.core.frames.masks import Mask, Masks
from idle_lantern.core.frames.reading import FrameInfo
from idle_lantern.core.geometry.holes import filled_holes
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.poses import Poses

#: Frames that look so far down can show the head; turned by so much against each other they tell it from the ground.
_DOWN_RAD, _TURNED_RAD = math.radians(-45.0), math.radians(25.0)
#: So many of the lowest frames are asked for the head, and so many are freed of it.
_ASKED, _SPARED = 6, 14
#: Display values by which the ground must disagree more than the sensor does.
_MORE = 14.0
#: Share of a frame that a piece of head has at least, and all of it at most; both of the frame's area.
_LEAST, _MOST = 0.0015, 0.4
#: Gaps up to this share of the frame's width are closed, and so much round it is left out as well.
_CLOSED, _ROUND = 0.03, 0.012


def carried_masks(
    poses: Poses, infos: Sequence[FrameInfo], working: Sequence[WorkingFrame], *, everywhere: bool = False
) -> Masks:
    """For each frame that looks down (by place in the poses) a mask over the head, where another frame shows the ground.

    ``everywhere`` hides it also where none does: a gap that is to be filled.
    """
    altitude = {i: math.asin(float(np.clip(-poses.world_from_camera[i, 1, 2], -1, 1))) for i in alike_held(infos)}
    down = sorted((i for i, a in altitude.items() if a < _DOWN_RAD), key=lambda i: altitude[i])[:_SPARED]
    if len(down) < 2 or len({working[i].picture.pixels.shape for i in down}) > 1:
        return {}
    head = _head(poses, working, down[:_ASKED])
    if head is None:
        return {}
    masks = {}
    for i in down:
        hide = head if everywhere else head & _shown_elsewhere(poses, working, i, down, head)
        if hide.any():
            masks[i] = Mask(hide.astype(np.uint8) * 255, np.zeros(hide.shape, np.uint8))
    return masks


def _head(poses: Poses, working: Sequence[WorkingFrame], down: Sequence[int]) -> Array | None:
    """Where the reduced frames show the head, (h, w) bool; None where they do not."""
    shape = working[down[0]].picture.pixels.shape[:2]
    score, count = np.zeros(shape, np.float32), np.zeros(shape, np.float32)
    smooth = {i: cv2.GaussianBlur(working[i].picture.pixels, (0, 0), 1.5) for i in down}
    for i in down:
        for j in down:
            turn = poses.turn(i, j)
            if i == j or math.acos(float(np.clip((np.trace(turn) - 1) / 2, -1, 1))) < _TURNED_RAD:
                continue
            at, inside = _places(poses, working, i, j)
            there = cv2.remap(smooth[j], at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
            ground = cv2.blur(_largest(cv2.absdiff(smooth[i], there)), (5, 5))
            sensor = cv2.blur(_largest(cv2.absdiff(smooth[i], smooth[j])), (5, 5))
            score += np.where(inside, ground - sensor, 0)
            count += inside
    seeds = (score / np.maximum(count, 1) > _MORE) & (count > 0)
    width = shape[1]
    closed = cv2.morphologyEx(seeds.astype(np.uint8), cv2.MORPH_CLOSE, _disc(_CLOSED * width))
    filled = filled_holes(closed).astype(np.uint8)
    number, labels, stats, _ = cv2.connectedComponentsWithStats(filled)
    large = [k for k in range(1, number) if stats[k, cv2.CC_STAT_AREA] >= _LEAST * filled.size]
    head = np.isin(labels, large)
    if not large or head.mean() > _MOST:
        return None
    return np.asarray(cv2.dilate(head.astype(np.uint8), _disc(_ROUND * width)) > 0)


def _places(poses: Poses, working: Sequence[WorkingFrame], i: int, j: int) -> tuple[Array, Array]:
    """Where the reduced frame j shows what each pixel of the reduced frame i does, float32, and whether it does."""
    h, w = working[i].picture.pixels.shape[:2]
    scale = np.asarray(working[i].scale)
    u, v = np.meshgrid(np.arange(w, dtype=float), np.arange(h, dtype=float))
    seen, valid = poses.transfer(i, j, (np.stack([u, v], -1) + 0.5) * scale - 0.5)
    lens = poses.lenses[j]
    inside = valid & (seen >= 0).all(-1) & (seen <= (lens.width - 1, lens.height - 1)).all(-1)
    other = np.asarray(working[j].scale)
    return np.nan_to_num((seen + 0.5) / other - 0.5).astype(np.float32), inside


def _shown_elsewhere(poses: Poses, working: Sequence[WorkingFrame], i: int, down: Sequence[int], head: Array) -> Array:
    """Where another frame shows what lies behind the head of frame i."""
    found = np.zeros(head.shape, bool)
    for j in range(len(poses.lenses)):
        if j == i:
            continue
        at, inside = _places(poses, working, i, j)
        if j in down:
            covered = cv2.remap(head.astype(np.uint8), at, None, cv2.INTER_NEAREST, borderValue=1)
            inside &= covered == 0
        found |= inside
    return found


def _largest(pixels: Array) -> Array:
    return np.asarray(largest(pixels), np.float32)


def _disc(radius_px: float) -> Array:
    size = 2 * max(1, round(radius_px)) + 1
    return np.asarray(cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size)))
