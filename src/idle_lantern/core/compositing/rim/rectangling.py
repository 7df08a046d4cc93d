"""A picture of any outline warped to a rectangle, straight lines kept straight and shapes kept alike.

He, Chang and Sun, *Rectangling Panoramic Images via Warping* (ACM Transactions on Graphics 32, 2013), section 4: a mesh
on the picture is moved so that each cell changes by a similarity at most (their equation 1), straight lines stay lines of one
angle in each of 50 bins of direction (equation 4), and the rim lies on the rectangle; lines and angles are found in turn.
Three things are other than there: the mesh is spun between the outlines instead of being carried back from doubled seams, which
tears it where the outline is stepped; and what is level or upright stays so, since a horizon
must not tilt; and lines that end at the rim turn each for itself.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np
from scipy.interpolate import CloughTocher2DInterpolator
from scipy.ndimage import binary_erosion
from scipy.sparse import csr_matrix, vstack
from scipy.sparse.linalg import spsolve

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.compositing.canvas.stretch import Stretch
from idle_lantern.core.geometry.holes import filled_holes

#: Cells along the longer side of the mesh.
_CELLS = 44
#: Weights against shapes, bins of direction and turns (He et al., section 4).
_LINES = 100.0  # weight of lines
_RIM = 1e6  # weight of the rim
_BINS = 50  # of directions
_TURNS = 10  # how often mesh and lines are solved for in turn
#: Lines so near to level or upright keep their direction.
_LEVEL_RAD = math.radians(4.0)
#: Lines shorter than this share of the picture's longer side say little.
_SHORTEST = 0.03
#: A line runs along the rim where much of it lies within this share of the picture's longer side of it.
_ALONG = 0.02
#: The final grid is so many times as fine as the mesh.
_FINER = 2


@dataclass(frozen=True)
class Rectangled:
    """How a picture becomes a rectangle.

    Attributes
    ----------
    stretch : Stretch
    size : (int, int)
        Width and height of the rectangle.
    energies : tuple of float
        What is left to pay after each turn.
    bow_px : float
        How far the straight lines of the picture bend at most, in pixels; those that run along its rim are drawn with it.
    """

    stretch: Stretch
    size: tuple[int, int]
    energies: tuple[float, ...]
    bow_px: float


def rectangled(picture: Array, shown: Array, *, full_circle: bool = False) -> Rectangled | None:
    """The warp of a picture (h, w, 3) uint8 that shows something where ``shown`` (h, w) says; None where nothing is missing.

    A ``full_circle`` stays one: its sides are the same places.
    """
    solid = filled_holes(shown)
    if solid.all():
        return None
    # the rim of a reduced picture is known to a pixel: one is given up, so that nothing beyond it is drawn in
    inner = np.asarray(binary_erosion(solid, iterations=2, border_value=1))
    inner = _largest_part(inner)
    if min(inner.any(0).sum(), inner.any(1).sum()) < 4:
        return None
    source = _mesh_on_picture(inner, full_circle=full_circle)
    away = np.asarray(cv2.distanceTransform(inner.astype(np.uint8), cv2.DIST_L2, 3))
    lines = _lines(picture, away)
    h, w = shown.shape
    size = np.array([w, h], float)
    target, energies = _moved(source, lines, away, size, full_circle=full_circle)
    # the rectangle whose cells are drawn neither larger nor smaller on the whole (their section 4.2)
    across = np.linalg.norm(np.diff(target, axis=1), axis=-1) / np.linalg.norm(np.diff(source, axis=1), axis=-1)
    down = np.linalg.norm(np.diff(target, axis=0), axis=-1) / np.linalg.norm(np.diff(source, axis=0), axis=-1)
    size = size / (1.0 if full_circle else across.mean(), down.mean())
    size = np.array([w if full_circle else round(size[0]), round(size[1])], float)
    target, energies = _moved(source, lines, away, size, full_circle=full_circle)
    stretch = _stretch(source, target, size, full_circle=full_circle)
    return Rectangled(stretch, (int(size[0]), int(size[1])), tuple(energies), _bow(lines, stretch, away))


def _largest_part(shown: Array) -> Array:
    count, labels, stats, _ = cv2.connectedComponentsWithStats(shown.astype(np.uint8), connectivity=4)
    if count <= 2:
        return shown
    return np.asarray(labels == 1 + int(stats[1:, cv2.CC_STAT_AREA].argmax()))


def _mesh_on_picture(shown: Array, *, full_circle: bool) -> Array:
    """Mesh points (R, C, 2) on the picture, in pixels counted from its corner: on its outline, and spun evenly between."""
    h, w = shown.shape
    cells = np.array([w, h]) / max(w, h) * _CELLS
    across, down = max(4, round(cells[0])), max(4, round(cells[1]))
    top, bottom = _outline(shown)
    left, right = _outline(shown.T)
    if full_circle:
        left, right = np.zeros(h), np.full(h, float(w))
    inside = np.argwhere(shown)[:, ::-1]
    low, high = inside.min(0), inside.max(0)
    corner = {}
    for x_side, y_side in ((0, 0), (1, 0), (0, 1), (1, 1)):
        away = np.abs(inside - np.array([(low, high)[x_side][0], (low, high)[y_side][1]])).sum(1)
        corner[x_side, y_side] = inside[away.argmin()] + np.array([x_side, y_side], float)
        if full_circle:
            corner[x_side, y_side][0] = (0, w)[x_side]
    mesh = np.zeros((down + 1, across + 1, 2))
    for side, line in ((0, top), (1, bottom)):
        places = np.linspace(corner[0, side][0], corner[1, side][0], across + 1)
        mesh[-side, :, 0], mesh[-side, :, 1] = (
            places,
            _within(line, places, side, (corner[0, side][1], corner[1, side][1])),
        )
    for side, line in ((0, left), (1, right)):
        places = np.linspace(corner[side, 0][1], corner[side, 1][1], down + 1)
        mesh[:, -side, 1], mesh[:, -side, 0] = (
            places,
            _within(line, places, side, (corner[side, 0][0], corner[side, 1][0])),
        )
    if full_circle:
        rim = (mesh[[0, -1], 0, 1] + mesh[[0, -1], -1, 1]) / 2
        mesh[0, [0, -1], 1], mesh[-1, [0, -1], 1] = rim
        mesh[:, 0, 1] = mesh[:, -1, 1] = np.linspace(rim[0], rim[1], down + 1)
    return _spun(mesh)


def _outline(shown: Array) -> tuple[Array, Array]:
    """Where each column begins and ends to show something, outermost."""
    return shown.argmax(0).astype(float), (len(shown) - shown[::-1].argmax(0)).astype(float)


def _within(line: Array, places: Array, side: int, ends: tuple[float, float]) -> Array:
    """An outline at some places, no farther out than anywhere up to the places beside: what is between them lies inside too."""
    result = np.empty(len(places))
    for i in range(len(places)):
        first = int(places[max(0, i - 1)])
        part = line[first : max(first + 1, int(np.ceil(places[min(len(places) - 1, i + 1)])))]
        result[i] = part.max() if side == 0 else part.min()
    result[0], result[-1] = ends
    return result


def _spun(mesh: Array) -> Array:
    """The mesh with its inner points in the middle of their neighbours (Laplace's equation), its rim as it is."""
    rows, columns = mesh.shape[:2]
    at = np.arange(rows * columns).reshape(rows, columns)
    inner = np.zeros((rows, columns), bool)
    inner[1:-1, 1:-1] = True
    me = at[1:-1, 1:-1].ravel()
    beside = [at[:-2, 1:-1], at[2:, 1:-1], at[1:-1, :-2], at[1:-1, 2:]]
    values = np.concatenate([np.ones(rows * columns), np.full(4 * len(me), -0.25)])
    where = np.concatenate([at.ravel(), *[me] * 4]), np.concatenate([at.ravel(), *(b.ravel() for b in beside)])
    matrix = csr_matrix((values, where), (rows * columns, rows * columns)).tocsc()
    right = np.where(inner[..., None], 0.0, mesh).reshape(-1, 2)
    return np.stack([spsolve(matrix, right[:, k]) for k in (0, 1)], -1).reshape(mesh.shape)


def _lines(picture: Array, away: Array) -> Array:
    """Straight lines (N, 2, 2) of the picture, in pixels counted from its corner."""
    grey = cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)
    found = cv2.createLineSegmentDetector().detect(grey)[0]
    if found is None:
        return np.zeros((0, 2, 2))
    lines = found.reshape(-1, 2, 2).astype(float) + 0.5
    length = np.linalg.norm(lines[:, 1] - lines[:, 0], axis=-1)
    lines = lines[length > _SHORTEST * max(away.shape)]
    return np.asarray(lines[(_along(lines, away, 9) > 2.5).all(1)])


def _along(lines: Array, away: Array, count: int) -> Array:
    """How far from the rim some places of each line lie, (N, count)."""
    t = np.linspace(0, 1, count)[:, None]
    points = lines[:, :1] + t * (lines[:, 1:] - lines[:, :1]) - 0.5
    at = np.clip(np.rint(points).astype(int), 0, np.array(away.shape[::-1]) - 1)
    return np.asarray(away[at[..., 1], at[..., 0]])


def _moved(source: Array, lines: Array, away: Array, size: Array, *, full_circle: bool) -> tuple[Array, list[float]]:
    """Mesh points on the rectangle (R, C, 2), and the energy after each turn."""
    rows, columns = source.shape[:2]
    shape = _shape_rows(source)
    rim, wanted = _rim_rows(rows, columns, size, full_circle=full_circle)
    pieces, angles, whose = _pieces(source, lines)
    fixed, right = [shape, rim * math.sqrt(_RIM)], [np.zeros(shape.shape[0]), wanted * math.sqrt(_RIM)]
    # lines of a direction turn together; those that end at the rim each for itself, since a level one that ends at the upper
    # rim must come up to it there; what is level or upright inside stays so
    at_rim = _along(lines, away, 9).min(1) < _ALONG * max(away.shape)
    bins = np.where(at_rim[whose], _BINS + whose, np.minimum((angles / math.pi * _BINS).astype(int), _BINS - 1))
    off_level = np.abs((angles + math.pi / 4) % (math.pi / 2) - math.pi / 4)
    stays = (off_level < _LEVEL_RAD) & ~at_rim[whose]
    count = _BINS + len(lines)
    turn: Array = np.zeros(count)
    energies = []
    solution = source.reshape(-1)
    for _ in range(_TURNS):
        matrix = [*fixed]
        if len(angles):
            matrix.append(
                _line_rows(pieces, angles, np.where(stays, 0.0, turn[bins]))
                * math.sqrt(_LINES * (rows - 1) * (columns - 1) / len(angles))
            )
        whole = vstack(matrix).tocsr()
        target = np.concatenate([*right, np.zeros(whole.shape[0] - sum(len(r) for r in right))])
        solution = spsolve((whole.T @ whole).tocsc(), whole.T @ target)
        energies.append(float(np.sum((whole @ solution - target) ** 2)))
        if not len(angles):
            break
        # the angle of each bin from which its pieces miss least, weighted as above: the energy cannot rise
        drawn = (pieces @ solution).reshape(-1, 2) @ np.array([1, 1j])
        twice = np.where(stays, 0, (drawn * np.exp(-1j * angles)) ** 2)
        turn = np.angle(np.bincount(bins, twice.real, count) + 1j * np.bincount(bins, twice.imag, count)) / 2
    moved = np.asarray(solution).reshape(rows, columns, 2)
    moved[0, :, 1], moved[-1, :, 1] = (
        0.0,
        size[1],
    )  # to the last digit: nothing of the rectangle may lie beyond the mesh
    if not full_circle:
        moved[:, 0, 0], moved[:, -1, 0] = 0.0, size[0]
    return moved, energies


def _corners(rows: int, columns: int) -> Array:
    """Numbers of the four points of each cell, (cells, 4): top left, top right, bottom left, bottom right."""
    at = np.arange(rows * columns).reshape(rows, columns)
    return np.stack([at[:-1, :-1], at[:-1, 1:], at[1:, :-1], at[1:, 1:]], -1).reshape(-1, 4)


def _shape_rows(source: Array) -> csr_matrix:
    """What a cell misses of the nearest similarity of itself: A (A'A)^-1 A' - I on its eight coordinates."""
    rows, columns = source.shape[:2]
    cells = _corners(rows, columns)
    points = source.reshape(-1, 2)[cells]
    x, y = points[..., 0], points[..., 1]
    one, none = np.ones_like(x), np.zeros_like(x)
    a = np.empty((len(cells), 8, 4))
    a[:, ::2] = np.stack([x, -y, one, none], -1)
    a[:, 1::2] = np.stack([y, x, none, one], -1)
    block = a @ np.linalg.pinv(a) - np.eye(8)
    unknown = np.stack([2 * cells, 2 * cells + 1], -1).reshape(-1, 8)
    at = np.repeat(np.arange(len(cells) * 8), 8)
    return csr_matrix((block.ravel(), (at, np.repeat(unknown, 8, 0).ravel())), (len(cells) * 8, 2 * rows * columns))


def _rim_rows(rows: int, columns: int, size: Array, *, full_circle: bool) -> tuple[csr_matrix, Array]:
    """Rim points on the rectangle; the sides of a full circle are the same places, and it must not turn."""
    at = np.arange(rows * columns).reshape(rows, columns)
    entries: list[tuple[dict[int, float], float]] = []
    entries += [({int(2 * k + 1): 1.0}, 0.0) for k in at[0]] + [({int(2 * k + 1): 1.0}, size[1]) for k in at[-1]]
    if full_circle:
        for one, other in zip(at[:, 0], at[:, -1]):
            entries.append(({int(2 * other): 1.0, int(2 * one): -1.0}, size[0]))
            entries.append(({int(2 * other + 1): 1.0, int(2 * one + 1): -1.0}, 0.0))
        entries.append(({int(2 * at[rows // 2, 0]): 1.0}, 0.0))
    else:
        entries += [({int(2 * k): 1.0}, 0.0) for k in at[:, 0]] + [({int(2 * k): 1.0}, size[0]) for k in at[:, -1]]
    data = [(v, r, c) for r, (row, _) in enumerate(entries) for c, v in row.items()]
    values, r, c = (np.array(column) for column in zip(*data))
    return csr_matrix((values, (r, c)), (len(entries), 2 * rows * columns)), np.array([w for _, w in entries])


def _pieces(source: Array, lines: Array) -> tuple[csr_matrix, Array, Array]:
    """Each line cut to pieces no longer than half a cell: what they are, from end to end, of the mesh points; their angles,
    and of which line each is.

    Cells are those of the mesh on the picture, taken as if between their points it ran linearly.
    """
    rows, columns = source.shape[:2]
    cells = _corners(rows, columns)
    ends = []
    step = 0.5 * float(np.linalg.norm(np.diff(source, axis=1), axis=-1).mean())
    for a, b in lines:
        n = max(1, round(float(np.linalg.norm(b - a)) / step))
        t = np.linspace(0, 1, n + 1)[:, None]
        points = a + t * (b - a)
        ends.append(np.stack([points[:-1], points[1:]], 1))
    size = 2 * rows * columns
    if not ends:
        return csr_matrix((0, size)), np.zeros(0), np.zeros(0, int)
    both, whose = np.concatenate(ends), np.repeat(np.arange(len(ends)), [len(e) for e in ends])
    cell, weights = _in_cells(source, cells, both.reshape(-1, 2))
    cell, weights = cell.reshape(-1, 2), weights.reshape(-1, 2, 4)
    inside = (cell >= 0).all(1)
    both, cell, weights, whose = both[inside], cell[inside], weights[inside], whose[inside]
    values, r, c = [], [], []
    for end, sign in ((0, -1.0), (1, 1.0)):
        for coordinate in (0, 1):
            values.append((sign * weights[:, end]).ravel())
            r.append(np.repeat(2 * np.arange(len(both)) + coordinate, 4))
            c.append((2 * cells[cell[:, end]] + coordinate).ravel())
    matrix = csr_matrix((np.concatenate(values), (np.concatenate(r), np.concatenate(c))), (2 * len(both), size))
    along = both[:, 1] - both[:, 0]
    return matrix, np.arctan2(along[:, 1], along[:, 0]) % math.pi, whose


def _in_cells(source: Array, cells: Array, points: Array) -> tuple[Array, Array]:
    """The cell that each point lies in, -1 for none, and its bilinear weights there (inverse by Newton's method)."""
    corners = source.reshape(-1, 2)[cells]
    found, weights = np.full(len(points), -1), np.zeros((len(points), 4))
    low, high = corners.min(1) - 1e-9, corners.max(1) + 1e-9
    for k in range(len(cells)):
        near = np.flatnonzero((found < 0) & (points >= low[k]).all(1) & (points <= high[k]).all(1))
        if not len(near):
            continue
        p00, p10, p01, p11 = corners[k]
        st = np.full((len(near), 2), 0.5)
        for _ in range(8):
            s, t = st[:, :1], st[:, 1:]
            miss = (1 - t) * ((1 - s) * p00 + s * p10) + t * ((1 - s) * p01 + s * p11) - points[near]
            by_s, by_t = (1 - t) * (p10 - p00) + t * (p11 - p01), (1 - s) * (p01 - p00) + s * (p11 - p10)
            det = by_s[:, 0] * by_t[:, 1] - by_s[:, 1] * by_t[:, 0]
            det = np.where(np.abs(det) < 1e-12, 1e-12, det)
            st[:, 0] -= (miss[:, 0] * by_t[:, 1] - miss[:, 1] * by_t[:, 0]) / det
            st[:, 1] -= (by_s[:, 0] * miss[:, 1] - by_s[:, 1] * miss[:, 0]) / det
            st = np.clip(st, -0.5, 1.5)
        ok = ((st > -1e-6) & (st < 1 + 1e-6)).all(1)
        s, t = st[ok, 0], st[ok, 1]
        found[near[ok]] = k
        weights[near[ok]] = np.stack([(1 - t) * (1 - s), (1 - t) * s, t * (1 - s), t * s], -1)
    return found, weights


def _line_rows(pieces: csr_matrix, angles: Array, turn: Array) -> csr_matrix:
    """What each piece misses of its direction turned by ``turn``: the part across it, over the square root of its length."""
    n = len(angles)
    wanted = angles + turn
    at = np.arange(n)
    across = csr_matrix(
        (
            np.concatenate([-np.sin(wanted), np.cos(wanted)]),
            (np.concatenate([at, at]), np.concatenate([2 * at, 2 * at + 1])),
        ),
        (n, 2 * n),
    )
    return (across @ pieces).tocsr()


def _stretch(source: Array, target: Array, size: Array, *, full_circle: bool) -> Stretch:
    """Where a fine regular grid of the rectangle lies on the picture, in pixels about their middles."""
    rows, columns = source.shape[:2]
    across, down = (columns - 1) * _FINER, (rows - 1) * _FINER
    x, y = np.linspace(0, size[0], across + 1), np.linspace(0, size[1], down + 1)
    known, gives = target.reshape(-1, 2), source.reshape(-1, 2)
    if full_circle:  # known on both sides of the end
        inner_t, inner_s, turn = target[:, :-1].reshape(-1, 2), source[:, :-1].reshape(-1, 2), np.array([size[0], 0.0])
        known = np.concatenate([inner_t - turn, inner_t, inner_t + turn, target[:, :1].reshape(-1, 2) + 2 * turn])
        gives = np.concatenate([inner_s - turn, inner_s, inner_s + turn, source[:, :1].reshape(-1, 2) + 2 * turn])
    grid = np.stack(np.meshgrid(x, y), -1)
    within = np.clip(grid, [known[:, 0].min() + 1e-6, 1e-6], [known[:, 0].max() - 1e-6, size[1] - 1e-6])
    at = np.asarray(CloughTocher2DInterpolator(known, gives)(within))
    if np.isnan(at).any():
        nearest = np.isnan(at).any(-1)
        gap = ((known[None] - within[nearest][:, None]) ** 2).sum(-1).argmin(1)
        at[nearest] = gives[gap]
    if full_circle:
        at[:, -1] = at[:, 0] + [size[0], 0]
    return Stretch((-0.5, -0.5), (size[0] / across, size[1] / down), at - 0.5, size[0] if full_circle else 0.0)


def _bow(lines: Array, stretch: Stretch, away: Array) -> float:
    """How far straight lines bend at most, in pixels of the reduced picture; ``away`` is how far from its rim each pixel lies."""
    lines = lines[(_along(lines, away, 17) < _ALONG * max(away.shape)).mean(1) <= 0.3]
    if not len(lines):
        return 0.0
    t = np.linspace(0, 1, 17)[:, None]
    points = lines[:, :1] + t * (lines[:, 1:] - lines[:, :1]) - 0.5
    drawn = stretch.bent(points)
    along = drawn[:, -1] - drawn[:, 0]
    length = np.maximum(np.linalg.norm(along, axis=-1), 1e-9)
    off = drawn - drawn[:, :1]
    across = np.abs(off[..., 0] * along[:, None, 1] - off[..., 1] * along[:, None, 0]) / length[:, None]
    return float(across.max())
