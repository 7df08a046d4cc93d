"""Surfaces put together: rectangles, boxes, upright pictures that face the viewer."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from idle_lantern.simulator.surfaces import Material, Outline, Quad

DOWN = (0.0, 1.0, 0.0)


def quad(corner: Any, across: Any, down: Any, size: tuple[float, float], material: Material, **more: Any) -> Quad:
    """A rectangle from arrays; more as of ``Quad``."""

    def plain(v: Any) -> tuple[float, float, float]:
        return float(v[0]), float(v[1]), float(v[2])

    return Quad(plain(corner), plain(across), plain(down), size, material, **more)


def box(
    centre: tuple[float, float],
    size: tuple[float, float, float],
    base_y: float,
    turn_deg: float,
    material: Material | list[Material],
    layer: int = 4,
    top: Material | None = None,
) -> list[Quad]:
    """Four walls and, if given, a top; ``size`` is (width, height, depth)."""
    w, h, dep = size
    c, s = math.cos(math.radians(turn_deg)), math.sin(math.radians(turn_deg))
    right, back = np.array([c, 0, s]), np.array([-s, 0, c])
    mid = np.array([centre[0], base_y - h, centre[1]])
    materials = material if isinstance(material, list) else [material] * 4
    quads = []
    for i, (axis, out, wide, deep) in enumerate(
        ((right, -back, w, dep), (back, right, dep, w), (-right, back, w, dep), (-back, -right, dep, w))
    ):
        corner = mid + out * deep / 2 - axis * wide / 2
        quads.append(quad(corner, axis, DOWN, (wide, h), materials[i % len(materials)], layer=layer))
    if top is not None:
        quads.append(quad(mid - right * w / 2 - back * dep / 2, right, back, (w, dep), top, layer=layer))
    return quads


def facing(
    x: float,
    z: float,
    base_y: float,
    size: tuple[float, float],
    material: Material,
    outline: Outline | None,
    layer: int = 4,
    **more: Any,
) -> Quad:
    """An upright picture that stands square to the viewer."""
    length = math.hypot(x, z)
    right = np.array([z / length, 0, -x / length])
    corner = np.array([x, base_y - size[1], z]) - right * size[0] / 2
    return quad(corner, right, DOWN, size, material, outline=outline, layer=layer, **more)
