"""Gaps of a small picture completed from its own patches, and where each of them was taken from.

The picture is completed so that every patch in the gap looks like some patch outside it (Wexler, Shechtman and Irani,
*Space-Time Completion of Video*, PAMI 2007), from coarse to fine; like patches are found by trying what neighbours found and
random places ever nearer (Barnes et al., *PatchMatch*, ACM Transactions on Graphics 28, 2009), all pixels at once.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array

_HALF = 3  # half a patch in pixels
_LOOKS = 2  # rounds of looking for alike patches at each size
_PAINTS = 3  # rounds of painting at each size
_COARSEST = 24  # shortest side at the coarsest size in pixels
_OFFSETS = tuple((dy, dx) for dy in range(-_HALF, _HALF + 1, 2) for dx in range(-_HALF, _HALF + 1, 2))


@dataclass(frozen=True)
class Completed:
    """A completed picture.

    Attributes
    ----------
    pixels : (h, w, 3) float32
    source : (h, w, 2) int
        Row and column that a gap's pixel looks like; its own where nothing is missing.
    energies : tuple of float
        Mean difference of the gap's patches from the nearest, after each painting at the finest size.
    """

    pixels: Array
    source: Array
    energies: tuple[float, ...]


def completed(
    picture: Array, missing: Array, usable: Array | None = None, kinds: Array | None = None, seed: int = 1
) -> Completed:
    """A picture (h, w, 3) with what is ``missing`` (h, w) completed from ``usable`` pixels (all others where not told).

    Of ``kinds`` (h, w) of ground each is completed from its own alone; what is of kind 0 from any.

    Raises
    ------
    ValueError
        There is no whole patch to take anything from.
    """
    rng = np.random.default_rng(seed)
    usable = ~missing if usable is None else usable & ~missing
    kinds = np.zeros(missing.shape, np.uint8) if kinds is None else kinds.astype(np.uint8)
    sizes = [picture.shape[:2]]
    while (
        min(sizes[-1]) // 2 >= _COARSEST
        and cv2.erode(
            _smaller(usable, (sizes[-1][0] // 2, sizes[-1][1] // 2)).astype(np.uint8),
            np.ones((2 * _HALF + 1,) * 2, np.uint8),
        ).any()
    ):
        sizes.append((sizes[-1][0] // 2, sizes[-1][1] // 2))
    pixels: Array | None = None
    source: Array | None = None
    energies: tuple[float, ...] = ()
    for size in reversed(sizes):
        whole = size == picture.shape[:2]
        gone = missing if whole else ~_smaller(~missing, size)
        own = picture.astype(np.float32) if whole else _reduced(picture, missing, size)
        good = usable if whole else _smaller(usable, size)
        if pixels is None:
            rough = cv2.inpaint(own.clip(0, 255).astype(np.uint8), gone.astype(np.uint8), 3, cv2.INPAINT_TELEA)
            start = rough.astype(np.float32)
        else:
            start = cv2.resize(pixels, (size[1], size[0]), interpolation=cv2.INTER_LINEAR)
        start = np.where(gone[..., None], start, own)
        own_kinds = cv2.resize(kinds, (size[1], size[0]), interpolation=cv2.INTER_NEAREST)
        at = _Gap(start, gone, good, own_kinds, rng)
        at.begin(source)
        energies = tuple(at.paint() for _ in range(_PAINTS))
        pixels, source = at.pixels(), at.source()
    assert pixels is not None
    assert source is not None
    return Completed(pixels, source, energies)


class _Gap:
    """One size of the picture, padded by half a patch, and where each patch that touches the gap is found again."""

    def __init__(self, start: Array, gone: Array, good: Array, kinds: Array, rng: np.random.Generator) -> None:
        self.rng, self.shape = rng, gone.shape
        pad = ((_HALF, _HALF), (_HALF, _HALF))
        self.image = np.pad(start, (*pad, (0, 0)))
        self.gone = np.pad(gone, pad)
        inside = np.pad(np.ones(gone.shape, bool), pad)
        self.width = self.image.shape[1]
        square = np.ones((2 * _HALF + 1,) * 2, np.uint8)
        sources = cv2.erode(np.pad(good, pad).astype(np.uint8), square, borderValue=0) > 0
        if not sources.any():
            raise ValueError("nothing to take anything from")
        targets = (cv2.dilate(self.gone.astype(np.uint8), square) > 0) & inside
        self.t = np.flatnonzero(targets)
        self.number = np.full(targets.size, -1)
        self.number[self.t] = np.arange(len(self.t))
        self.is_source, self.all_sources = sources.ravel(), np.flatnonzero(sources)
        kinds = np.pad(kinds, pad)
        #: Of which kind a patch is as a whole, and of which those are that it may be taken from; 0 for any.
        self.kind = np.where(cv2.erode(kinds, square) == cv2.dilate(kinds, square), kinds, 0).ravel()
        wanted = kinds.ravel()[self.t]
        found = np.unique(self.kind[self.all_sources])
        self.wanted = np.where(np.isin(wanted, found), wanted, 0)
        self.flat = self.image.reshape(-1, 3)
        self.weights = inside.ravel().astype(np.float32)
        self.s = self.all_sources[rng.integers(len(self.all_sources), size=len(self.t))]
        for k in np.unique(self.wanted[self.wanted > 0]):
            mine, some = np.flatnonzero(self.wanted == k), self.all_sources[self.kind[self.all_sources] == k]
            self.s[mine] = some[rng.integers(len(some), size=len(mine))]
        self.cost: Array = np.full(len(self.t), np.inf, np.float32)
        # pixels far in the gap are known worse and count for less
        away = cv2.distanceTransform(self.gone.astype(np.uint8), cv2.DIST_L2, 3).ravel()
        self.trust = (1.3 ** -np.minimum(away, 40)).astype(np.float32)

    def begin(self, before: Array | None) -> None:
        """Take over what was found at half the size."""
        if before is not None:
            row, column = self.t // self.width - _HALF, self.t % self.width - _HALF
            h, w = before.shape[:2]
            half = before[np.minimum(row // 2, h - 1), np.minimum(column // 2, w - 1)]
            found = np.clip(2 * half + np.stack([row % 2, column % 2], 1), 0, np.array(self.shape) - 1) + _HALF
            flat = found[:, 0] * self.width + found[:, 1]
            self.s = np.where(self._serves(np.arange(len(self.t)), flat), flat, self.s)
        self.cost = self._costs(np.arange(len(self.t)), self.s)

    def paint(self) -> float:
        """Look for like patches, and paint the gap by what they show; the mean difference that is left."""
        for _ in range(_LOOKS):
            self._spread()
            self._roam()
        total = np.zeros((self.flat.shape[0], 3), np.float32)
        weight = np.zeros(self.flat.shape[0], np.float32)
        scale = float(np.percentile(self.cost, 75)) + 1.0
        mine = np.exp(-self.cost / (2 * scale)).astype(np.float32) * self.trust[self.t] + np.float32(1e-8)
        for dy in range(-_HALF, _HALF + 1):
            for dx in range(-_HALF, _HALF + 1):
                step = dy * self.width + dx
                total[self.t + step] += mine[:, None] * self.flat[self.s + step]
                weight[self.t + step] += mine
        gone = np.flatnonzero(self.gone.ravel() & (weight > 0))
        self.flat[gone] = total[gone] / weight[gone, None]
        self.cost = self._costs(np.arange(len(self.t)), self.s)
        return float(self.cost.mean())

    def pixels(self) -> Array:
        """The picture as it is now."""
        return self.image[_HALF:-_HALF, _HALF:-_HALF].copy()

    def source(self) -> Array:
        """Where each pixel of the gap and round it is found again."""
        h, w = self.shape
        rows, columns = np.meshgrid(np.arange(h), np.arange(w), indexing="ij")
        found = np.stack([rows, columns], -1)
        r, c = self.t // self.width - _HALF, self.t % self.width - _HALF
        found[r, c] = np.stack([self.s // self.width - _HALF, self.s % self.width - _HALF], 1)
        return found

    def _costs(self, which: Array, s: Array) -> Array:
        t = self.t[which]
        total, count = np.zeros(len(t), np.float32), np.zeros(len(t), np.float32)
        for dy, dx in _OFFSETS:
            step = dy * self.width + dx
            weight = self.weights[t + step]
            miss = self.flat[t + step] - self.flat[s + step]
            total += weight * np.einsum("ij,ij->i", miss, miss)
            count += weight
        return total / np.maximum(count, 1)

    def _serves(self, which: Array, s: Array) -> Array:
        """Whether patches at ``s`` are there and of the kind that is wanted."""
        wanted = self.wanted[which]
        return np.asarray(self.is_source[s] & ((wanted == 0) | (self.kind[s] == wanted)))

    def _try(self, which: Array, s: Array) -> None:
        ok = self._serves(which, s)
        which, s = which[ok], s[ok]
        cost = self._costs(which, s)
        better = cost < self.cost[which]
        self.s[which[better]], self.cost[which[better]] = s[better], cost[better]

    def _spread(self) -> None:
        """What neighbours found, moved along with them."""
        for step in (1, -1, self.width, -self.width):
            for far in (1, 4):
                other = self.number[np.clip(self.t + far * step, 0, len(self.number) - 1)]
                which = np.flatnonzero(other >= 0)
                s = self.s[other[which]] - far * step
                inside = (s >= 0) & (s < len(self.is_source))
                self._try(which[inside], s[inside])

    def _roam(self) -> None:
        """Random places about what was found, nearer each time."""
        h, w = self.image.shape[:2]
        radius = max(h, w)
        every = np.arange(len(self.t))
        while radius >= 1:
            row = self.s // self.width + self.rng.integers(-radius, radius + 1, len(self.s))
            column = self.s % self.width + self.rng.integers(-radius, radius + 1, len(self.s))
            self._try(every, np.clip(row, 0, h - 1) * self.width + np.clip(column, 0, w - 1))
            radius //= 3


def _smaller(mask: Array, size: tuple[int, int]) -> Array:
    """A mask at a smaller size: what holds for every pixel below."""
    share = cv2.resize(mask.astype(np.float32), (size[1], size[0]), interpolation=cv2.INTER_AREA)
    return np.asarray(share > 0.999)


def _reduced(picture: Array, missing: Array, size: tuple[int, int]) -> Array:
    """The picture at a smaller size, what is missing not mixed in."""
    weight = (~missing).astype(np.float32)
    flat = (size[1], size[0])
    share = cv2.resize(weight, flat, interpolation=cv2.INTER_AREA)
    colours = cv2.resize(picture.astype(np.float32) * weight[..., None], flat, interpolation=cv2.INTER_AREA)
    return np.asarray(colours / np.maximum(share, 1e-6)[..., None])
