"""Places where the picture shows nothing though there is picture round them."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array

_LEAST = 6  # pixels of the reduced canvas in a hole
_BITE = 0.04  # share of a frame in a bite at least
_NARROWEST = 0.12  # share of a frame's side across a bite at least


@dataclass(frozen=True)
class Hole:
    """Its box on the reduced canvas (column, row, width, height); ``enclosed`` where picture is all round it."""

    box: tuple[int, int, int, int]
    area: int
    enclosed: bool
    share: float


def holes(label: Array, frame_px: float, *, full_circle: bool) -> list[Hole]:
    """Gaps inside the picture, -1 in its label (h, w), and bites out of its rim as large as a part of a frame of ``frame_px`` pixels."""
    empty = (label < 0).astype(np.uint8)
    wide = np.concatenate([empty, empty], 1) if full_circle else empty
    count, labels, stats, _centres = cv2.connectedComponentsWithStats(wide, connectivity=4)
    height, width = wide.shape
    found: dict[tuple[int, int], Hole] = {}
    outside = np.zeros(wide.shape, bool)
    for k in range(1, count):
        x, y, w, h, area = (int(v) for v in stats[k])
        touches = y == 0 or y + h == height or (not full_circle and (x == 0 or x + w == width))
        if touches or w >= width or (full_circle and (x == 0 or x + w == width)):
            outside |= labels == k
        elif area >= _LEAST:
            found[(x % label.shape[1], y)] = Hole((x % label.shape[1], y, w, h), area, True, area / frame_px)
    return [*found.values(), *_bites(label, outside[:, : label.shape[1]], frame_px)]


def _bites(label: Array, outside: Array, frame_px: float) -> list[Hole]:
    """What a closing by two thirds of a frame would fill in from outside."""
    side = max(3, round(0.66 * frame_px**0.5)) | 1
    pad = side
    shown = np.pad((label >= 0).astype(np.uint8), pad)
    closed = cv2.morphologyEx(shown, cv2.MORPH_CLOSE, np.ones((side, side), np.uint8))[pad:-pad, pad:-pad]
    bitten = cv2.morphologyEx(((closed > 0) & outside).astype(np.uint8), cv2.MORPH_OPEN, np.ones((5, 5), np.uint8))
    count, _labels, stats, _centres = cv2.connectedComponentsWithStats(bitten)
    told = []
    for k in range(1, count):
        x, y, w, h, area = (int(v) for v in stats[k])
        if area >= _BITE * frame_px and min(w, h) >= _NARROWEST * frame_px**0.5:
            told.append(Hole((x, y, w, h), area, False, area / frame_px))
    return told
