"""Dust on the sensor: dark spots at one place in every frame, whatever the frame shows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.join.match.features import WorkingFrame

Array = NDArray[Any]

#: Only frames that are smooth about a place can tell of dust there: so many, and this share of all.
_LEAST_FRAMES, _LEAST_SHARE = 4, 0.3
#: Contrast about a place up to which it is smooth.
_SMOOTH = 0.022
#: Loss of light in a spot that is told, as share; every smooth frame must show some of it, and all much the same.
_LEAST_LOSS, _EACH, _ALIKE = 0.02, 0.35, 0.4
_MOST_SPOTS = 12
#: On a ring about a spot nothing is darker than this share of its depth.
_RING = 0.35


@dataclass(frozen=True)
class Spot:
    """A spot: its place and size in pixels of the frame as the sensor saw it, and the share of light it takes."""

    u: float
    v: float
    size_px: float
    loss: float


def spots(frames: Sequence[WorkingFrame]) -> list[Spot]:
    """Spots common to all frames of a set, the darkest first. Frames are as the sensor saw them, of one size."""
    if len(frames) < _LEAST_FRAMES or len({f.picture.pixels.shape for f in frames}) > 1:
        return []
    total, squares, votes = (np.zeros(frames[0].picture.pixels.shape[:2], np.float32) for _ in range(3))
    least = np.full_like(total, -np.inf)
    for frame in frames:
        grey = cv2.cvtColor(frame.picture.pixels, cv2.COLOR_RGB2GRAY).astype(np.float32)
        logs = np.log(np.clip(grey, 4, None))
        value = cv2.GaussianBlur(logs, (0, 0), 1.0) - cv2.GaussianBlur(logs, (0, 0), 7)
        about = np.sqrt(cv2.GaussianBlur(value * value, (0, 0), 8))
        smooth = (about < np.maximum(_SMOOTH, 0.5 * np.abs(value))) & (grey > 20) & (grey < 250)
        votes += smooth
        total += np.where(smooth, value, 0)
        squares += np.where(smooth, value * value, 0)
        least = np.maximum(least, np.where(smooth, value, -np.inf))
    many = np.maximum(votes, 1)
    common = total / many
    spread = np.sqrt(np.maximum(squares / many - common**2, 0))
    dark = (
        (votes >= max(_LEAST_FRAMES, _LEAST_SHARE * len(frames)))
        & (common < -_LEAST_LOSS)
        & (spread < _ALIKE * -common)
        & (least < _EACH * common)
    ).astype(np.uint8)
    count, _labels, stats, centres = cv2.connectedComponentsWithStats(dark)
    scale = frames[0].scale
    found = []
    for k in range(1, count):
        area = int(stats[k, cv2.CC_STAT_AREA])
        if not 3 <= area <= 400:
            continue
        x, y = centres[k]
        if not _stands_alone(common, x, y, area):
            continue
        loss = 1 - float(np.exp(common[round(float(y)), round(float(x))]))
        found.append(
            Spot((x + 0.5) * scale[0] - 0.5, (y + 0.5) * scale[1] - 0.5, 2 * (area / np.pi) ** 0.5 * scale[0], loss)
        )
    return sorted(found, key=lambda s: -s.loss)[:_MOST_SPOTS]


def _stands_alone(common: Array, x: float, y: float, area: int) -> bool:
    """Whether it is clean all round: a horizon that lies at one height in every frame goes on at two sides."""
    radius = 3 + 1.8 * (area / np.pi) ** 0.5
    angles = np.arange(16) * np.pi / 8
    px = np.clip(np.rint(x + radius * np.cos(angles)).astype(int), 0, common.shape[1] - 1)
    py = np.clip(np.rint(y + radius * np.sin(angles)).astype(int), 0, common.shape[0] - 1)
    depth = -float(common[round(y), round(x)])
    return depth > 0 and float(-common[py, px].min()) < _RING * depth
