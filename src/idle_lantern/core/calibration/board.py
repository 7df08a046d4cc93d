"""A lens from pictures of a chessboard, by least squares over the lens and where each board stood.

The board is plane and even; its corners are found by OpenCV (``findChessboardCornersSB``, Duda and Frese 2018, else the older
finder) and projected by our own lens model, with its analytic slopes, so that every model of the program can be measured.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path

import cv2
import numpy as np
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.calibration.result import Calibration
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.lenses import Lens

_LEAST_PICTURES = 3
#: A corner further off than this many times the rest of its picture is a slip of the finder.
_OUTLIER = 6.0
_STEP = 1e-7
#: Numbers of a lens in the order in which they are set free, and as its slopes have them.
_FREE: tuple[str, ...] = ("focal_px", "k1", "cx", "cy", "k2", "k3")
_SLOPES = ("focal_px", "k1", "k2", "k3")
#: A number counts when it is so many times its error.
_TELLS = 4.0


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
    seen: list[Array] = []
    by_colour: list[Array] = []
    sizes: set[tuple[int, int]] = set()
    missed: list[str] = []
    for path in paths:
        picture = read(path).pixels
        grey = cv2.cvtColor(
            picture if picture.dtype == np.uint8 else (picture >> 8).astype(np.uint8), cv2.COLOR_RGB2GRAY
        )
        corners = find_corners(grey, board)
        if corners is None:
            missed.append(path.name)
        else:
            seen.append(corners)
            by_colour.append(_in_each_colour(picture, corners))
            sizes.add((grey.shape[1], grey.shape[0]))
        progress.advance()
    if len(seen) < _LEAST_PICTURES:
        raise InputError(
            f"The board of {board[0]} x {board[1]} inner corners is whole in {len(seen)} of {len(paths)} pictures",
            remedy=f"Take {_LEAST_PICTURES} or more that show all of it, tilted in different ways, out to the corners of the frame",
        )
    if len(sizes) > 1:
        raise InputError("The pictures are of several sizes", remedy="Take them all with one camera, held one way")
    width, height = sizes.pop()
    progress.begin("adjust", 1)
    lens, sigma, rms, corner = _solved(seen, _board_points(board), Lens(model, 0.9 * max(width, height), width, height))
    progress.advance()
    points = sum(len(s) for s in seen)
    red, blue = (_lateral(np.concatenate(by_colour, 1), colour, lens) for colour in (0, 2))
    return Calibration(
        lens, sigma, rms, len(seen), points, left_out=tuple(missed), corner_sigma_px=corner,
        lateral_red=red, lateral_blue=blue,
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


def _board_points(board: tuple[int, int]) -> Array:
    across, down = board
    return np.array([[x, y, 0.0] for y in range(down) for x in range(across)])


def _solved(seen: Sequence[Array], points: Array, start: Lens) -> tuple[Lens, dict[str, float], float, float]:
    """Lens, standard errors, what is left, and the error in a corner, by robust least squares."""
    lens, poses = _first_guess(seen, points, start)
    lens, poses, *_ = _adjusted(seen, points, lens, poses, _FREE[:1])
    free: tuple[str, ...] = _FREE[:4]
    lens, poses, residual, covariance = _adjusted(seen, points, lens, poses, free)
    # a further number that its own error drowns would only bend the corners, which boards seldom reach
    for count in (5, 6):
        tried = _adjusted(seen, points, lens, poses, _FREE[:count])
        sigma = _spread(tried[2], count + 6 * len(seen)) * math.sqrt(max(0.0, tried[3][count - 1, count - 1]))
        if abs(getattr(tried[0], _FREE[count - 1])) < _TELLS * sigma:
            break
        lens, poses, residual, covariance = tried
        free = _FREE[:count]
    covariance = covariance[: len(free), : len(free)] * _spread(residual, len(free) + 6 * len(seen)) ** 2
    errors = {name: float(math.sqrt(max(0.0, covariance[k, k]))) for k, name in enumerate(free)}
    errors["focal_px"] *= lens.focal_px
    # the numbers' errors go together: a longer lens and a weaker bulge look alike
    order = [_SLOPES.index(name) for name in free if name in _SLOPES]
    told = [k for k, name in enumerate(free) if name in _SLOPES]
    slope = lens.project_by_lens(lens.unproject(np.zeros((1, 2))))[0][:, order]
    corner = float(np.sqrt(np.trace(slope @ covariance[np.ix_(told, told)] @ slope.T)))
    return lens, errors, float(np.sqrt((residual**2).sum(1).mean())), corner


def _spread(residual: Array, unknown: int) -> float:
    """Standard error of one place, from what is left and how many numbers were free."""
    return float(residual.std()) * math.sqrt(residual.size / max(1, residual.size - unknown))


def _first_guess(seen: Sequence[Array], points: Array, start: Lens) -> tuple[Lens, Array]:
    """Of focal lengths from long to short the one under which pinhole boards fit best about the middle."""
    best: tuple[float, Lens, Array] | None = None
    for share in (0.4, 0.55, 0.75, 1.0, 1.4, 2.0, 3.0):
        focal = share * max(start.width, start.height)
        lens = Lens(start.model, focal, start.width, start.height)
        poses, miss = [], 0.0
        for corners in seen:
            rays = lens.unproject(corners)
            flat = rays[:, :2] / np.maximum(rays[:, 2:], 0.05)
            _, turn, shift = cv2.solvePnP(points, flat, np.eye(3), None)
            local = points @ cv2.Rodrigues(turn)[0].T + shift.T
            ahead = local / np.linalg.norm(local, axis=1, keepdims=True)
            miss += float(np.abs(ahead - rays).mean())
            poses.append(np.concatenate([turn, shift]).ravel())
        if best is None or miss < best[0]:
            best = miss, lens, np.array(poses)
    assert best is not None
    return best[1], best[2]


def _adjusted(
    seen: Sequence[Array], points: Array, lens: Lens, poses: Array, free: Sequence[str]
) -> tuple[Lens, Array, Array, Array]:
    """One adjustment of some of the lens's numbers and all poses; residuals (N, 2) and the covariance of the numbers."""
    start = [math.log(lens.focal_px) if n == "focal_px" else getattr(lens, n) for n in free]

    def lens_of(p: Array) -> Lens:
        values = {n: getattr(lens, n) for n in _FREE} | dict(zip(free, map(float, p)))
        values["focal_px"] = math.exp(p[0])
        return Lens(lens.model, width=lens.width, height=lens.height, **values)

    def misses(p: Array) -> Array:
        now, parts = lens_of(p), []
        for pose, corners in zip(p[len(free) :].reshape(-1, 6), seen):
            local = points @ Rotation.from_rotvec(pose[:3]).as_matrix().T + pose[3:]
            parts.append(np.nan_to_num(now.project(local)[0] - corners, nan=1e3))
        return np.concatenate(parts)

    def slopes(p: Array) -> Array:
        """Differences; where a board stood moves its own corners only, so all boards are moved at once."""
        count, each = len(free), 2 * len(points)
        now = misses(p).ravel()
        made = np.zeros((len(now), len(p)))
        for k in range(count):
            moved = p.copy()
            moved[k] += _STEP
            made[:, k] = (misses(moved).ravel() - now) / _STEP
        for k in range(6):
            moved = p.copy()
            moved[count + k :: 6] += _STEP
            change = (misses(moved).ravel() - now) / _STEP
            for i in range(len(seen)):
                made[i * each : (i + 1) * each, count + 6 * i + k] = change[i * each : (i + 1) * each]
        return made

    solved = least_squares(
        lambda p: misses(p).ravel(), np.concatenate([start, poses.ravel()]), jac=slopes, loss="soft_l1", x_scale="jac", max_nfev=100
    )  # fmt: skip
    residual = misses(solved.x)
    far = np.abs(residual).max(1) > _OUTLIER * max(0.02, float(np.median(np.abs(residual))))
    normal = solved.jac.T @ solved.jac
    covariance = np.linalg.pinv(normal)
    return lens_of(solved.x), solved.x[len(free) :].reshape(-1, 6), residual[~far], covariance
