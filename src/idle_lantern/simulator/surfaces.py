"""Flat textured surfaces at true distances, and the renderer that looks at them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from threadpoolctl import threadpool_limits

from idle_lantern.core.base.arrays import Array
from idle_lantern.simulator import textures

#: (a, b, footprint) in metres, (N,) each -> (N, 3) reflectance, linear light.
Material = Callable[[Array, Array, Array], Array]
#: (a, b, footprint) in metres, (N,) each -> (N,) coverage 0..1.
Outline = Callable[[Array, Array, Array], Array]

_COARSE = 16
#: Rows that one worker looks along at a time.
_STRIP = 256


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

    @cached_property
    def normal(self) -> Array:
        """Unit normal (3,), across x down."""
        return np.cross(self.across, self.down)

    def turned_away(self, corner: Array) -> bool:
        """Whether it shows nothing, seen from where its corner lies at ``corner`` (3,): edge on, or from behind where it has one side."""
        height = float(corner @ self.normal)
        return abs(height) < 1e-6 or (self.one_sided and height > 0)

    def corner_at(self, time_s: float) -> Array:
        """Corner (3,) after ``time_s``: walkers walk."""
        return np.asarray(self.corner_m) + time_s * np.asarray(self.velocity_m_s)

    def middle_at(self, time_s: float) -> Array:
        """Centre (3,) of the rectangle."""
        w, h = self.size_m
        return self.corner_at(time_s) + w / 2 * np.asarray(self.across) + h / 2 * np.asarray(self.down)


#: Directions (N, 3) -> (N, 3) linear light of what lies at no distance.
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
    #: The place as it is so many seconds later, where more than people moves.
    later: Callable[[float], Diorama] | None = None

    def at(self, time_s: float) -> Diorama:
        """The place at that second; people are moved by who looks."""
        return self if self.later is None else self.later(time_s)


@dataclass
class SurfaceView:
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
) -> SurfaceView:
    """Look at ``scene`` from ``origin_m`` along unit world ``directions`` (H, W, 3).

    ``pixel_rad`` is the angle of one pixel, to which all detail is filtered. NaN
    directions give black. What hides comes first, so that nothing is drawn that is not seen.
    """
    scene = scene.at(time_s)
    h, w = directions.shape[:2]
    directions = directions.astype(np.float32, copy=False)
    # blind pixels stay NaN here, so that they widen no window
    field = _Field.of(np.ascontiguousarray(directions[::_COARSE, ::_COARSE]))
    blind = ~np.isfinite(directions[..., 0])
    if blind.any():
        directions = np.where(blind[..., None], np.array([0, -1, 0], np.float32), directions)
    light = np.zeros((h, w, 3), np.float32)
    distance = np.full((h, w), np.inf, np.float32)
    here = np.asarray(origin_m, float)
    order = sorted(scene.quads, key=lambda q: (-q.layer, float(np.linalg.norm(q.middle_at(time_s) - here))))
    placed = [
        (quad, window)
        for quad in order
        if _may_show(quad, here, field, time_s)
        and (window := _window(quad, quad.corner_at(time_s) - here, field, directions.shape)) is not None
    ]

    def one(top: int) -> None:
        bottom = min(top + _STRIP, h)
        strip = _Strip(
            directions[top:bottom].reshape(-1, 3),
            light[top:bottom].reshape(-1, 3),
            distance[top:bottom].reshape(-1),
            np.where(blind[top:bottom], np.float32(0), np.float32(1)),
        )
        for quad, window in placed:
            first, last = max(window.rows.start, top), min(window.rows.stop, bottom)
            if first < last:
                here_too = window.of_rows(first, last)
                _paint(
                    quad,
                    scene,
                    here,
                    strip,
                    (slice(first - top, last - top), window.columns),
                    here_too,
                    pixel_rad,
                    time_s,
                )
        sky = np.flatnonzero(strip.through)
        if len(sky):
            strip.light[sky] += strip.through.ravel()[sky][:, None] * scene.sky(strip.directions[sky], pixel_rad)

    # each worker has one thread: products of three columns gain nothing from more, which would only wait for each other
    with threadpool_limits(1, user_api="blas"), ThreadPoolExecutor(threads) as pool:
        list(pool.map(one, range(0, h, _STRIP)))
    return SurfaceView(light, distance)


@dataclass(frozen=True)
class _Field:
    """A coarse field of rays: where it looks, and what a cell of it may show.

    Attributes
    ----------
    rays : (N, 3)
        NaN where nothing is seen.
    shape : (rows, columns)
    reach : (N,)
        Cosine of the angle up to which what is near a ray may be seen in its cell.
    middle, farthest_rad : (3,), float
        The middle of all rays, and the angle from it to the farthest.
    """

    rays: Array
    shape: tuple[int, int]
    reach: Array
    middle: Array
    farthest_rad: float

    @classmethod
    def of(cls, coarse: Array) -> _Field:
        """What is known of rays (rows, columns, 3)."""
        step = np.zeros(coarse.shape[:2], np.float32)
        for axis in (0, 1):  # the widest step from each to its neighbours
            apart = np.nan_to_num(np.linalg.norm(np.diff(coarse, axis=axis), axis=-1))
            for side in ((1, 0), (0, 1)):
                pad = [(0, 0), (0, 0)]
                pad[axis] = side
                step = np.maximum(step, np.pad(apart, pad))
        step[step == 0] = 0.1
        flat = coarse.reshape(-1, 3)
        seen = flat[np.isfinite(flat[:, 0])]
        middle = seen.mean(0) if len(seen) else np.zeros(3)
        length = float(np.linalg.norm(middle))
        around = length < 0.1  # nothing can be left out
        middle = np.array([0.0, 0.0, 1.0]) if around else middle / length
        farthest = np.pi if around else float(np.arccos(np.clip((seen @ middle).min(), -1, 1))) + float(step.max())
        return cls(flat, coarse.shape[:2], np.cos(np.minimum(1.0, 1.8 * step)).ravel(), middle, farthest)


def _may_show(quad: Quad, here: Array, field: _Field, time_s: float) -> bool:
    """Whether the sphere round a quad reaches into a field of rays."""
    towards = quad.middle_at(time_s) - here
    distance, radius = float(np.linalg.norm(towards)), float(np.hypot(*quad.size_m)) / 2
    if radius >= distance:
        return True
    apart = float(np.arccos(np.clip(towards @ field.middle / distance, -1, 1)))
    return apart <= field.farthest_rad + float(np.arcsin(radius / distance))


#: Shares of its sides at which points on a quad are looked for, (49, 2).
_OVER_A_QUAD = np.stack(np.meshgrid(np.linspace(0, 1, 7), np.linspace(0, 1, 7)), -1).reshape(-1, 2)
#: Of a window so much must be free for its cells to be told one by one.
_SPARSE = 0.6


@dataclass(frozen=True)
class _Window:
    """Pixels that may show a quad: rows and columns, and which coarse cells of them, None where most do."""

    rows: slice
    columns: slice
    cells: Array | None

    @classmethod
    def of(cls, on: Array, shape: tuple[int, ...]) -> _Window:
        """Cells (rows, columns) of a coarse field and those round them, of a look of that shape."""
        rows, columns = np.flatnonzero(on.any(1)), np.flatnonzero(on.any(0))
        first, left = max(0, rows[0] - 1), max(0, columns[0] - 1)
        cells = on[first : rows[-1] + 2, left : columns[-1] + 2]
        part = (
            slice(first * _COARSE, min(shape[0], (rows[-1] + 2) * _COARSE)),
            slice(left * _COARSE, min(shape[1], (columns[-1] + 2) * _COARSE)),
        )
        if cells.mean() > _SPARSE:
            return cls(*part, None)
        near = np.zeros(
            (-(-(part[0].stop - part[0].start) // _COARSE), -(-(part[1].stop - part[1].start) // _COARSE)), bool
        )
        near[: cells.shape[0], : cells.shape[1]] = cells[: near.shape[0], : near.shape[1]]
        near[1:] |= near[:-1].copy()
        near[:-1] |= near[1:].copy()
        near[:, 1:] |= near[:, :-1].copy()
        near[:, :-1] |= near[:, 1:].copy()
        return cls(*part, near)

    def of_rows(self, first: int, last: int) -> Array | None:
        """Which pixels of some rows of the look, None for all in the window."""
        if self.cells is None:
            return None
        rows = (np.arange(first, last) - self.rows.start) // _COARSE
        columns = np.arange(self.columns.stop - self.columns.start) // _COARSE
        return np.asarray(self.cells[rows][:, columns])


def _window(quad: Quad, corner: Array, field: _Field, shape: tuple[int, ...]) -> _Window | None:
    """Pixels that may show ``quad``: rays that hit it on a coarse grid, or pass near points on it."""
    if quad.turned_away(corner):
        return None
    w, h = quad.size_m
    across, down = np.asarray(quad.across), np.asarray(quad.down)
    points = corner + _OVER_A_QUAD * (w, h) @ np.stack([across, down])
    points /= np.sqrt((points**2).sum(1, keepdims=True))
    flat = field.rays
    near = (flat @ points.T.astype(np.float32)).max(1) > field.reach
    normal = quad.normal
    with np.errstate(divide="ignore", invalid="ignore"):
        t = float(corner @ normal) / (flat @ normal.astype(np.float32))
        a = t * (flat @ across.astype(np.float32)) - float(corner @ across)
        b = t * (flat @ down.astype(np.float32)) - float(corner @ down)
        hit = (t > 0) & (a >= 0) & (a <= w) & (b >= 0) & (b <= h)
    on = (near | hit).reshape(field.shape)
    if not on.any():
        return None
    return _Window.of(on, shape)


@dataclass(frozen=True)
class _Strip:
    """Some rows of a look, as flat arrays of (N, 3) or (N,) that are filled in; ``through`` (rows, columns) is what
    the nearer things let by so far."""

    directions: Array
    light: Array
    distance: Array
    through: Array


def _paint(
    quad: Quad,
    scene: Diorama,
    here: Array,
    strip: _Strip,
    window: tuple[slice, slice],
    cells: Array | None,
    pixel_rad: float,
    time_s: float,
) -> None:
    """Add a quad's light where something of it is seen, and lessen what it lets by."""
    corner = quad.corner_at(time_s) - here
    normal = quad.normal
    height = float(corner @ normal)
    open_ = strip.through[window] > 0
    rows, columns = np.nonzero(open_ if cells is None else open_ & cells)
    if not len(rows):
        return
    at = (rows + window[0].start) * strip.through.shape[1] + (columns + window[1].start)
    w, h = quad.size_m
    axes = np.stack([normal, quad.across, quad.down], 1).astype(np.float32)
    slope, a, b = (strip.directions[at] @ axes).T
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        t = np.float32(height) / slope
        a = t * a - np.float32(corner @ np.asarray(quad.across))
        b = t * b - np.float32(corner @ np.asarray(quad.down))
    footprint = np.abs(t) * np.float32(pixel_rad)
    seen = np.flatnonzero((t > 0) & (a > -footprint) & (a < w + footprint) & (b > -footprint) & (b < h + footprint))
    if not len(seen):
        return
    if len(seen) < len(at):
        at = at[seen]
        slope, t, a, b, footprint = _those((slope, t, a, b, footprint), seen)
    if quad.outline is None:
        cover = textures.edge(np.minimum(np.minimum(a, w - a), np.minimum(b, h - b)), footprint)
    else:
        cover = quad.outline(a, b, footprint)
        shown = np.flatnonzero(cover > 0)
        if not len(shown):
            return
        if len(shown) < 0.9 * len(at):  # an outline leaves much of its rectangle empty
            at, cover = at[shown], cover[shown]
            slope, t, a, b, footprint = _those((slope, t, a, b, footprint), shown)
    blur = footprint / np.maximum(np.abs(slope), np.float32(0.02)) ** np.float32(0.7)
    colour = quad.material(a, b, blur)
    if quad.lit:
        facing = -np.sign(height) * normal
        lambert = max(0.0, float(facing @ np.asarray(scene.sun_direction)))
        colour = colour * (np.asarray(scene.shade) + lambert * np.asarray(scene.sun)).astype(np.float32)
    veil = np.exp(-t / np.float32(scene.haze_m))[:, None]
    colour = colour * veil + np.asarray(scene.haze, np.float32) * (1 - veil)
    through = strip.through.reshape(-1)
    left = through[at]
    strip.light[at] += (left * cover)[:, None] * colour
    through[at] = left * (1 - cover)
    solid = np.flatnonzero((cover > 0.5) & np.isinf(strip.distance[at]))
    strip.distance[at[solid]] = t[solid]


def _those(arrays: Sequence[Array], at: Array) -> list[Array]:
    """The same places of several arrays."""
    return [array[at] for array in arrays]
