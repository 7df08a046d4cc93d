"""Frame -> points worth matching, spread evenly, with their descriptors."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.frames.decoded import DecodedFrames, reduced_picture

#: Cells of the even spread: with a quota each, a busy corner cannot starve the sky's rim.
_CELLS = 8
#: SIFT's contrast floor, well below OpenCV's default, since the quota does the choosing.
_CONTRAST = 0.008
#: The same for ORB's corners: grey levels between a corner and its ring.
_CORNER = 5


@dataclass(frozen=True)
class FeatureKind:
    """How descriptors of one kind compare.

    Attributes
    ----------
    ratio : float
        Distance of the best match against the second best that still tells it apart.
    alike : float
        Likeness (cosine) below which a nearest neighbour says nothing.
    """

    ratio: float
    alike: float


#: The ratio is Lowe's (2004).
SIFT = FeatureKind(ratio=0.8, alike=0.8)
#: Distances of bits grow with the root of their number, so its ratio lies nearer to one.
ORB = FeatureKind(ratio=0.88, alike=0.55)


@dataclass(frozen=True)
class Features:
    """Points of one frame.

    Attributes
    ----------
    points_px : (N, 2) float64
        Places in pixels of the full-size upright frame.
    sizes_px : (N,) float32
        Feature diameters in full-size pixels.
    descriptors : (N, D) float32
        Unit vectors: 128 numbers of SIFT in Hellinger form (square roots of the shares), or
        ORB's 256 bits as plus and minus one sixteenth.
    kind : Kind
        How they compare.
    """

    points_px: Array
    sizes_px: Array
    descriptors: Array
    kind: FeatureKind = SIFT

    def __len__(self) -> int:
        return len(self.points_px)

    def coarse(self, count: int) -> Array:
        """Indices (count,) of the ``count`` largest features: few, and the most repeatable."""
        return np.argsort(-self.sizes_px, kind="stable")[:count]


@dataclass(frozen=True)
class WorkingFrame:
    """A reduced frame: pixel (x, y) of it lies at ``(x + 0.5) * scale - 0.5`` of the full frame."""

    picture: Picture
    scale: tuple[float, float]


def working_frame(f: int, store: DecodedFrames, working_mp: float, *, glance: bool = False) -> WorkingFrame:
    """Frame ``f`` at about ``working_mp`` million pixels, 8 bit; a ``glance`` decodes no more than that needs."""
    info = store.infos[f]
    factor = math.sqrt(min(1.0, working_mp / info.megapixels))
    width, height = max(16, round(info.width * factor)), max(16, round(info.height * factor))
    picture = (
        reduced_picture(store.reduced(f, max(r for r in (1, 2, 4, 8) if r * factor <= 1)), width, height)
        if glance
        else store.small(f, width, height)
    )
    return WorkingFrame(picture, (info.width / width, info.height / height))


def quick_features(frame: WorkingFrame, count: int) -> Features:
    """ORB points of a working frame, at most ``count``, evenly spread: a sixth of SIFT's cost, for a first look."""
    corners = cv2.ORB.create(nfeatures=6 * count, scaleFactor=1.3, nlevels=5, edgeThreshold=4, fastThreshold=_CORNER)
    points, sizes, bits = _described(corners, frame, count)
    signs = np.unpackbits(bits.astype(np.uint8), axis=1).astype(np.float32) * 2 - 1
    return Features(points, sizes, signs / np.float32(math.sqrt(8 * bits.shape[1])), ORB)


def find_features(frame: WorkingFrame, count: int) -> Features:
    """SIFT points of a working frame, at most ``count``, evenly spread."""
    blobs = cv2.SIFT.create(nfeatures=0, contrastThreshold=_CONTRAST, enable_precise_upscale=True)
    points, sizes, histograms = _described(blobs, frame, count)
    shares = histograms / np.maximum(histograms.sum(1, keepdims=True), 1e-6)
    return Features(points, sizes, np.sqrt(shares).astype(np.float32), SIFT)


@dataclass(frozen=True)
class FindFeatures:
    """The task of finding the points of working frames, at most ``count`` of each; ``quick`` as of ``quick_features``."""

    working: tuple[WorkingFrame, ...]
    count: int
    quick: bool

    def work(self, index: int) -> Features:
        """The points of one frame."""
        return (quick_features if self.quick else find_features)(self.working[index], self.count)


def _described(detector: Any, frame: WorkingFrame, count: int) -> tuple[Array, Array, Array]:
    """Places and sizes in full-size pixels and raw descriptors of the best ``count``, evenly spread."""
    grey = cv2.cvtColor(frame.picture.pixels, cv2.COLOR_RGB2GRAY)
    keypoints = _evenly(detector.detect(grey, _picture_area(frame.picture, grey)), grey.shape, count)
    if keypoints:
        keypoints, descriptors = detector.compute(grey, keypoints)
    if not keypoints:
        return np.zeros((0, 2)), np.zeros(0, np.float32), np.zeros((0, detector.descriptorSize()), np.float32)
    points = np.asarray(cv2.KeyPoint.convert(keypoints), np.float64)
    scale = np.asarray(frame.scale)
    sizes = np.array([k.size for k in keypoints], np.float32) * np.float32(scale.mean())
    return (points + 0.5) * scale - 0.5, sizes, descriptors


def _picture_area(picture: Picture, grey: Array) -> Array | None:
    """Where there is picture: inside the alpha, and off the black surround of a circular fisheye."""
    mask = None
    if picture.alpha is not None:
        mask = (picture.alpha > 250).astype(np.uint8)
    corners = grey[[2, 2, -3, -3], [2, -3, 2, -3]]
    if (corners < 6).sum() >= 3:
        lit = (grey > 8).astype(np.uint8)
        mask = lit if mask is None else mask & lit
    if mask is None or mask.all():
        return None
    mask = cv2.morphologyEx(mask, cv2.MORPH_CLOSE, np.ones((9, 9), np.uint8))
    return np.asarray(cv2.erode(mask, np.ones((13, 13), np.uint8), borderValue=1) * 255)


def _evenly(keypoints: Any, shape: tuple[int, ...], count: int) -> list[Any]:
    """The strongest of each cell, quotas left over going to the strongest of all."""
    if len(keypoints) <= count:
        return list(keypoints)
    points = np.asarray(cv2.KeyPoint.convert(keypoints), np.float64)
    strength = np.array([k.response for k in keypoints])
    cell = (points[:, 1] * _CELLS // shape[0]).astype(int) * _CELLS + (points[:, 0] * _CELLS // shape[1]).astype(int)
    by_cell = np.lexsort((-strength, cell))
    rank = np.empty(len(cell), int)
    rank[by_cell] = np.arange(len(cell)) - np.searchsorted(cell[by_cell], cell[by_cell])
    quota = count // (_CELLS * _CELLS)
    best = np.lexsort((-strength, rank >= quota))[:count]
    return [keypoints[i] for i in np.sort(best)]
