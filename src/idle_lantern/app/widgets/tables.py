"""Display values changed by a table for each colour, in images: how a development is seen before anything is made."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np
from PyQt6.QtGui import QImage

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.merging.development import Development


@lru_cache(maxsize=16)
def table_of(development: Development, space: ColourSpace = SRGB) -> Array | None:
    """What a development makes of display values of ``space``, as ``mapped`` takes it; None where nothing changes."""
    if development.changes_nothing:
        return None
    return np.ascontiguousarray(np.rint(development.table(space=space).T * 255).astype(np.uint8)[None])


def mapped(pixels: Array, table: Array | None) -> Array:
    """Pixels (H, W, 3 or 4), 8 bit, with each colour through its table; alpha stays."""
    if table is None:
        return pixels
    colours = cv2.LUT(np.ascontiguousarray(pixels[..., :3]), table)
    return np.asarray(colours if pixels.shape[2] == 3 else np.dstack([colours, pixels[..., 3]]))


def pixels_of(image: QImage) -> Array:
    """Pixels (H, W, 3) of an image, in memory of their own."""
    plain = image.convertToFormat(QImage.Format.Format_RGB888)
    bits = plain.constBits()
    assert bits is not None
    rows = np.frombuffer(bits.asstring(plain.sizeInBytes()), np.uint8).reshape(plain.height(), plain.bytesPerLine())
    return rows[:, : 3 * plain.width()].reshape(plain.height(), plain.width(), 3).copy()
