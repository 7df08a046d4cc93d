"""Flat textured surfaces at true distances, and the renderer that looks at them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from idle_lantern.core.sim import textures

Array = NDArray[Any]

#: (a, b, footprint) in metres -> (H, W, 3) reflectance, linear light.
Material = Callable[[Array, Array, Array], Array]
#: (a, b, footprint) in metres -> (H, W) coverage 0..1.
Outline = Callable[[Array, Array, Array], Array]

_COARSE = 16


@dataclass(frozen=True)
class Quad:
    """A flat rectangle with a material and, if not rectangular, an outline.

    ``corner_m`` + a ``across`` + b ``down``, 0 <= a <= ``size_m[0]`` and so on;
    ``across`` and ``down`` are unit vectors. Quads of a higher ``layer`` hide lower
    ones; within a layer nearer ones hide farther ones.
    """

    corner_m: tuple[float, float, float]
    across: tuple[float, float, float]
    down: tuple[float, float, float]
    size_m: tuple[float, float]
    material: Material
    outline: Outline | None = None
    layer: int = 4
    velocity_m_s: tuple[float, float, float] = (0.0, 0.0, 0.0)
    one_sided: bool = False
    lit: bool = True

    @property
    def normal(self) -> Array:
        """Unit normal, across x down."""
        return np.cross(self.across, self.down)

    def corner_at(self, time_s: float) -> Array:
        """Corner after ``time_s``: walkers walk."""
        return np.asarray(self.corner_m) + time_s * np.asarray(self.velocity_m_s)

    def middle_at(self, time_s: float) -> Array:
        """Centre of the rectangle."""
        w, h = self.size_m
        return self.corner_at(time_s) + w / 2 * np.asarray(self.across) + h / 2 * np.asarray(self.down)


#: Directions -> (H, W, 3) linear light of what lies at no distance.
Sky = Callable[[Array, float], Array]


@dataclass(frozen=True)
class Diorama:
    """Everything that can be seen, and the light on it. Linear light, sunlit white about 0.8."""

    quads: Sequence[Quad]
    sky: Sky
    sun_direction: tuple[float, float, float]
    sun: tuple[float, float, float] = (0.86, 0.78, 0.66)
    shade: tuple[float, float, float] = (0.20, 0.23, 0.28)
    haze: tuple[float, float, float] = (0.60, 0.68, 0.76)
    haze_m: float = 5000.0


@dataclass
class View:
    """What one look gives: linear light (H, W, 3) and distance in metres (H, W), inf for sky."""

    light: Array
    distance_m: Array = field(repr=False)


def look(
    scene: Diorama,
    origin_m: Array,
    directions: Array,
    pixel_rad: float,
    *,
    time_s: float = 0.0,
    threads: int = 2,
) -> View:
    """Look at ``scene`` from ``origin_m`` along unit world ``directions`` (H, W, 3).

    ``pixel_rad`` is the angle of one pixel, to which all detail is filtered. NaN
    directions give black.
    """
    h, w = directions.shape[:2]
    directions = directions.astype(np.float32, copy=False)
    light = np.zeros((h, w, 3), np.float32)
    distance = np.full((h, w), np.inf, np.float32)
    here = np.asarray(origin_m, float)
    order = sorted(scene.quads, key=lambda q: (q.layer, -float(np.linalg.norm(q.middle_at(time_s) - here))))
    strips = [slice(top, min(top + 256, h)) for top in range(0, h, 256)]

    def one(rows: slice) -> None:
        d = directions[rows]
        blind = ~np.isfinite(d[..., 0])
        if blind.all():
            return
        d = np.where(blind[..., None], np.array([0, -1, 0], np.float32), d) if blind.any() else d
        part = scene.sky(d, pixel_rad)
        coarse = np.ascontiguousarray(d[::_COARSE, ::_COARSE])
        for quad in order:
            _paint(quad, scene, here, d, coarse, pixel_rad, time_s, part, distance[rows])
        part[blind] = 0
        light[rows] = part

    with ThreadPoolExecutor(threads) as pool:
        list(pool.map(one, strips))
    return View(light, distance)


def _window(quad: Quad, corner: Array, coarse: Array, shape: tuple[int, ...]) -> tuple[slice, slice] | None:
    """Pixels that may show ``quad``: rays that hit it on a coarse grid, or pass near points on it."""
    w, h = quad.size_m
    across, down = np.asarray(quad.across), np.asarray(quad.down)
    side, low = np.meshgrid(np.linspace(0, w, 7), np.linspace(0, h, 7))
    points = corner + side.reshape(-1, 1) * across + low.reshape(-1, 1) * down
    points /= np.linalg.norm(points, axis=1, keepdims=True)
    if coarse.shape[0] > 1 and coarse.shape[1] > 1:
        step = max(
            float(np.linalg.norm(coarse[0, 1] - coarse[0, 0])),
            float(np.linalg.norm(coarse[-1, -1] - coarse[-2, -1])),
            float(np.linalg.norm(coarse[-1, -1] - coarse[-1, -2])),
        )
    else:
        step = 0.1
    flat = coarse.reshape(-1, 3)
    near = (flat @ points.T.astype(np.float32)).max(1) > np.cos(min(1.0, 1.6 * step))
    normal = quad.normal
    with np.errstate(divide="ignore", invalid="ignore"):
        t = float(corner @ normal) / (flat @ normal.astype(np.float32))
        a = t * (flat @ across.astype(np.float32)) - float(corner @ across)
        b = t * (flat @ down.astype(np.float32)) - float(corner @ down)
        hit = (t > 0) & (a >= 0) & (a <= w) & (b >= 0) & (b <= h)
    on = (near | hit).reshape(coarse.shape[:2])
    if not on.any():
        return None
    rows, columns = np.flatnonzero(on.any(1)), np.flatnonzero(on.any(0))
    return (
        slice(max(0, (rows[0] - 1) * _COARSE), min(shape[0], (rows[-1] + 2) * _COARSE)),
        slice(max(0, (columns[0] - 1) * _COARSE), min(shape[1], (columns[-1] + 2) * _COARSE)),
    )


def _paint(
    quad: Quad,
    scene: Diorama,
    here: Array,
    directions: Array,
    coarse: Array,
    pixel_rad: float,
    time_s: float,
    light: Array,
    distance: Array,
) -> None:
    corner = quad.corner_at(time_s) - here
    normal = quad.normal
    height = float(corner @ normal)
    if abs(height) < 1e-6 or (quad.one_sided and height > 0):
        return
    window = _window(quad, corner, coarse, directions.shape)
    if window is None:
        return
    d = directions[window]
    w, h = quad.size_m
    slope = d @ normal.astype(np.float32)
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        t = np.float32(height) / slope
        a = t * (d @ np.asarray(quad.across, np.float32)) - np.float32(corner @ np.asarray(quad.across))
        b = t * (d @ np.asarray(quad.down, np.float32)) - np.float32(corner @ np.asarray(quad.down))
    footprint = np.abs(t) * np.float32(pixel_rad)
    seen = (t > 0) & (a > -footprint) & (a < w + footprint) & (b > -footprint) & (b < h + footprint)
    if not seen.any():
        return
    # narrow to the rows and columns really touched
    rows, columns = np.flatnonzero(seen.any(1)), np.flatnonzero(seen.any(0))
    cut = (slice(rows[0], rows[-1] + 1), slice(columns[0], columns[-1] + 1))
    seen, slope = seen[cut], slope[cut]
    t, a, b = (np.where(seen, x[cut], np.float32(1)) for x in (t, a, b))
    footprint = np.where(seen, footprint[cut], np.float32(1))
    blur = footprint / np.maximum(np.abs(slope), np.float32(0.02)) ** np.float32(0.7)
    if quad.outline is None:
        cover = textures.edge(np.minimum(np.minimum(a, w - a), np.minimum(b, h - b)), footprint)
    else:
        cover = quad.outline(a, b, footprint)
    cover = cover * seen
    if not cover.any():
        return
    colour = quad.material(a, b, blur)
    if quad.lit:
        facing = -np.sign(height) * normal
        lambert = max(0.0, float(facing @ np.asarray(scene.sun_direction)))
        colour = colour * (np.asarray(scene.shade) + lambert * np.asarray(scene.sun)).astype(np.float32)
    veil = np.exp(-t / np.float32(scene.haze_m))[..., None]
    colour = colour * veil + np.asarray(scene.haze, np.float32) * (1 - veil)
    target = light[window][cut]
    target += cover[..., None] * (colour - target)
    depth = distance[window][cut]
    depth[...] = np.where(cover > 0.5, t, depth)
