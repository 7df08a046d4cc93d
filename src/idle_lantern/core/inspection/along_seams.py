"""What two frames show on either side of the seam between them, window by window: shift, light, and what one alone shows."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.colours import largest, smallest
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.warp import Tile
from idle_lantern.core.inspection.frame_views import FrameViews, ShownFrame
from idle_lantern.core.inspection.ghosting import Figure, differing
from idle_lantern.core.inspection.shift import moved, shift

#: Side of a window and length of seam that it stands for, in pixels of the look.
_SIDE, _CELL = 192, 128
#: How far from the seam what the frames show counts, and the part of a window that both must show.
_NEAR_PX, _LEAST_SHARED = 40.0, 0.3
#: Display values between which light is compared.
_DARK, _BRIGHT = 12, 245
_BLOCK = 6  # side in pixels of the blocks whose means of light are compared
_LEAST_BLOCKS = 27  # where so many are to be had
_ALIKE_BLOCKS = 9  # so many neighbours err alike
#: A difference that counts, in display values, beside so much of the steepest slope there (a fine step lies under it).
_DIFFERENT, _OF_SLOPE = 14.0, 0.9
#: Windows that differ by no more than this are alike.
_QUIET_PX = 0.45  # shift, in pixels of the full picture
_QUIET_LEVELS = 0.5  # noise, in display values
_QUIET_SIGMA_PX = 0.1  # doubt of the shift


@dataclass(frozen=True)
class SeamWindow:
    """A piece of seam between places ``a`` and ``b`` of the poses, about (x, y) of the look's canvas."""

    a: int
    b: int
    x: float
    y: float

    @property
    def tile(self) -> Tile:
        """The window round it."""
        return Tile(round(self.x) - _SIDE // 2, round(self.y) - _SIDE // 2, _SIDE, _SIDE)


@dataclass(frozen=True)
class SeamReading:
    """What a window tells, in pixels of the look.

    Attributes
    ----------
    shift_px, shift_sigma_px : float
        Of b against a along the direction that the ground there tells best.
    uneven_px : float
        How much more the shift is on one side of the window than on the other: near and far things disagree.
    light_ev, light_sigma_ev : float
        b against a in EV, mean of the colours.
    colour_ev : float
        Largest difference of one colour from that mean.
    cut_px : float
        Area of what only one of both shows, where the seam runs through it.
    figures : tuple of Figure
        What only one of both shows beside the seam.
    """

    window: SeamWindow
    shift_px: float = 0.0
    shift_sigma_px: float = math.inf
    uneven_px: float = 0.0
    light_ev: float = 0.0
    light_sigma_ev: float = math.inf
    colour_ev: float = 0.0
    cut_px: float = 0.0
    figures: tuple[Figure, ...] = ()


def seam_windows(label: Array, canvas: Canvas) -> list[SeamWindow]:
    """Windows along all seams of a label (h, w), on ``canvas`` of which the label is a reduction."""
    h, w = label.shape
    sx, sy = canvas.width / w, canvas.height / h
    right = np.roll(label, -1, 1) if canvas.full_circle else np.concatenate([label[:, 1:], label[:, -1:]], 1)
    down = np.concatenate([label[1:], label[-1:]])
    rows = []
    for other, dx, dy in ((right, 0.5, 0.0), (down, 0.0, 0.5)):
        at = np.argwhere((label != other) & (label >= 0) & (other >= 0))
        if len(at):
            one, two = label[tuple(at.T)], other[tuple(at.T)]
            x, y = (at[:, 1] + dx + 0.5) * sx - 0.5, (at[:, 0] + dy + 0.5) * sy - 0.5
            rows.append(np.stack([np.minimum(one, two), np.maximum(one, two), x, y], 1))
    if not rows:
        return []
    points = np.concatenate(rows)
    cells = np.concatenate([points[:, :2], np.floor(points[:, 2:] / _CELL)], 1).astype(int)
    _unique, member = np.unique(cells, axis=0, return_inverse=True)
    found = []
    for k in range(int(member.max()) + 1):
        mine = points[member.ravel() == k]
        a, b = int(mine[0, 0]), int(mine[0, 1])
        middle = mine[:, 2:].mean(0)
        x, y = mine[np.abs(mine[:, 2:] - middle).sum(1).argmin(), 2:]
        found.append(SeamWindow(a, b, float(x), float(y)))
    return found


def read_seam(look: FrameViews, label: Array, window: SeamWindow) -> SeamReading | None:
    """Compare the two frames of a window of a label (h, w); None where they share too little of it."""
    tile = window.tile
    shown = look.windows((window.a, window.b), tile)
    if shown is None:
        return None
    one, two = shown
    both = cv2.erode((one.inside & two.inside).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    if both.mean() < _LEAST_SHARED:
        return None
    winner = _winner(look, label, tile)
    seam = _distance_px(winner, window)
    weight = (both * np.exp(-((seam / _NEAR_PX) ** 2))).astype(np.float32)
    light = _light(one, two, weight, look.plan.space)
    gain = np.float32(2.0 ** (-light[0] / 2.2) if math.isfinite(light[1]) else 1.0)
    grey = [cv2.cvtColor(s.pixels, cv2.COLOR_RGB2GRAY).astype(np.float32) for s in (one, two)]
    differs = cv2.absdiff(one.pixels, two.pixels)
    if _alike(grey[0], grey[1] * gain, differs, weight, both & (seam < _NEAR_PX), _QUIET_PX / look.shrink):
        return SeamReading(window, 0.0, _QUIET_SIGMA_PX, 0.0, *light)
    found = shift(grey[0], grey[1], weight)
    step = np.zeros(2) if found is None else found.step
    laid = one.pixels.astype(np.float32), moved(two.pixels.astype(np.float32) * gain, step)
    cut = _cut(*laid, both, seam)
    beside = _figures(*laid, both, winner, window)
    if found is None:
        return SeamReading(window, 0.0, math.inf, 0.0, *light, cut, beside)
    return SeamReading(window, found.along, found.sigma, found.uneven, *light, cut, beside)


def _alike(one: Array, two: Array, differs: Array, weight: Array, near: Array, quiet_px: float) -> bool:
    """Whether two frames differ by so little beside their slopes that neither a shift nor a thing of its own can be there.

    A shift by so many pixels changes values by that times the slope: most windows are done with here, at a third of the cost.
    """
    slope = cv2.absdiff(one[:, 1:], one[:, :-1])[1:] + cv2.absdiff(one[1:], one[:-1])[:, 1:]
    weight = weight[1:, 1:]
    miss = cv2.absdiff(one, two)[1:, 1:]
    total = float(weight.sum())
    if float(np.vdot(weight, miss)) > quiet_px * float(np.vdot(weight, slope)) + _QUIET_LEVELS * total:
        return False
    smooth = cv2.copyTo(cv2.blur(differs, (5, 5)), near.view(np.uint8))
    return int(smooth.max()) < _DIFFERENT


def _light(one: ShownFrame, two: ShownFrame, weight: Array, space: ColourSpace) -> tuple[float, float, float]:
    """b against a in EV where neither is dark or full: mean of the colours, its doubt, the colour that differs most."""
    blocks = _SIDE // _BLOCK, _SIDE // _BLOCK
    small = [cv2.resize(s.pixels.astype(np.float32), blocks, interpolation=cv2.INTER_AREA) for s in (one, two)]
    weight = cv2.resize(weight, blocks, interpolation=cv2.INTER_AREA)
    usable = (weight > 0.1) & np.all([(smallest(s) > _DARK) & (largest(s) < _BRIGHT) for s in small], axis=0)
    if usable.sum() < _LEAST_BLOCKS:
        return 0.0, math.inf, 0.0
    linear = [space.to_linear(s[usable] / 255) for s in small]
    ratio = np.log2(linear[1] / linear[0])
    middle, means = np.median(ratio, 0), ratio.mean(1)
    spread = 1.4826 * float(np.median(np.abs(means - np.median(means))))
    mean = float(middle.mean())
    return mean, spread / math.sqrt(max(1.0, usable.sum() / _ALIKE_BLOCKS)) + 0.002, float(np.abs(middle - mean).max())


def _cut(one: Array, two: Array, both: Array, seam: Array) -> float:
    """Area of the largest thing that only one shows and that the seam runs through; by the colour that tells it best."""
    smooth = [cv2.GaussianBlur(p, (0, 0), 1.5) for p in (one, two)]
    slope = cv2.max(
        *(cv2.dilate(_slope(cv2.cvtColor(s, cv2.COLOR_RGB2GRAY)), np.ones((3, 3), np.uint8)) for s in smooth)
    )
    differs = largest(cv2.absdiff(*smooth))
    marked = ((differs > _DIFFERENT + _OF_SLOPE * slope) & both).astype(np.uint8)
    marked = cv2.morphologyEx(marked, cv2.MORPH_CLOSE, np.ones((5, 5), np.uint8))
    count, labels, stats, _centres = cv2.connectedComponentsWithStats(marked)
    crossed = np.bincount(labels[seam < 1.5], minlength=count)
    near = np.bincount(labels[seam < 12], minlength=count)
    through = [k for k in range(1, count) if crossed[k] >= 4 and stats[k, cv2.CC_STAT_AREA] >= 1.5 * crossed[k]]
    return float(max((near[k] for k in through), default=0))


def _figures(one: Array, two: Array, both: Array, winner: Array, window: SeamWindow) -> tuple[Figure, ...]:
    """Things beside the seam that only one of both shows, on the look's canvas."""
    smooth = [cv2.GaussianBlur(p, (3, 3), 0) for p in (one, two)]
    found = differing(smooth[0], smooth[1], both, winner, (window.a, window.b))
    left, top = window.tile.left, window.tile.top
    return tuple(replace(f, box=(f.box[0] + left, f.box[1] + top, *f.box[2:])) for f in found)


def _slope(smooth: Array) -> Array:
    """Display values per pixel."""
    return np.asarray(np.hypot(cv2.Sobel(smooth, cv2.CV_32F, 1, 0), cv2.Sobel(smooth, cv2.CV_32F, 0, 1)) / 8)


def _winner(look: FrameViews, label: Array, tile: Tile) -> Array:
    """Which frame the picture shows at each pixel of a window."""
    h, w = label.shape
    canvas = look.canvas
    x = np.floor((np.arange(tile.left, tile.left + tile.width) + 0.5) * w / canvas.width).astype(int)
    y = np.clip(np.floor((np.arange(tile.top, tile.top + tile.height) + 0.5) * h / canvas.height).astype(int), 0, h - 1)
    x = x % w if canvas.full_circle else np.clip(x, 0, w - 1)
    return np.asarray(label[y][:, x])


def _distance_px(part: Array, window: SeamWindow) -> Array:
    """Distance of each pixel of a window from the seam between its two frames."""
    mine = (part == window.a).astype(np.uint8)
    rim = cv2.dilate(mine, np.ones((3, 3), np.uint8)) & (part == window.b).astype(np.uint8)
    if not rim.any():
        return np.full(part.shape, 1e6, np.float32)
    return np.asarray(cv2.distanceTransform(1 - rim, cv2.DIST_L2, 3))
