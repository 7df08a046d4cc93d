"""Exposure fusion: of each place the well exposed, by weights on a pyramid.

Mertens, Kautz and Van Reeth, "Exposure Fusion" (2007): weights by contrast, saturation and nearness to the middle
grey, blended band by band. Here one colour after the other, so that frames of any size need little memory beside them.
"""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture, deep
from idle_lantern.core.merging.spill_store import SpilledPicture

#: Spread of what counts as well exposed about the middle of the scale (section 3.1 of the paper).
_SIGMA = 0.2
_SMALLEST_PX = 1
_ROWS = 256
_NEVER_ZERO = 1e-12


def fuse(pictures: Sequence[Picture | SpilledPicture], weights: Sequence[Array | None] | None = None) -> Picture:
    """One picture of exposures that lie on each other.

    Parameters
    ----------
    pictures : pictures of one size, display-encoded
    weights : (H, W) from 0 to 1, or 0 to 255 as uint8, for each, or None
        Where an exposure must not count: what moved, or lies outside of it.

    Returns
    -------
    Picture
        16 bit where any of them is, or where there are several; the profile of the first.
    """
    if len(pictures) == 1 and isinstance(pictures[0], Picture):
        return pictures[0]
    extra = weights or [None] * len(pictures)
    shares = _shares([_weight(p, w) for p, w in zip(pictures, extra)])
    height, width = shares[0].shape
    levels = max(1, int(np.log2(min(height, width) / _SMALLEST_PX)))
    # of a share half a float is enough: five exposures of 24 MP stay below 400 MB
    pyramids = []
    while shares:
        pyramids.append([p.astype(np.float16) for p in _smaller(shares.pop(0), levels)])
    fused = np.empty((height, width, 3), np.uint16)
    for c in range(3):
        total: list[Array] | None = None
        for picture, pyramid in zip(pictures, pyramids):
            bands = _bands(picture.pixels[..., c].astype(np.float32) / picture.full_scale, levels)
            weighted = [band * share.astype(np.float32) for band, share in zip(bands, pyramid)]
            total = weighted if total is None else [a + b for a, b in zip(total, weighted)]
        assert total is not None
        fused[..., c] = np.rint(np.clip(_collapsed(total), 0, 1) * 65535)
    first = pictures[0]
    if isinstance(first, SpilledPicture):
        return Picture(fused)
    return Picture(fused, None if first.alpha is None else deep(first.alpha), first.space)


def _weight(picture: Picture | SpilledPicture, extra: Array | None) -> Array:
    """Contrast times saturation times well-exposedness (equations 1 to 3), as float32; a few rows at a time."""
    pixels = picture.pixels
    height = pixels.shape[0]
    weight = np.empty(pixels.shape[:2], np.float32)
    for top in range(0, height, _ROWS):
        # a row more on either side for the contrast; at the rim it is mirrored
        low, high = max(0, top - 1), min(height, top + _ROWS + 1)
        colours = pixels[low:high].astype(np.float32) / picture.full_scale
        grey = cv2.cvtColor(colours, cv2.COLOR_RGB2GRAY)
        part = np.abs(cv2.Laplacian(grey, cv2.CV_32F))
        part *= colours.std(2)
        for c in range(3):
            part *= np.exp(-((colours[..., c] - 0.5) ** 2) / (2 * _SIGMA**2))
        weight[top : top + _ROWS] = part[top - low : top - low + _ROWS]
    weight += _NEVER_ZERO
    if extra is not None:
        scale = np.float32(1 / 255) if extra.dtype == np.uint8 else np.float32(1)
        weight *= np.asarray(extra * scale, np.float32)
        weight += np.float32(_NEVER_ZERO * 1e-3)
    return np.asarray(weight, np.float32)


def _shares(weights: list[Array]) -> list[Array]:
    total = np.add.reduce(weights)
    for weight in weights:
        weight /= total
    return weights


def _smaller(array: Array, levels: int) -> list[Array]:
    made = [array]
    for _ in range(levels):
        made.append(cv2.pyrDown(made[-1]))
    return made


def _bands(array: Array, levels: int) -> list[Array]:
    """What each halving takes away, and the rest."""
    made = []
    for _ in range(levels):
        half = cv2.pyrDown(array)
        made.append(array - cv2.pyrUp(half, dstsize=array.shape[::-1]))
        array = half
    made.append(array)
    return made


def _collapsed(bands: list[Array]) -> Array:
    whole = bands[-1]
    for band in reversed(bands[:-1]):
        whole = band + cv2.pyrUp(whole, dstsize=band.shape[::-1])
    return whole
