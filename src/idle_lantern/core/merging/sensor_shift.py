"""Series that a camera took with its sensor moved by whole or half pixels -> one frame with every colour seen at every pixel.

Of raw files each pixel takes the colours that the mosaic saw there in one frame or another, instead of guessing them from its
neighbours; half steps fill a grid twice as fine. Where something moved, one exposure tells alone.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.frames.decoders import raw
from idle_lantern.core.frames.reading import probe, read
from idle_lantern.core.frames.series import Steps, finer
from idle_lantern.core.merging.aligning import AlignedExposures, unmoved


def combined(paths: Sequence[Path], steps: Steps, how: raw.RawDevelopment | None = None) -> Picture:
    """One frame of the series, 16 bit, display-encoded; the first file lies as it does.

    Raises
    ------
    UnreadableFrame
        A file cannot be read.
    """
    infos = [probe(path) for path in paths]
    scale, space = finer(steps), infos[0].space
    if all(info.raw for info in infos):
        light, turn = _of_raw(paths, steps, scale, how), raw.turn_of(paths[0])
        light = np.rot90(light, turn) if turn else light
    else:
        light = _of_pictures(paths, steps, scale, space)
    encoded = np.empty(light.shape, np.uint16)
    for top in range(0, len(light), 256):
        rows = np.s_[top : top + 256]
        encoded[rows] = Picture.of_light(light[rows], space).pixels
    return Picture(np.ascontiguousarray(encoded), None, space)


class _Gathered:
    """Sums of light and of weights on the grid of the result."""

    def __init__(self, height: int, width: int, scale: int) -> None:
        self.scale = scale
        self.light = np.zeros((height * scale, width * scale, 3), np.float32)
        self.weight = np.zeros((height * scale, width * scale, 3), np.float32)

    def add(self, light: Array, weight: Array, step: tuple[float, float]) -> None:
        """Light (H, W, 3) with weights of a frame whose picture lies ``step`` right and down of the first's."""
        right, down = (round(-self.scale * v) for v in step)
        rows, columns = self._places(light.shape[0], down), self._places(light.shape[1], right)
        (to_y, from_y), (to_x, from_x) = rows, columns
        self.light[to_y, to_x] += (light * weight)[from_y, from_x]
        self.weight[to_y, to_x] += weight[from_y, from_x]

    def _places(self, count: int, shift: int) -> tuple[slice, slice]:
        """Where pixels of a frame go: every ``scale``-th from ``shift`` on, as far as the result reaches."""
        skip = max(0, math.ceil(-shift / self.scale))
        kept = min(count - skip, (count * self.scale - 1 - (shift + skip * self.scale)) // self.scale + 1)
        start = shift + skip * self.scale
        return slice(start, start + (kept - 1) * self.scale + 1, self.scale), slice(skip, skip + kept)

    def result(self, base: Array) -> Array:
        """The mean; where nothing was seen the first frame, enlarged."""
        height, width = self.light.shape[:2]
        filled = base if self.scale == 1 else cv2.resize(base, (width, height), interpolation=cv2.INTER_CUBIC)
        if self.scale > 1:
            # pixel (x, y) of the frame lies at (2 x, 2 y): resize has it half a fine pixel further
            move = np.array([[1, 0, -0.5 * (self.scale - 1)], [0, 1, -0.5 * (self.scale - 1)]], np.float64)
            filled = cv2.warpAffine(
                filled, move, (width, height), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
            )
        known = self.weight > 1e-3
        return np.asarray(np.where(known, self.light / np.maximum(self.weight, 1e-3), filled))


def _stays(base: Array, other: Array) -> Array:
    """Where a frame shows what the first shows, (H, W)."""
    one, two = (
        Picture(np.rint(np.clip(SRGB.from_linear(np.clip(p, 0, 1)), 0, 1) * 255).astype(np.uint8))
        for p in (base, other)
    )
    (weight,) = unmoved(one, [AlignedExposures(two, None, 0.0)], [0.0])
    return np.ones(base.shape[:2], np.float32) if weight is None else weight


def _of_pictures(paths: Sequence[Path], steps: Steps, scale: int, space: ColourSpace) -> Array:
    first = read(paths[0]).in_space(space).light()
    gathered = _Gathered(first.shape[0], first.shape[1], scale)
    for path, step in zip(paths, steps):
        light = first if path == paths[0] else read(path).in_space(space).light()
        gathered.add(light, np.repeat(_stays(first, light)[..., None], 3, 2), step)
    return gathered.result(first)


def _of_raw(paths: Sequence[Path], steps: Steps, scale: int, how: raw.RawDevelopment | None) -> Array:
    """Each colour where the mosaic saw it."""
    base, _seen, to_srgb = raw.camera_colours(paths[0], how)
    first = base.astype(np.float32) / 65535
    gathered = _Gathered(first.shape[0], first.shape[1], scale)
    for path, step in zip(paths, steps):
        own, seen, _to = raw.camera_colours(path, how)
        light = own.astype(np.float32) / 65535
        stays = _stays(first, light)
        weight = np.stack([stays * (seen == c) for c in range(3)], -1)
        gathered.add(light, weight, step)
    colours = gathered.result(first)
    return np.asarray(colours @ to_srgb.astype(np.float32))
