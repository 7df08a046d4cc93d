"""The bands of a multi-band blend."""

from __future__ import annotations

import cv2

from idle_lantern.core.base.arrays import Array


def masked_bands(picture: Array, mask: Array, count: int) -> list[Array]:
    """``count`` bands of a half-size picture (h, w, 3), each weighed by the mask blurred to its scale; then what remains."""
    mask = cv2.GaussianBlur(mask, (3, 3), 0)
    levels = []
    for _ in range(count):
        smaller, small_mask = cv2.pyrDown(picture), cv2.pyrDown(mask)
        band = cv2.subtract(picture, cv2.pyrUp(smaller, dstsize=(picture.shape[1], picture.shape[0])))
        levels.append(cv2.multiply(band, cv2.merge([mask] * 3)))
        picture, mask = smaller, small_mask
    levels.append(cv2.multiply(picture, cv2.merge([mask] * 3)))
    return levels
