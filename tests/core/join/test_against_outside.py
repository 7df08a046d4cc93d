"""The engine's parts against photographs, published results and other libraries."""

from __future__ import annotations

import itertools
import math
from pathlib import Path

import cv2
import numpy as np
import pytest
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation
from skimage.measure import ransac
from skimage.transform import ProjectiveTransform
from tests.reference import photographs

from idle_lantern.core.compositing.canvas.overview import Patch
from idle_lantern.core.compositing.seams import graph_cut
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.solve.solve import Solution, solve

BOARDS = Path(__file__).parents[2] / "reference" / "chessboards"
PHOTO_LENS = Lens("rectilinear", 880, 400, 360)


# --- OpenCV's chessboards --------------------------------------------------------------------


@pytest.fixture(scope="module")
def corners() -> tuple[np.ndarray, list[np.ndarray]]:
    """Places on the board in metres (54, 3) and in each picture (54, 2)."""
    board = np.array([[0.025 * x, 0.025 * y, 0.0] for y in range(6) for x in range(9)], np.float32)
    found = []
    for path in sorted(BOARDS.glob("left*.jpg")):
        grey = cv2.imread(str(path), cv2.IMREAD_GRAYSCALE)
        seen, places = cv2.findChessboardCorners(grey, (9, 6))
        assert seen, path.name
        criteria = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_COUNT, 30, 0.01)
        found.append(cv2.cornerSubPix(grey, places, (11, 11), (-1, -1), criteria).reshape(-1, 2).astype(np.float64))
    return board, found


def test_lens_model_is_that_of_opencv(corners: tuple[np.ndarray, list[np.ndarray]]):
    """``cv2.calibrateCamera`` without tangential terms: its projections and ours of the same corners agree."""
    board, found = corners
    flags = cv2.CALIB_ZERO_TANGENT_DIST | cv2.CALIB_FIX_ASPECT_RATIO
    start = np.array([[500.0, 0, 319.5], [0, 500, 239.5], [0, 0, 1]])
    _, k, dist, turns, shifts = cv2.calibrateCamera(
        [board] * len(found), [f.astype(np.float32) for f in found], (640, 480), start, None, flags=flags
    )
    k1, k2, _p1, _p2, k3 = dist.ravel()
    lens = Lens("rectilinear", k[0, 0], 640, 480, k1, k2, k3, k[0, 2] - 319.5, k[1, 2] - 239.5)
    for turn, shift in zip(turns, shifts):
        expected, _ = cv2.projectPoints(board.astype(float), turn, shift, k, dist)
        local = board @ cv2.Rodrigues(turn)[0].T + shift.T
        pixels, valid = lens.project(local)
        assert valid.all()
        np.testing.assert_allclose(pixels, expected.reshape(-1, 2), atol=1e-6)
        np.testing.assert_allclose(
            lens.unproject(pixels), local / np.linalg.norm(local, axis=1, keepdims=True), atol=1e-9
        )


def test_lens_and_poses_of_the_published_calibration_are_found(corners: tuple[np.ndarray, list[np.ndarray]]):
    """Least squares with our projection and slopes alone, against ``left_intrinsics.yml``."""
    board, found = corners
    published = cv2.FileStorage(str(BOARDS / "left_intrinsics.yml"), cv2.FILE_STORAGE_READ)
    k, told = published.getNode("camera_matrix").mat(), published.getNode("extrinsic_parameters").mat()
    # each board's pose seen by a guessed pinhole starts the search
    guess = np.array([[500.0, 0, 319.5], [0, 500, 239.5], [0, 0, 1]])
    starts = [np.concatenate(cv2.solvePnP(board, f, guess, None)[1:]).ravel() for f in found]

    def lens_of(p: np.ndarray) -> Lens:
        return Lens("rectilinear", math.exp(p[0]), 640, 480, p[1], p[2], 0.0, p[3], p[4])

    def misses(p: np.ndarray) -> np.ndarray:
        lens, parts = lens_of(p), []
        for pose, places in zip(p[5:].reshape(-1, 6), found):
            local = board @ Rotation.from_rotvec(pose[:3]).as_matrix().T + pose[3:]
            parts.append((lens.project(local)[0] - places).ravel())
        return np.concatenate(parts)

    solved = least_squares(misses, np.concatenate([[math.log(500), 0, 0, 0, 0], *starts]), loss="soft_l1")
    lens = lens_of(solved.x)
    assert lens.focal_px == pytest.approx(k[0, 0], rel=5e-3)
    assert lens.principal_px[0] == pytest.approx(k[0, 2], abs=4)
    assert lens.principal_px[1] == pytest.approx(k[1, 2], abs=6)
    for mine, theirs in zip(solved.x[5:].reshape(-1, 6), told):
        between = Rotation.from_rotvec(mine[:3]).inv() * Rotation.from_rotvec(theirs[:3])
        # the published numbering of the squares may begin at the other corner of a turned board
        assert math.degrees(between.magnitude()) < 0.7
        np.testing.assert_allclose(mine[3:], theirs[3:], rtol=0.03, atol=0.006)


# --- photographs -----------------------------------------------------------------------------


@pytest.fixture(scope="module")
def photos(tmp_path_factory: pytest.TempPathFactory) -> tuple[Solution, list[np.ndarray]]:
    """Nine frames in a row over four photographs, a little turned, joined without metadata."""
    folder = tmp_path_factory.mktemp("photos")
    half = photographs.width_deg() / 2 - 14
    directions = [(float(y), 0.6 * (-1) ** i, 0.4 * (i % 3 - 1)) for i, y in enumerate(np.linspace(-half, half, 9))]
    paths, cameras = photographs.cut(folder, PHOTO_LENS, directions)
    return solve(gather(paths)), cameras


def test_homographies_of_scikit_image_carry_points_to_the_same_places(photos: tuple[Solution, list[np.ndarray]]):
    """Between two views of a turned camera the map is a homography, K R K^-1: found by another library's RANSAC."""
    solution, _ = photos
    for link in solution.links[:4]:
        one, other = link.points_a[link.inlier], link.points_b[link.inlier]
        rng = np.random.default_rng(1)
        wrong = rng.uniform(0, 350, (len(one) // 4, 2))
        source, target = np.concatenate([one, one[: len(wrong)]]), np.concatenate([other, wrong])
        found, agreeing = ransac((source, target), ProjectiveTransform, 4, 1.0, max_trials=500, rng=1)
        assert agreeing[: len(one)].mean() > 0.95
        lens = solution.poses.lenses[0]
        carried, _ = lens.project(lens.unproject(one) @ link.b_from_a.T)
        assert np.median(np.linalg.norm(found(one) - carried, axis=1)) < 0.1


# --- seams -----------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", range(6))
def test_a_cut_is_as_cheap_as_the_cheapest_of_all(seed: int):
    """Every division of a belt of 3 x 4 pixels between two frames is priced; none is cheaper than the cut's."""
    rng = np.random.default_rng(seed)
    h, w, belt = 3, 6, slice(1, 5)
    old, new = (rng.integers(0, 40, (h, w, 3)).astype(np.float32) for _ in range(2))
    laid, inside = np.ones((h, w), bool), np.ones((h, w), bool)
    inside[:, 0] = False
    laid[:, -1] = False
    old_weight, weight = np.full((h, w), 0.5, np.float32), rng.uniform(0.4, 0.6, (h, w)).astype(np.float32)
    patch = Patch(0, np.arange(w), 0, new.astype(np.uint8), inside, weight, np.zeros((h, w), np.float32))
    take = graph_cut._cut(laid, patch, old, new, old_weight, np.zeros((h, w), bool))
    difference = (
        np.where(inside & laid, np.abs(old - new).sum(-1) + graph_cut._STEP, 0).round().astype(int) * graph_cut._UNIT
    )
    lean = (graph_cut._UNIT * graph_cut._MIDDLE * (weight - old_weight)).round().astype(int)

    def price(taken: np.ndarray) -> int:
        across = taken[:, belt][:, 1:] != taken[:, belt][:, :-1]
        down = taken[:, belt][1:] != taken[:, belt][:-1]
        d, pull = difference[:, belt], lean[:, belt]
        pairs = ((d[:, 1:] + d[:, :-1]) * across).sum() + ((d[1:] + d[:-1]) * down).sum()
        return int(pairs + np.where(taken[:, belt], np.maximum(-pull, 0), np.maximum(pull, 0)).sum())

    cheapest = None
    for bits in itertools.product((False, True), repeat=h * 4):
        trial = np.zeros((h, w), bool)
        trial[:, -1] = True
        trial[:, belt] = np.array(bits).reshape(h, 4)
        # beside the rim of either frame there is no choice
        if trial[:, 1].any() or not trial[:, 4].all():
            continue
        cost = price(trial)
        cheapest = cost if cheapest is None else min(cheapest, cost)
    assert cheapest is not None
    assert price(take) == cheapest
