"""Series that a camera took with its sensor moved by whole or half pixels, told from frames taken again."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.frames.reading import read

Steps = tuple[tuple[float, float], ...]

#: How many exposures series have.
COUNTS = (4, 8, 16)
#: Of the middle so many pixels are compared, and a move may miss its step by so much.
_MIDDLE_PX, _MISS_PX = 1024, 0.17
_MOST_STEP_PX = 2.1
_LEAST_RESPONSE = 0.08


def steps_of(paths: Sequence[Path]) -> Steps | None:
    """By how many pixels each file of a series lies right of and below the first; None where they are no series.

    Raises
    ------
    UnreadableFrame
        A file cannot be read.
    """
    if len(paths) not in COUNTS:
        return None
    first, *rest = (_middle(path) for path in paths)
    window = cv2.createHanningWindow(first.shape[::-1], cv2.CV_32F)
    steps: list[tuple[float, float]] = [(0.0, 0.0)]
    for other in rest:
        if other.shape != first.shape:
            return None
        (right, down), response = cv2.phaseCorrelate(first, other, window)
        snapped = round(2 * right) / 2, round(2 * down) / 2
        if response < _LEAST_RESPONSE or max(abs(right - snapped[0]), abs(down - snapped[1])) > _MISS_PX:
            return None
        if max(abs(v) for v in snapped) > _MOST_STEP_PX:
            return None
        steps.append(snapped)
    # a tripod moves nowhere; a series goes to each of its places
    return tuple(steps) if len(set(steps)) >= min(4, len(paths)) else None


def finer(steps: Steps) -> int:
    """By how many times the grid of a series is finer than its frames: 2 with half steps, else 1."""
    return 2 if any(v != round(v) for step in steps for v in step) else 1


def _middle(path: Path) -> Array:
    pixels = read(path).pixels
    h, w = pixels.shape[:2]
    half_h, half_w = min(h, _MIDDLE_PX) // 2, min(w, _MIDDLE_PX) // 2
    part = pixels[h // 2 - half_h : h // 2 + half_h, w // 2 - half_w : w // 2 + half_w, 1]
    return np.asarray(part, np.float32)
