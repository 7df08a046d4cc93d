"""A lens from pictures of a chessboard, by least squares over the lens and where each board stood.

The board is plane and even; its corners are found by OpenCV (``findChessboardCornersSB``, Duda and Frese 2018, else the older
finder) and projected by our own lens model, so that every model of the program can be measured. Of a board that the frame cuts
off the part that it shows counts: markers in its white squares tell which squares that are (``cv2.aruco``), or else which squares they are does not matter, since where each board stood is sought anyway. All
numbers of the lens are free and held by what lenses are like, so that where boards do not reach nothing is made up.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.calibration.pattern import fits_markers, marked_board
from idle_lantern.core.calibration.result import Calibration, coverage_of
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.lenses import Lens

_LEAST_PICTURES = 3
#: A corner further off than this many times the rest is a slip of the finder, and so is a board of which most are.
_OUTLIER, _LEAST_SLIP_PX = 6.0, 0.15
#: Misses beyond so many pixels, and so many times the usual, count by their size and no longer by its square, once the lens is
#: nearly known: finders are mostly right to a few hundredths of a pixel.
_LARGE_PX, _LARGE = 0.08, 7.0
_STEP = 1e-7
#: Numbers of a lens in the order in which they are set free.
_FREE: tuple[str, ...] = ("focal_px", "k1", "k2", "k3", "cx", "cy")
#: The numbers of distortion move a corner by such shares of its radius, and the middle lies off by such a share of the width, in
#: usual lenses (standard deviations, from memory of many).
_USUAL = {"k1": 0.12, "k2": 0.015, "k3": 0.003}
_USUAL_MIDDLE = 0.015
#: Corners of one board share what is wrong with them: errors are so many times what chance alone would leave.
_TOGETHER = 1.5
#: Parts of a board that are looked for where it is not whole: corners across and down at least.
_PARTS = ((5, 4), (4, 3))
#: Corners lie off those of a plane by no more than this share of a square's side.
_BULGE = 0.3
#: Share of a square about a corner that no marker reaches into, with some of it to spare.
_CLEAR_OF_MARKERS = 0.12
#: Smaller pictures show no board, and its finders fail on the smallest.
_LEAST_SIDE_PX = 64
#: Times that slips are looked for and the rest is adjusted.
_ROUNDS = 3
#: Corners nearer to the rim do not show whole, and fewer of them tell nothing.
_RIM_PX, _LEAST_CORNERS = 10.0, 9
#: Places across and down at which what a lens does wrong is compared, the corners among them.
_ACROSS, _DOWN = 13, 9


def calibrate_by_board(
    paths: Sequence[Path], board: tuple[int, int], model: str = "rectilinear", progress: Progress = SILENT
) -> Calibration:
    """The lens that took pictures of a board with so many inner corners across and down.

    Raises
    ------
    InputError
        Too few pictures show the board, or they are of several sizes.
    UnreadableFrame
        A picture cannot be read.
    """
    progress.begin("read", len(paths))
    seen: list[Seen] = []
    by_colour: list[Array] = []
    sizes: set[tuple[int, int]] = set()
    missed: list[str] = []
    for path in paths:
        picture = read(path).pixels
        grey = cv2.cvtColor(
            picture if picture.dtype == np.uint8 else (picture >> 8).astype(np.uint8), cv2.COLOR_RGB2GRAY
        )
        found = find_board(grey, board)
        if found is None:
            missed.append(path.name)
        else:
            seen.append(found)
            by_colour.append(_in_each_colour(picture, found.corners))
            sizes.add((grey.shape[1], grey.shape[0]))
        progress.advance()
    if len(seen) < _LEAST_PICTURES:
        raise InputError(
            f"The board of {board[0]} x {board[1]} inner corners is found in {len(seen)} of {len(paths)} pictures",
            remedy=f"Take {_LEAST_PICTURES} or more that show it sharp, tilted in different ways, out to the corners of the frame",
        )
    if len(sizes) > 1:
        raise InputError("The pictures are of several sizes", remedy="Take them all with one camera, held one way")
    width, height = sizes.pop()
    progress.begin("adjust", 1)
    lens, sigma, rms, corner = _solved(seen, Lens(model, 0.9 * max(width, height), width, height))
    progress.advance()
    points = sum(len(s.corners) for s in seen)
    red, blue = (_lateral(np.concatenate(by_colour, 1), colour, lens) for colour in (0, 2))
    return Calibration(
        lens, sigma, rms, len(seen), points, left_out=tuple(missed), corner_sigma_px=corner,
        lateral_red=red, lateral_blue=blue, coverage=coverage_of([s.corners for s in seen], width, height),
    )  # fmt: skip


#: Half the window in which a corner is looked for in one colour, and how often.
_COLOUR_WINDOW, _COLOUR_STEPS = 5, 40
#: Lateral colour counts from so many of its errors on, and from so many pixels in a corner.
_LATERAL_TELLS, _LATERAL_LEAST_PX = 4.0, 0.1


def _in_each_colour(picture: Array, corners: Array) -> Array:
    """The corners as red, green and blue show them, (3, N, 2)."""
    criteria = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_COUNT, _COLOUR_STEPS, 0.002)
    window = (_COLOUR_WINDOW, _COLOUR_WINDOW)
    start = corners.astype(np.float32).reshape(-1, 1, 2)
    eight = picture if picture.dtype == np.uint8 else (picture >> 8).astype(np.uint8)
    planes = [np.ascontiguousarray(eight[..., c]) for c in range(3)]
    found = [cv2.cornerSubPix(plane, start.copy(), window, (-1, -1), criteria) for plane in planes]
    return np.stack([np.asarray(f, np.float64).reshape(-1, 2) for f in found])


def _lateral(corners: Array, colour: int, lens: Lens) -> tuple[float, float]:
    """``a + b rho^2`` by which a colour is enlarged against green, none where its error drowns it."""
    middle, half = np.array(lens.principal_px), math.hypot(lens.width, lens.height) / 2
    green, other = corners[1] - middle, corners[colour] - middle
    rho2 = (green**2).sum(1) / half**2
    # along the radius, in half diagonals: shift = a rho + b rho^3
    rho = np.sqrt(rho2)
    along = ((other - green) * green).sum(1) / np.maximum(rho, 1e-6) / half**2
    terms = np.stack([rho, rho * rho2], -1)
    good: Array = np.abs(along) < max(4 * float(np.median(np.abs(along))), 1e-6)
    if good.sum() < 20:
        return (0.0, 0.0)
    (a, b), *_ = np.linalg.lstsq(terms[good], along[good], rcond=None)
    left = along[good] - terms[good] @ (a, b)
    covariance = np.linalg.inv(terms[good].T @ terms[good]) * float(left.var())
    one = np.ones(2)
    sigma = math.sqrt(max(0.0, float(one @ covariance @ one)))
    tells = abs(a + b) > _LATERAL_TELLS * sigma and abs(a + b) * half > _LATERAL_LEAST_PX
    return (float(a), float(b)) if tells else (0.0, 0.0)


@dataclass(frozen=True)
class Seen:
    """Corners of a board in a picture (N, 2), and where they lie on the board (N, 3), in squares."""

    corners: Array
    points: Array


def find_board(grey: Array, board: tuple[int, int]) -> Seen | None:
    """A board with so many inner corners across and down, or the part of it that a grey frame (H, W) shows; None where there is none."""
    if min(grey.shape) < _LEAST_SIDE_PX:
        return None
    whole = find_corners(grey, board)
    if whole is not None:
        return Seen(whole, _points(*board))
    marked = _marked(grey, board)
    if marked is not None:
        return marked
    best: Seen | None = None
    for size in _PARTS:
        for flags in (0, cv2.CALIB_CB_NORMALIZE_IMAGE):
            found, places, cells = cv2.findChessboardCornersSBWithMeta(
                grey, size, cv2.CALIB_CB_LARGER | cv2.CALIB_CB_ACCURACY | flags
            )
            fits = found and max(cells.shape) <= max(board) and min(cells.shape) <= min(board)
            fits = fits and _is_grid(np.asarray(places, np.float64).reshape(-1, 2), *cells.shape)
            if fits and (best is None or cells.size > len(best.corners)):
                down, across = cells.shape
                best = Seen(np.asarray(places, np.float64).reshape(-1, 2), _points(across, down))
    return None if best is None else _inside(best, grey)


def _marked(grey: Array, board: tuple[int, int]) -> Seen | None:
    """Corners of a board with markers in its white squares, of which any part tells which corners it has."""
    if not fits_markers(board):
        return None
    found, ids, _markers, _which = cv2.aruco.CharucoDetector(marked_board(board)).detectBoard(grey)
    if ids is None or len(ids) < _LEAST_CORNERS:
        return None
    places = np.asarray(found, np.float32).reshape(-1, 2)
    apart = np.linalg.norm(places[:, None] - places[None], axis=2) + 1e9 * np.eye(len(places))
    half = int(np.clip(_CLEAR_OF_MARKERS * np.median(apart.min(1)), 2, 5))
    criteria = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_COUNT, 40, 0.005)
    places = cv2.cornerSubPix(grey, places[:, None].copy(), (half, half), (-1, -1), criteria)
    return _inside(Seen(np.asarray(places, np.float64).reshape(-1, 2), _points(*board)[ids.ravel()]), grey)


def _is_grid(places: Array, down: int, across: int) -> bool:
    """Whether corners row by row lie as those of a plane board do, but for a lens's bulge; the finder may have joined others."""
    points = _points(across, down)[:, :2]
    move, _ = cv2.findHomography(points, places, 0)
    if move is None:
        return False
    off = np.linalg.norm(cv2.perspectiveTransform(points[None], move)[0] - places, axis=1)
    grid = places.reshape(down, across, 2)
    side = min(float(np.linalg.norm(np.diff(grid, axis=k), axis=2).min()) for k in (0, 1))
    return float(off.max()) < _BULGE * side


def _inside(seen: Seen, grey: Array) -> Seen | None:
    """Without the corners at the rim, of which not all is seen; None where hardly any are left."""
    size = np.array([grey.shape[1] - 1, grey.shape[0] - 1])
    kept = ((seen.corners >= _RIM_PX) & (seen.corners <= size - _RIM_PX)).all(1)
    return Seen(seen.corners[kept], seen.points[kept]) if kept.sum() >= _LEAST_CORNERS else None


def find_corners(grey: Array, board: tuple[int, int]) -> Array | None:
    """Inner corners of a board (N, 2), row by row, to a fraction of a pixel; None where it is not whole."""
    found, places = cv2.findChessboardCornersSB(grey, board, flags=cv2.CALIB_CB_ACCURACY)
    if not found:
        found, places = cv2.findChessboardCorners(grey, board)
        if not found:
            return None
        criteria = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_COUNT, 40, 0.005)
        places = cv2.cornerSubPix(grey, places, (5, 5), (-1, -1), criteria)
    return np.asarray(places, np.float64).reshape(-1, 2)


def _points(across: int, down: int) -> Array:
    return np.array([[x, y, 0.0] for y in range(down) for x in range(across)])


def _solved(seen: Sequence[Seen], start: Lens) -> tuple[Lens, dict[str, float], float, float]:
    """Lens, standard errors, what is left, and the error in a corner, by robust least squares."""
    fit = _Fit(seen, start)
    fit.adjust(_FREE[:2])
    for _ in range(_ROUNDS):
        fit.drop_slips()
        fit.adjust(_FREE)
    covariance = fit.covariance()
    sigma = {name: math.sqrt(max(0.0, covariance[k, k])) for k, name in enumerate(_FREE)}
    sigma["focal_px"] *= fit.lens.focal_px
    return fit.lens, sigma, fit.rms_px(), _corner_sigma_px(fit.lens, covariance)


def _with(lens: Lens, numbers: dict[str, Any]) -> Lens:
    return replace(lens, **numbers)


def _corner_sigma_px(lens: Lens, covariance: Array) -> float:
    """RMS error in the corners of the frame that the errors of the lens's numbers leave when the camera is turned as fits best."""
    v, u = np.meshgrid(np.linspace(0, lens.height - 1, _DOWN), np.linspace(0, lens.width - 1, _ACROSS), indexing="ij")
    rays = np.nan_to_num(lens.unproject(np.stack([u, v], -1).reshape(-1, 2)))
    by_number = lens.project_by_lens(rays)
    by_number[..., 4:] /= lens.focal_px  # of the middle in pixels
    slope = lens.project_slope(rays)
    by_turn = np.stack([(slope @ np.cross(axis, rays)[..., None])[..., 0] for axis in np.eye(3)], -1)
    flat, turned = by_number.reshape(-1, by_number.shape[-1]), by_turn.reshape(-1, 3)
    flat = flat - turned @ np.linalg.lstsq(turned, flat, rcond=None)[0]
    corners = flat.reshape(_DOWN, _ACROSS, 2, -1)[[0, 0, -1, -1], [0, -1, 0, -1]]
    return float(np.sqrt(np.einsum("cij,jk,cik->", corners, covariance, corners) / len(corners)))


class _Fit:
    """Lens and boards, adjusted step by step; residuals are weighed so that what was found wrongly hardly counts."""

    def __init__(self, seen: Sequence[Seen], start: Lens) -> None:
        self.seen = list(seen)
        self.lens, self.poses = _first_guess(self.seen, start)
        self.noise_px = 0.3
        self.normal: Array = np.eye(len(_FREE))

    def misses(self, lens: Lens, poses: Array) -> list[Array]:
        """Of each board, (N, 2) pixels."""
        found = []
        for pose, board in zip(poses.reshape(-1, 6), self.seen):
            local = board.points @ Rotation.from_rotvec(pose[:3]).as_matrix().T + pose[3:]
            found.append(np.nan_to_num(lens.project(local)[0] - board.corners, nan=1e3))
        return found

    def adjust(self, free: Sequence[str]) -> None:
        """Adjust some of the lens's numbers and where all boards stood."""
        count = len(free)
        start = [math.log(self.lens.focal_px) if n == "focal_px" else getattr(self.lens, n) for n in free]
        usual = np.array([self._usual(n) for n in free])
        sizes = [2 * len(s.corners) for s in self.seen]
        begins = np.cumsum([0, *sizes])

        def lens_of(p: Array) -> Lens:
            return _with(self.lens, dict(zip(free, map(float, p))) | {"focal_px": math.exp(p[0])})

        def all_misses(p: Array) -> Array:
            prior = self.noise_px * (p[:count] / usual)[1:]
            return np.concatenate([*(m.ravel() for m in self.misses(lens_of(p), p[count:])), prior])

        def slopes(p: Array) -> Array:
            """Differences; where a board stood moves its own corners only, so all boards are moved at once."""
            now = all_misses(p)
            made = np.zeros((len(now), len(p)))
            for k in range(count):
                moved = p.copy()
                moved[k] += _STEP
                made[:, k] = (all_misses(moved) - now) / _STEP
            for k in range(6):
                moved = p.copy()
                moved[count + k :: 6] += _STEP
                change = (all_misses(moved) - now) / _STEP
                for i, (begin, end) in enumerate(zip(begins, begins[1:])):
                    made[begin:end, count + 6 * i + k] = change[begin:end]
            return made

        solved = least_squares(
            all_misses, np.concatenate([start, self.poses.ravel()]), jac=slopes, loss="soft_l1",
            x_scale="jac", max_nfev=100, f_scale=1.0 if count < len(_FREE) else max(_LARGE_PX, _LARGE * self.noise_px),
        )  # fmt: skip
        self.lens, self.poses = lens_of(solved.x), solved.x[count:].reshape(-1, 6)
        left = self._left()
        spare = max(1, left.size - len(solved.x))
        self.noise_px = max(0.02, 1.2533 * float(np.abs(left).mean()) * math.sqrt(left.size / spare))
        self.normal = solved.jac.T @ solved.jac

    def _usual(self, name: str) -> float:
        if name not in _USUAL:
            return _USUAL_MIDDLE * self.lens.width
        corner = math.hypot(self.lens.width, self.lens.height) / 2 / self.lens.focal_px
        return _USUAL[name] / corner ** (2 * int(name[1]))

    def _left(self) -> Array:
        return np.concatenate(self.misses(self.lens, self.poses))

    def drop_slips(self) -> None:
        """Leave out corners that lie far off the others, and boards of which most do."""
        misses = self.misses(self.lens, self.poses)
        most = _OUTLIER * max(_LEAST_SLIP_PX, float(np.median(np.abs(np.concatenate(misses)))))
        kept = [np.abs(m).max(1) <= most for m in misses]
        good = [i for i, k in enumerate(kept) if k.mean() > 0.7]
        if len(good) >= _LEAST_PICTURES:
            self.seen = [Seen(self.seen[i].corners[kept[i]], self.seen[i].points[kept[i]]) for i in good]
            self.poses = self.poses[good]

    def rms_px(self) -> float:
        """What is left between model and corners."""
        return float(np.sqrt((self._left() ** 2).sum(1).mean()))

    def covariance(self) -> Array:
        """Of the lens's numbers in the order of ``_FREE``, the focal length's logarithm first."""
        whole = np.linalg.pinv(self.normal, hermitian=True)
        return np.asarray(whole[: len(_FREE), : len(_FREE)] * (_TOGETHER * self.noise_px) ** 2)


def _first_guess(seen: Sequence[Seen], start: Lens) -> tuple[Lens, Array]:
    """Of focal lengths from long to short the one under which pinhole boards fit best about the middle."""
    best: tuple[float, Lens, Array] | None = None
    for share in (0.4, 0.55, 0.75, 1.0, 1.4, 2.0, 3.0):
        lens = replace(start, focal_px=share * max(start.width, start.height))
        poses, miss = [], 0.0
        for board in seen:
            rays = lens.unproject(board.corners)
            flat = rays[:, :2] / np.maximum(rays[:, 2:], 0.05)
            _, turn, shift = cv2.solvePnP(board.points, flat, np.eye(3), None)
            local = board.points @ cv2.Rodrigues(turn)[0].T + shift.T
            ahead = local / np.linalg.norm(local, axis=1, keepdims=True)
            miss += float(np.abs(ahead - rays).mean())
            poses.append(np.concatenate([turn, shift]).ravel())
        if best is None or miss < best[0]:
            best = miss, lens, np.array(poses)
    assert best is not None
    return best[1], best[2]
