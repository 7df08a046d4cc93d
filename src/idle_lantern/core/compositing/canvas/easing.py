"""A canvas bent locally: lines that its projection bends made straight, round things near its rim made round, the rest left alone.

A mesh over the canvas moves as little and as smoothly as it can while it does what is asked (least squares; after Carroll, Agrawala and
Agarwala 2009, "Optimizing content-preserving projections for wide-angle images"). It is kept with the canvas, so that the picture is
sampled once from its frames.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy import sparse
from scipy.sparse.linalg import splu

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import JoinError
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.stretch import Stretch
from idle_lantern.core.request.eased import Eased, RoundThing, StraightLine, ray_of

#: Cells across the smallest thing that is eased, and across the longer side at most and at least.
_CELLS_OF_THING, _MOST_CELLS, _LEAST_CELLS = 10, 110, 40
#: Weights: of differences of the move between neighbours, of its bend, of the move itself, of a line, of a shape, of the rim.
_EVEN, _BEND, _STAY, _LINE, _SHAPE, _RIM = 1.0, 3.0, 0.05, 30.0, 12.0, 100.0
#: Places along a line; a shape falls off from its radius to so many times it.
_ALONG, _FALLS_OFF = 48, 1.6
#: Rounds of the way back at most, and what it may miss in pixels.
_ROUNDS, _EXACT_PX = 60, 1e-3
#: No cell may shrink to less than this of its area.
_LEAST_CELL = 0.25


def eased(canvas: Canvas, places: Sequence[Eased]) -> Canvas:
    """The canvas with the mesh that eases some places; the very same one where nothing is asked or nothing of it is on the canvas.

    Raises
    ------
    JoinError
        They ask for more than the canvas can bend.
    """
    asked = [made for place in places if (made := _on_canvas(canvas, place)) is not None]
    if not asked:
        return canvas
    mesh = _Mesh(canvas, min(thing.size_px for thing in asked))
    rows = _Rows(mesh.count)
    mesh.be_smooth(rows)
    for thing in asked:
        thing.ask(mesh, rows)
    moved = mesh.nodes + mesh.spread(rows.solved())
    if _least_cell(moved, mesh.step) < _LEAST_CELL:
        raise JoinError(
            "What shall be straight or round asks for more than the picture can bend",
            remedy="Take a place back, or choose a projection that bends it less",
        )
    period = float(canvas.width) if canvas.full_circle else 0.0
    forward = Stretch(mesh.origin, mesh.step, moved, period)
    return replace(canvas, stretch=Stretch(mesh.origin, mesh.step, _way_back(forward, mesh.nodes), period))


def _way_back(forward: Stretch, nodes: Array) -> Array:
    """Flat places (R, C, 2) that a mesh moves to its nodes, by going back what they miss."""
    found = nodes.copy()
    for _ in range(_ROUNDS):
        miss = nodes - forward.flat(found)
        found += miss
        if np.abs(miss).max() < _EXACT_PX:
            break
    return found


class _Mesh:
    """Nodes (R, C, 2) over a flat canvas in pixels; of a full circle the last column is the first one a period on."""

    def __init__(self, canvas: Canvas, thing_px: float) -> None:
        self.canvas = canvas
        longer = max(canvas.width, canvas.height)
        step = min(max(thing_px / _CELLS_OF_THING, longer / _MOST_CELLS), longer / _LEAST_CELLS)
        cells = max(4, round(canvas.width / step)), max(4, round(canvas.height / step))
        self.wraps = canvas.full_circle
        self.origin, self.step = (-0.5, -0.5), (canvas.width / cells[0], canvas.height / cells[1])
        self.columns, self.rows = cells[0] + 1, cells[1] + 1
        #: Columns that move by themselves.
        self.own = cells[0] if self.wraps else self.columns
        grid = np.stack(np.meshgrid(np.arange(self.columns), np.arange(self.rows)), -1)
        self.nodes: Array = np.asarray(self.origin) + np.asarray(self.step) * grid
        self.count = self.own * self.rows

    def number(self, row: Array, column: Array) -> Array:
        """Numbers of nodes by row and column."""
        return np.asarray(row * self.own + (column % self.own if self.wraps else column))

    def spread(self, moves: Array) -> Array:
        """Moves (count, 2) as (R, C, 2)."""
        made = moves.reshape(self.rows, self.own, 2)
        return np.concatenate([made, made[:, :1]], 1) if self.wraps else made

    def be_smooth(self, rows: _Rows) -> None:
        """Neighbours move alike, what moves moves evenly, all of it stays about where it is, and the rim stays the rim."""
        row, column = (a.ravel() for a in np.mgrid[: self.rows, : self.own])
        rows.add([self.number(row, column)], [np.ones(len(row))], _STAY)
        for down, across in ((0, 1), (1, 0)):
            there = (row + down < self.rows) & (self.wraps | (column + across < self.own))
            one, other = self.number(row, column)[there], self.number(row + down, column + across)[there]
            rows.add([one, other], [-np.ones(len(one)), np.ones(len(one))], _EVEN)
            further = there & (row + 2 * down < self.rows) & (self.wraps | (column + 2 * across < self.own))
            places = [self.number(row + k * down, column + k * across)[further] for k in range(3)]
            rows.add(places, [np.ones(len(places[0])), -2 * np.ones(len(places[0])), np.ones(len(places[0]))], _BEND)
        for axis, at in ((1, (row == 0) | (row == self.rows - 1)), (0, (column == 0) | (column == self.own - 1))):
            if axis == 0 and self.wraps:
                continue
            node = self.number(row, column)[at]
            rows.add([node], [np.ones(len(node))], _RIM, axis=axis)

    def about(self, places: Array) -> tuple[list[Array], list[Array]]:
        """The four nodes about flat places (N, 2), and their weights."""
        at = (places - self.origin) / self.step
        limit = np.array([self.columns - 1, self.rows - 1])
        if self.wraps:
            at[:, 0] %= self.columns - 1
        low = np.clip(np.floor(at).astype(int), 0, limit - 1)
        x, y = (at - low).T
        nodes = [self.number(low[:, 1] + j, low[:, 0] + i) for j in (0, 1) for i in (0, 1)]
        weights = [(y if j else 1 - y) * (x if i else 1 - x) for j in (0, 1) for i in (0, 1)]
        return nodes, weights


class _Rows:
    """Equations of a least-squares problem over moves (count, 2)."""

    def __init__(self, count: int) -> None:
        self._count, self._height = count, 0
        self._parts: list[tuple[Array, Array, Array]] = []
        self._wanted: list[Array] = []

    def add(
        self, nodes: Sequence[Array], factors: Sequence[Array], weight: Array | float, wanted: Array | float = 0.0,
        *, axis: int | None = None,
    ) -> None:  # fmt: skip
        """Of each node the factors times its move shall make ``wanted``, (N,) or (N, 2); along both axes, or one of them."""
        n = len(nodes[0])
        both = (
            np.broadcast_to(np.asarray(wanted, float), (n, 2))
            if np.ndim(wanted) != 1
            else np.repeat(np.asarray(wanted)[:, None], 2, 1)
        )
        scale = np.broadcast_to(np.asarray(weight, float), (n,))
        for k in (0, 1) if axis is None else (axis,):
            self.add_mixed([(2 * node + k, f) for node, f in zip(nodes, factors)], scale, both[:, k])

    def add_mixed(self, terms: Sequence[tuple[Array, Array]], weight: Array, wanted: Array) -> None:
        """Factors (N,) times unknowns (N,), which are 2 * node + axis."""
        n = len(wanted)
        at = np.arange(self._height, self._height + n)
        self._parts += [(at, unknown, np.asarray(f) * weight) for unknown, f in terms]
        self._wanted.append(wanted * weight)
        self._height += n

    def solved(self) -> Array:
        """The moves (count, 2) that leave least."""
        row, column, value = (np.concatenate(parts) for parts in zip(*self._parts))
        matrix = sparse.csr_matrix((value, (row, column)), (self._height, 2 * self._count))
        square = (matrix.T @ matrix).tocsc()
        # positive definite: ordered as such, and no pivot is sought
        solver = splu(square, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
        return np.asarray(solver.solve(matrix.T @ np.concatenate(self._wanted))).reshape(-1, 2)


@dataclass(frozen=True)
class _Line:
    """Flat places (N, 2) of what shall be straight, from end to end."""

    points: Array
    size_px: float

    def ask(self, mesh: _Mesh, rows: _Rows) -> None:
        chord = self.points[-1] - self.points[0]
        normal = np.array([-chord[1], chord[0]]) / np.hypot(*chord)
        nodes, weights = mesh.about(self.points)
        terms = [(2 * n + k, w * normal[k]) for n, w in zip(nodes, weights) for k in (0, 1)]
        off = (self.points - self.points[0]) @ normal
        rows.add_mixed(terms, np.full(len(off), _LINE), -off)


@dataclass(frozen=True)
class _Shape:
    """A place (3,) about which things shall keep their shape, with an orthonormal base (2, 3) of its tangents, right and down."""

    centre: Array
    base: Array
    at_px: Array
    frame: Array
    radius_rad: float
    size_px: float

    def ask(self, mesh: _Mesh, rows: _Rows) -> None:
        rays = mesh.canvas.directions(mesh.nodes)
        cosine = rays @ self.centre
        with np.errstate(invalid="ignore", divide="ignore"):
            # stereographic about the place: round things stay round
            plane = (rays @ self.base.T) * (2 / (1 + cosine))[..., None]
            away = np.arccos(cosine.clip(-1, 1))
            share = np.clip((_FALLS_OFF * self.radius_rad - away) / ((_FALLS_OFF - 1) * self.radius_rad), 0, 1)
            wanted = plane @ self.frame.T + self.at_px
        share = np.nan_to_num(share)
        row, column = (a.ravel() for a in np.mgrid[: mesh.rows, : mesh.columns])
        for down, across in ((0, 1), (1, 0)):
            there = (row + down < mesh.rows) & (column + across < mesh.columns)
            one, other = (row[there], column[there]), (row[there] + down, column[there] + across)
            strength = np.minimum(share[one], share[other])
            kept = strength > 0
            one, other = tuple(a[kept] for a in one), tuple(a[kept] for a in other)
            apart = (wanted[other] - wanted[one]) - (mesh.nodes[other] - mesh.nodes[one])
            ones = np.ones(len(apart))
            rows.add(
                [mesh.number(*one), mesh.number(*other)], [-ones, ones], _SHAPE * strength[kept], np.nan_to_num(apart)
            )


def _on_canvas(canvas: Canvas, place: Eased) -> _Line | _Shape | None:
    """What is asked, in pixels of the flat canvas; None where the canvas does not show it."""
    if isinstance(place, StraightLine):
        ends = np.stack([ray_of(p) for p in (place.from_deg, place.to_deg)])
        angle = math.acos(float(np.clip(ends[0] @ ends[1], -1, 1)))
        if not 1e-4 < angle < math.pi - 1e-3:
            return None
        along = np.linspace(0, 1, _ALONG)[:, None]
        rays = (np.sin((1 - along) * angle) * ends[0] + np.sin(along * angle) * ends[1]) / math.sin(angle)
        points = canvas.pixels(rays)
        if not np.isfinite(points).all() or _jumps(points, canvas) or not _within(points, canvas):
            return None
        return _Line(points, max(4.0, float(np.hypot(*(points[-1] - points[0])))))
    return _shape_of(canvas, place)


def _shape_of(canvas: Canvas, place: RoundThing) -> _Shape | None:
    centre, small = ray_of(place.centre_deg), 1e-4
    right = np.cross([0.0, 1.0, 0.0], centre)
    length = float(np.linalg.norm(right))
    right = right / length if length > 1e-9 else np.array([1.0, 0.0, 0.0])
    base = np.stack([right, np.cross(centre, right)])
    rays = centre + small * np.concatenate([np.zeros((1, 3)), base, -base])
    points = canvas.pixels(rays / np.linalg.norm(rays, axis=1, keepdims=True))
    if not np.isfinite(points).all() or not _within(points[:1], canvas):
        return None
    slope = np.stack([points[1] - points[3], points[2] - points[4]], -1) / (2 * small)
    # the nearest turn, of the same area: as large as it is drawn now, and of its own shape
    u, _sizes, v = np.linalg.svd(slope)
    frame = math.sqrt(abs(float(np.linalg.det(slope)))) * (u @ v)
    radius = math.radians(place.radius_deg)
    return _Shape(centre, base, points[0], frame, radius, max(4.0, 2 * radius * float(np.linalg.norm(frame, 2))))


def _within(points: Array, canvas: Canvas) -> bool:
    """Whether the canvas shows most of places (N, 2)."""
    x, y = points.T
    inside = (y >= 0) & (y < canvas.height) & (canvas.full_circle | ((x >= 0) & (x < canvas.width)))
    return bool(inside.mean() > 0.5)


def _jumps(points: Array, canvas: Canvas) -> bool:
    """Whether a line runs over the back of a picture, where it ends on one side and goes on at the other."""
    steps = np.hypot(*np.diff(points, axis=0).T)
    return bool(steps.max() > 0.4 * canvas.width)


def _least_cell(moved: Array, step: tuple[float, float]) -> float:
    """The smallest share of its area that a cell keeps; below nought where one is turned over."""
    across, down = moved[:-1, 1:] - moved[:-1, :-1], moved[1:, :-1] - moved[:-1, :-1]
    return float((across[..., 0] * down[..., 1] - across[..., 1] * down[..., 0]).min() / (step[0] * step[1]))
