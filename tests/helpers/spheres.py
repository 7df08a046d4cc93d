"""Spheres whose every direction is known: a smooth pattern of it, so that what is shown tells where one looks."""

from __future__ import annotations

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.ball import Ball, WholeSphere
from idle_lantern.core.pictures.source import HeldPicture


def pattern(rays: Array) -> Array:
    """Colours (..., 3), 0 to 255, of directions (..., 3): each channel follows one axis, with some finer waves on it."""
    rays = np.asarray(rays) / np.linalg.norm(rays, axis=-1, keepdims=True)
    return np.asarray(128 + 90 * rays + 20 * np.sin(9 * np.roll(rays, 1, -1)))


def sphere_pixels(width: int) -> Array:
    """The pattern as an equirectangular picture (width / 2, width, 3) uint8."""
    canvas = WholeSphere.of((width, width // 2))
    u, v = np.meshgrid(np.arange(width, dtype=float), np.arange(width // 2, dtype=float))
    return np.rint(pattern(canvas.directions(np.stack([u, v], -1)))).astype(np.uint8)


def ball(width: int = 1600) -> Ball:
    """That sphere, ready to be delivered."""
    pixels = sphere_pixels(width)
    return Ball(HeldPicture(Picture(pixels)), WholeSphere.of((width, width // 2)))
