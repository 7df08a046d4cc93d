"""Exposure and colour between frames: one gain for each frame and channel, in linear light."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.colours import largest, smallest
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.compositing.canvas.overview import Overview, Patch, meeting

#: Display values outside this range are clipped or mostly noise and say nothing of the gain.
_USABLE = (6, 249)
_ENOUGH_PIXELS = 20
_EVERY = 3
#: A median of so many pixels is known to a thousandth.
_SAMPLES = 4000
#: Channels that differ by no more, in display values, are of a grey frame.
_GREY = 4
#: Frames that nothing ties keep the gain that their exposure tells; the pull is far weaker than any overlap.
_PRIOR_WEIGHT = 1e-3
#: What overlaps do not confirm must not blow a frame up.
_MOST_TOLD_EV = 3.0


def told_gains(exposures_ev: Sequence[float | None]) -> Array:
    """Gains (F,) by the settings alone: twice for each EV that a frame let in less light than the middle one.

    Frames of which no settings are known count as the middle one.
    """
    known = [ev for ev in exposures_ev if ev is not None]
    if not known:
        return np.ones(len(exposures_ev))
    middle = float(np.median(known))
    apart = np.asarray([0.0 if ev is None else ev - middle for ev in exposures_ev])
    return np.asarray(2.0 ** np.clip(apart, -_MOST_TOLD_EV, _MOST_TOLD_EV))


def solve_gains(overview: Overview, count: int, told: Array | None = None) -> Array:
    """Gains (F, 3) that bring overlapping frames to the same light, geometric mean 1.

    For each overlap the median ratio of linear values counts (things that moved
    do not), weighted by the square root of its size; least squares in logarithms. Where one of two frames is grey, only how
    bright they are is compared: it knows no colour, and must bend that of no other.
    Frames whose overlaps tell nothing (clipped, black, too small) get what the settings say, ``told`` (F,).
    """
    before = np.zeros((count, 3)) if told is None else np.log(told)[:, None].repeat(3, 1)
    rows, right, weights = [], [], []
    patches = overview.patches
    shape = (overview.canvas.height, overview.canvas.width)
    linear, colours = overview.space.light_table(255), np.arange(3)
    canvas_value = np.zeros((*shape, 3), np.uint8)
    canvas_ok = np.zeros(shape, bool)
    thin = [_thinned(p) for p in patches]
    grey = [_is_grey(pixels, inside) for _at, pixels, inside in thin]
    for i, (one, (at_one, pixels, inside), others) in enumerate(zip(patches, thin, meeting(overview))):
        canvas_ok[...] = False
        canvas_value[at_one] = pixels
        canvas_ok[at_one] = inside
        for j in others:
            other, (at_other, theirs, there) = patches[j], thin[j]
            shared = there & canvas_ok[at_other]
            if not shared.any():
                continue
            mine = canvas_value[at_other]
            usable = np.argwhere(shared & _usable(theirs) & _usable(mine))
            size = len(usable)
            if size < _ENOUGH_PIXELS:
                continue
            y, x = usable[:: max(1, size // _SAMPLES)].T
            ours, of_other = linear[mine[y, x], colours], linear[theirs[y, x], colours]
            if grey[i] != grey[j]:
                ours, of_other = (np.repeat(v.mean(1, keepdims=True), 3, 1) for v in (ours, of_other))
            ratio = np.log(ours / of_other)
            row = np.zeros(count)
            row[one.frame], row[other.frame] = -1, 1
            rows.append(row)
            right.append(np.median(ratio, axis=0))
            weights.append(np.sqrt(size))
    used = sorted({p.frame for p in patches})
    if not rows:
        return np.asarray(np.exp(before - before[used].mean(0)))
    if np.median(np.abs(right - np.asarray(rows) @ before)) > np.median(np.abs(right)):
        before = np.zeros_like(before)  # somebody evened the frames before, and left the settings in the files
    weight = np.asarray(weights)[:, None] / max(weights)
    matrix = np.concatenate([np.asarray(rows) * weight, np.eye(count) * _PRIOR_WEIGHT])
    target = np.concatenate([np.asarray(right) * weight, before * _PRIOR_WEIGHT])
    log_gain = np.linalg.lstsq(matrix, target, rcond=None)[0]
    log_gain -= log_gain[used].mean(0)
    return np.asarray(np.exp(log_gain))


def gain_table(gain: Array, full_scale: int, space: ColourSpace = SRGB) -> Array:
    """Display value -> display value of ``space`` with ``gain`` (3,) applied in linear light, (full_scale + 1, 3)."""
    values = np.arange(full_scale + 1, dtype=np.float64)[:, None].repeat(3, 1) / full_scale
    changed = space.from_linear(space.to_linear(values) * np.asarray(gain))
    return np.asarray(np.rint(np.clip(changed, 0, 1) * full_scale).astype(np.uint8 if full_scale == 255 else np.uint16))


def with_gain(pixels: Array, table: Array) -> Array:
    """Look each channel of (h, w, 3) whole numbers up in its column of ``table`` (values, 3)."""
    if pixels.dtype == np.uint8:
        return np.asarray(cv2.LUT(pixels, table[None]))
    result = np.empty_like(pixels)
    for c in range(3):
        np.take(table[:, c], pixels[..., c], out=result[..., c])
    return result


def _thinned(patch: Patch) -> tuple[tuple[Array, Array], Array, Array]:
    """Every third canvas row and column of a patch: where they lie, pixels, coverage."""
    rows = np.arange(patch.top, patch.top + patch.inside.shape[0])
    r, c = np.flatnonzero(rows % _EVERY == 0), np.flatnonzero(patch.columns % _EVERY == 0)
    at = rows[r][:, None], patch.columns[c][None, :]
    return at, patch.pixels[np.ix_(r, c)], patch.inside[np.ix_(r, c)]


def _is_grey(pixels: Array, inside: Array) -> bool:
    """Whether a frame's pixels (h, w, 3) have no colour at all, where they are ``inside`` (h, w)."""
    spread = (largest(pixels) - smallest(pixels))[inside]
    return bool(len(spread)) and float(np.percentile(spread, 98)) <= _GREY


def _usable(pixels: Array) -> Array:
    result: Array = (smallest(pixels) > _USABLE[0]) & (largest(pixels) < _USABLE[1])
    return result
