"""Dust on the sensor, found where frames overlap: at one place of the sensor every frame is darker than its neighbours show the
same ground. So detail hides no spot, as it does from looks at the frames alone (``compositing.light.dust``)."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.reducing import reduced_to
from idle_lantern.core.compositing.light.dust import LOGS, Spot, light_lost, wide
from idle_lantern.core.inspection.overlaps import Overlap, largest_of_each
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.poses import Poses

#: Frames are compared at this width, each with so many neighbours; fewer frames tell nothing.
_WIDTH_PX, _NEIGHBOURS, _LEAST_FRAMES = 720, 4, 4
#: A spot stands out from what lies within this share of the width (sigma); so far about a place noise is measured; and so
#: far about it the score of a spot is held against that of other places.
_ABOUT, _NOISE_WITHIN, _USUAL_WITHIN = 0.012, 0.02, 0.04
#: Sizes of spots that are looked for, sigma in pixels.
_SIZES_PX = (1.5, 3.0, 5.0)
#: Display values between which a place tells.
_DARK, _BRIGHT = 20, 250
#: Noise of a comparison at least, logarithm of light; of what one frame alone shows so many times as much, for it is not by chance.
_NOISE, _ALONE = 0.012, 1.4
#: A logarithm beyond this is no dust.
_MOST = 0.7
#: Scores from which a spot is believed, of all frames and twice that of each half of them: on 80 cards of photographs nothing that
#: is none came above 5.6.
_TELLS = 5.9
_LEAST_LOSS = 0.02
_MOST_SPOTS = 12
#: Pixels between the places at which the way from frame to frame is reckoned.
_EVERY = 8


def spots_in_overlaps(
    poses: Poses, overlaps: Sequence[Overlap], working: Sequence[WorkingFrame], held: Sequence[int]
) -> list[Spot]:
    """Spots common to all frames that were held alike, by place in the poses, the darkest first; none of fewer than four frames."""
    if len(held) < _LEAST_FRAMES:
        return []
    frames = [_Frame(w) for w in working]
    near: dict[int, list[int]] = {i: [] for i in held}
    for o in largest_of_each(overlaps, _NEIGHBOURS):
        for one, other in ((o.i, o.j), (o.j, o.i)):
            if one in near:
                near[one].append(other)
    shape = frames[held[0]].band.shape
    sums = np.zeros((2, 2, *shape), np.float32)
    for k, i in enumerate(held):
        darker, weight = _against_neighbours(poses, frames, i, near[i])
        sums[k % 2] += weight * np.clip(darker, -_MOST, _MOST), weight
    return _found(sums, frames[held[0]].scale)


class _Frame:
    """A small frame: what of its light stands out, as a logarithm, and where it tells, (h, w) float32 and 0 or 1."""

    def __init__(self, frame: WorkingFrame) -> None:
        height, width = frame.picture.pixels.shape[:2]
        grey = cv2.cvtColor(frame.picture.pixels, cv2.COLOR_RGB2GRAY)
        if width > _WIDTH_PX:
            grey = reduced_to(grey, _WIDTH_PX, round(height * _WIDTH_PX / width))
        self.scale = np.asarray(frame.scale) * (width / grey.shape[1], height / grey.shape[0])
        logs = LOGS[grey]
        self.band = cv2.GaussianBlur(logs, (0, 0), 1.0) - wide(logs, _ABOUT * grey.shape[1])
        self.tells = cv2.erode(((grey > _DARK) & (grey < _BRIGHT)).astype(np.float32), np.ones((5, 5)))


def _against_neighbours(poses: Poses, frames: Sequence[_Frame], i: int, near: Sequence[int]) -> tuple[Array, Array]:
    """How much brighter frame i is than others show the ground, logarithm (h, w), and the weight of that.

    Where no other shows it, or the frame is more even than others agree with it, what stands out in the frame itself.
    """
    mine = frames[i]
    height, width = mine.band.shape
    within = _NOISE_WITHIN * width
    total, weights = np.zeros((2, height, width), np.float32)
    for j in near:
        other = frames[j]
        at = _places(poses, i, j, mine, other)
        rim = 0.5 * _ABOUT * width
        far = np.array(other.band.shape[::-1]) - 1 - rim
        inside = ((at > rim) & (at < far)).all(-1) & (mine.tells > 0)
        inside &= cv2.remap(other.tells, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT) > 0.99
        if not inside.any():
            continue
        off = np.where(inside, mine.band - cv2.remap(other.band, at, None, cv2.INTER_LINEAR), 0)
        noise = wide(off**2, within) / np.maximum(wide(inside.astype(np.float32), within), 0.05)
        weight = np.where(inside, 1 / (_NOISE**2 + noise), 0)
        total += weight * off
        weights += weight
    alone = np.where(mine.tells > 0, 1 / (_ALONE**2 * (_NOISE**2 + wide(mine.band**2, within))), 0)
    darker = np.where(weights > alone, total / np.maximum(weights, 1e-9), mine.band)
    return darker, np.minimum(np.maximum(weights, alone), 1 / _NOISE**2)


def _places(poses: Poses, i: int, j: int, mine: _Frame, other: _Frame) -> Array:
    """Where the small frame j shows what the small frame i shows, (h, w, 2) float32; far outside where it does not."""
    height, width = mine.band.shape
    v, u = np.mgrid[0 : height + _EVERY : _EVERY, 0 : width + _EVERY : _EVERY].astype(np.float64)
    full = (np.stack([u, v], -1) + 0.5) * mine.scale - 0.5
    there, valid = poses.pixels(j, poses.directions(i, full.reshape(-1, 2)))
    coarse = np.where(valid[:, None], (there + 0.5) / other.scale - 0.5, -1e4).reshape(full.shape).astype(np.float32)
    y, x = np.mgrid[:height, :width].astype(np.float32) / _EVERY
    return np.asarray(cv2.remap(coarse, x, y, cv2.INTER_LINEAR))


def _found(sums: Array, scale: Array) -> list[Spot]:
    """Spots of the sums (2, 2, h, w) of two halves of the frames: weighted logarithms, and weights."""
    height, width = sums.shape[-2:]
    best: Array = np.zeros((height, width), np.float32)
    darkest: Array = np.zeros_like(best)
    for size in _SIZES_PX:
        scores, loss = [], best
        for values, weights in (*sums, sums.sum(0)):
            values, weights = (cv2.GaussianBlur(a, (0, 0), size) for a in (values, weights))
            score = -values / np.sqrt(np.maximum(weights, 1e-9))
            usual = 1.2533 * wide(np.abs(score), _USUAL_WITHIN * width)
            scores.append(score / np.maximum(usual, 0.3))
            loss = -values / np.maximum(weights, 1e-9)
        score = np.minimum(scores[2], 2 * np.minimum(scores[0], scores[1]))
        darkest = np.where(score > best, loss, darkest)
        best = np.maximum(best, score)
    rim = int(2 * _ABOUT * width)
    inner = np.zeros(best.shape, bool)
    inner[rim:-rim, rim:-rim] = True
    believed = inner & (best > _TELLS) & (darkest > _LEAST_LOSS)
    count, labels = cv2.connectedComponents(believed.astype(np.uint8))
    values, weights = sums.sum(0)
    spots = []
    for k in range(1, count):
        y, x = (int(n) for n in np.unravel_index(np.argmax(np.where(labels == k, best, 0)), best.shape))
        radius, depth = _as_a_disc(values, weights, x, y)
        u, v = (np.array([x, y]) + 0.5) * scale - 0.5
        spots.append(Spot(float(u), float(v), 2 * radius * float(scale[0]), light_lost(depth)))
    return sorted(spots, key=lambda s: -s.loss)[:_MOST_SPOTS]


def _as_a_disc(values: Array, weights: Array, x: int, y: int) -> tuple[float, float]:
    """Radius in pixels and depth, logarithm of display values, of the even disc that explains best what stands out about a place."""
    reach = round(3 * _ABOUT * values.shape[1])
    window = np.s_[max(0, y - reach) : y + reach + 1, max(0, x - reach) : x + reach + 1]
    weight = weights[window]
    seen = values[window] / np.maximum(weight, 1e-9)
    v, u = np.mgrid[window]
    away = np.hypot(u - x, v - y)
    fits = []
    for radius in np.arange(1.0, reach / 2, 0.5):
        disc = np.clip(radius + 0.5 - away, 0, 1).astype(np.float32)
        drawn = cv2.GaussianBlur(disc, (0, 0), 1.0) - cv2.GaussianBlur(disc, (0, 0), _ABOUT * values.shape[1])
        depth = -float((weight * drawn * seen).sum() / (weight * drawn**2).sum())
        fits.append((float((weight * (seen + depth * drawn) ** 2).sum()), float(radius), depth))
    _miss, radius, depth = min(fits)
    return radius, max(depth, 0.0)
