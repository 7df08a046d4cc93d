"""The outline of a thing about a place that was clicked: a person, a boat, a mast.

GrabCut (Rother, Kolmogorov and Blake 2004, as OpenCV has it): what lies at the click is the thing, what lies at the rim of the
window is not, and a cut through the colours between them finds the rest.
"""

from __future__ import annotations

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array

_WORK_PX = 360  # windows are worked on no larger
_SURE = 0.025  # so much about the click is the thing, as a share of the window
_RIM = 0.08  # so much at the rim is not
#: Windows that are tried, as shares of the one that is given, and how far the smallest reaches.
_WINDOWS, _LEAST_REACH_PX = (0.2, 0.3, 0.45, 0.67, 1.0), 24.0
_ROUNDS = 5
#: The cut begins from a disc of such a share of the window about the click.
_MAYBE = 0.6
#: A thing that fills more of the window than this, or less, is none that a click can mean.
_MOST, _LEAST = 0.6, 0.0006
#: Less of a step of colour along the outline (display values) is a chance of the noise.
_LEAST_STEP, _BESIDE_PX = 9.0, 5
#: The outline is drawn wider by such a share of the window, so that the soft edge belongs to the thing.
_WIDER = 0.012


def outlined(pixels: Array, x: float, y: float) -> Array | None:
    """Which pixels (h, w) of a window (h, w, 3) uint8 are the thing at (x, y), bool; None where nothing stands out there.

    Windows about the place are tried from small to large: the first in which the thing ends before the rim tells it best.
    """
    height, width = pixels.shape[:2]
    for share in _WINDOWS:
        reach = max(_LEAST_REACH_PX, share * max(height, width) / 2)
        left, top = max(0, round(x - reach)), max(0, round(y - reach))
        right, bottom = min(width, round(x + reach) + 1), min(height, round(y + reach) + 1)
        found = _within(pixels[top:bottom, left:right], x - left, y - top)
        if found is not None:
            whole = np.zeros((height, width), bool)
            whole[top:bottom, left:right] = found
            return whole
    return None


def _within(pixels: Array, x: float, y: float) -> Array | None:
    """The same in one window; None also where the thing reaches its rim."""
    height, width = pixels.shape[:2]
    scale = min(1.0, _WORK_PX / max(height, width))
    size = max(8, round(width * scale)), max(8, round(height * scale))
    small = np.ascontiguousarray(cv2.resize(pixels[..., :3], size, interpolation=cv2.INTER_AREA))
    at = round(x * size[0] / width), round(y * size[1] / height)
    longest = max(size)
    marks = np.full(small.shape[:2], cv2.GC_PR_BGD, np.uint8)
    cv2.circle(marks, at, round(_MAYBE * longest / 2), cv2.GC_PR_FGD, -1)
    rim = max(2, round(_RIM * longest))
    marks[:rim], marks[-rim:], marks[:, :rim], marks[:, -rim:] = (cv2.GC_BGD,) * 4
    cv2.circle(marks, at, max(1, round(_SURE * longest)), cv2.GC_FGD, -1)
    cv2.setRNGSeed(1)  # its colours begin from a clustering by chance
    cv2.grabCut(small, marks, None, np.zeros((1, 65)), np.zeros((1, 65)), _ROUNDS, cv2.GC_INIT_WITH_MASK)
    thing = np.isin(marks, (cv2.GC_FGD, cv2.GC_PR_FGD)).astype(np.uint8)
    _count, labels = cv2.connectedComponents(thing, connectivity=8)
    here = labels[min(at[1], size[1] - 1), min(at[0], size[0] - 1)]
    own = (labels == here).astype(np.uint8)
    if not here or not _LEAST < own.mean() < _MOST or _step(small, own) < _LEAST_STEP:
        return None
    if own[: rim + 2].any() or own[-rim - 2 :].any() or own[:, : rim + 2].any() or own[:, -rim - 2 :].any():
        return None
    lines, _tree = cv2.findContours(own, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_SIMPLE)
    cv2.drawContours(own, lines, -1, 1, -1)  # what it encloses is its own
    wider = max(1, round(_WIDER * longest))
    own = cv2.dilate(own, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * wider + 1,) * 2))
    return np.asarray(cv2.resize(own, (width, height), interpolation=cv2.INTER_NEAREST) > 0)


def _step(pixels: Array, own: Array) -> float:
    """How much the colours beside the outline differ from those within it."""
    kernel = np.ones((2 * _BESIDE_PX + 1,) * 2, np.uint8)
    inner, outer = own & ~cv2.erode(own, kernel) & 1, cv2.dilate(own, kernel) & ~own & 1
    if not inner.any() or not outer.any():
        return 0.0
    colours = [np.median(pixels[where > 0].astype(float), axis=0) for where in (inner, outer)]
    return float(np.abs(colours[0] - colours[1]).max())
