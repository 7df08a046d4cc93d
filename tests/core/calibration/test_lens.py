"""Lenses measured: OpenCV's own boards, boards drawn through a known lens, and a set that joins."""

from __future__ import annotations

import json
import re
from functools import lru_cache
from pathlib import Path

import board_lenses
import cv2
import numpy as np
import pypdf
import pytest
from PIL import Image
from scipy.spatial.transform import Rotation
from tests.helpers.commands import run_command
from tests.helpers.sets import FrameFiles

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.calibration.board import calibrate_by_board, find_board, find_corners
from idle_lantern.core.calibration.pattern import write_pattern
from idle_lantern.core.calibration.sweep import calibrate_by_sweep
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens

BOARDS = Path(__file__).parents[2] / "reference" / "chessboards"
BOARD = (9, 6)


def test_the_boards_of_opencv_give_the_lens_that_opencv_finds(tmp_path: Path):
    """Against ``cv2.calibrateCamera`` on the same corners, tangential terms at nothing: within its own errors."""
    paths = sorted(BOARDS.glob("left*.jpg"))[:9]
    ours = calibrate_by_board(paths, BOARD)
    corners = [find_corners(cv2.imread(str(p), cv2.IMREAD_GRAYSCALE), BOARD) for p in paths]
    points = np.array([[x, y, 0] for y in range(6) for x in range(9)], np.float32)
    start = np.array([[500.0, 0, 319.5], [0, 500, 239.5], [0, 0, 1]])
    # a third number of distortion says nothing here (0.6 of its error) and only bends the corners
    flags = cv2.CALIB_ZERO_TANGENT_DIST | cv2.CALIB_FIX_ASPECT_RATIO | cv2.CALIB_FIX_K3
    rms, k, dist, *_ = cv2.calibrateCamera(
        [points] * len(corners), [c.astype(np.float32) for c in corners], (640, 480), start, None, flags=flags
    )
    assert ours.lens.focal_px == pytest.approx(k[0, 0], rel=0.005)
    assert ours.rms_px < 1.1 * rms
    theirs = Lens(
        "rectilinear", k[0, 0], 640, 480, dist[0, 0], dist[0, 1], dist[0, 4], k[0, 2] - 319.5, k[1, 2] - 239.5
    )
    u, v = np.meshgrid(np.linspace(20, 620, 13), np.linspace(20, 460, 9))
    rays = theirs.unproject(np.stack([u, v], -1).reshape(-1, 2))
    apart = ours.lens.project(rays)[0] - np.stack([u, v], -1).reshape(-1, 2)
    assert np.abs(apart - np.median(apart, 0)).max() < 1.5
    # the calibration published with the pictures, left_intrinsics.yml: it kept two slipped boards and tangential terms
    assert ours.lens.focal_px == pytest.approx(535.9, rel=0.01)


@lru_cache(maxsize=1)
def _rays(lens: Lens) -> np.ndarray:
    return board_lenses.rays_of(lens, 3)


def _drawn(lens: Lens, pose: np.ndarray) -> np.ndarray:
    """A chessboard as that lens sees it."""
    return board_lenses.drawn(lens, _rays(lens), pose, np.random.default_rng(1))


def test_boards_that_the_frame_cuts_off_count_and_tell_where_they_were(tmp_path: Path):
    """Three whole boards of twelve were used, and the rest of the lens guessed: 22 px off in a corner at a told 0.45."""
    lens = Lens("rectilinear", 420, 480, 360, k1=-0.12, k2=0.03, cx=3.0, cy=-2.0)
    rng = np.random.default_rng(8)
    for k in range(9):
        tilt = rng.uniform(-0.35, 0.35, 3)
        middle = np.array([(k % 3 - 1) * 3.6, (k // 3 - 1) * 2.7, 8.0])
        shift = middle - Rotation.from_rotvec(tilt).as_matrix() @ np.array([4.0, 2.5, 0])
        Image.fromarray(_drawn(lens, np.concatenate([tilt, shift]))).save(tmp_path / f"b{k}.png")
    paths = sorted(tmp_path.glob("*.png"))
    found = calibrate_by_board(paths, BOARD)
    assert found.pictures >= 7
    corners = np.array([[2, 2], [477, 2], [2, 357], [477, 357]], float)
    # a turn of the camera takes up what all of them are off by
    rays, turn = lens.unproject(corners), rotations.aligning(lens.unproject(corners), found.lens.unproject(corners))
    miss = found.lens.project(rays @ turn.T)[0] - corners
    assert np.sqrt((miss**2).sum(1).mean()) < min(0.6, 3 * (found.corner_sigma_px or 0.0))
    assert sum(map(sum, found.coverage)) > 0.9 * found.points
    assert [len(line) for line in found.map_lines()] == [15] * 6


def test_a_set_that_joins_tells_its_lens(row_set: FrameFiles):
    found = calibrate_by_sweep(row_set.paths[:5])
    assert found.lens.focal_px == pytest.approx(row_set.lens.focal_px, rel=2e-3)
    assert found.sigma["focal_px"] > 0
    assert found.falloff is not None


def test_the_command_tells_people_and_programs(tmp_path: Path):
    some = [str(BOARDS / f"left0{k}.jpg") for k in (1, 2, 4, 6)]
    done = run_command("calibrate", "lens", *some, "--board", "9x6", "--json", tmp_path / "l.json")
    assert done.returncode == 0, done.stderr
    told = json.loads((tmp_path / "l.json").read_text())
    assert told["schema"] == "idle-lantern/lens-calibration/1"
    assert set(told["lens"]) == {"model", "focal_px", "k1", "k2", "k3", "cx", "cy"}
    assert told["sigma"]["k1"] > 0
    bare = [tmp_path / f"bare{k}.png" for k in range(4)]
    for path in bare:
        Image.new("L", (200, 150), 128).save(path)
    for paths, board, word in ((some, "two", "no board"), (bare, "9x6", "found in 0 of 4")):
        done = run_command("calibrate", "lens", *map(str, paths), "--board", board)
        assert done.returncode == 2
        assert word in done.stderr


def test_pictures_of_several_cameras_are_no_calibration(tmp_path: Path):
    paths = sorted(BOARDS.glob("left0[1246].jpg"))
    with Image.open(paths[0]) as image:
        image.resize((800, 600)).save(tmp_path / "large.png")
    with pytest.raises(InputError, match="several sizes"):
        calibrate_by_board([*paths[1:], tmp_path / "large.png"], BOARD)


def test_the_board_that_is_printed_is_found_again(tmp_path: Path):
    """Its own PDF, drawn by hand from the drawing commands in it, is a board for OpenCV's finder."""
    side = write_pattern(tmp_path / "b.pdf", (7, 5), "a4")
    page = pypdf.PdfReader(tmp_path / "b.pdf").pages[0]
    content = page.get_contents().get_data().decode("latin-1")
    boxes = [tuple(map(float, m)) for m in re.findall(r"([\d.]+) ([\d.]+) ([\d.]+) (-?[\d.]+) re f", content)]
    assert len(boxes) == 24
    to_mm = 25.4 / 72
    assert {round(w * to_mm, 1) for _x, _y, w, _h in boxes} == {side}
    scale = 3.0
    grey = np.full((round(595 * scale), round(842 * scale)), 255, np.uint8)
    for x, y, w, h in boxes:
        top, bottom = sorted((y, y + h))
        grey[round((595 - bottom) * scale) : round((595 - top) * scale), round(x * scale) : round((x + w) * scale)] = 0
    assert find_corners(grey, (7, 5)) is not None
    with pytest.raises(InputError, match="squares of"):
        write_pattern(tmp_path / "c.pdf", (50, 40), "a4")


def test_any_part_of_a_board_with_markers_tells_its_corners(tmp_path: Path):
    """The picture in its PDF, seen aslant and cut off on two sides: places of corners by the homography it was seen through."""
    assert run_command("calibrate", "board", "--markers", "--out", tmp_path / "m.pdf").returncode == 0
    (printed,) = pypdf.PdfReader(tmp_path / "m.pdf").pages[0].images
    picture = np.asarray(printed.image.convert("L"))
    height, width = picture.shape
    square = width / 10
    seen_at = np.array([[-130, -60], [560, 20], [620, 470], [-90, 430]], np.float32)
    move = cv2.getPerspectiveTransform(
        np.array([[0, 0], [width, 0], [width, height], [0, height]], np.float32), seen_at
    )
    fine = cv2.warpPerspective(picture, np.diag([3.0, 3.0, 1.0]) @ move, (1440, 1080), borderValue=255)
    seen = find_board(cv2.resize(fine, (480, 360), interpolation=cv2.INTER_AREA), BOARD)
    assert seen is not None
    assert 15 <= len(seen.corners) < 54
    # the inner corner (0, 0) is one square in; pixels are counted by their middles, and three of the fine picture make one
    printed_at = (seen.points[:, :2] + 1) * square - 0.5
    there = cv2.perspectiveTransform(printed_at[None], move)[0] - 1 / 3
    assert np.abs(seen.corners - there).max() < 0.2
    with pytest.raises(InputError, match="more squares than"):
        write_pattern(tmp_path / "c.pdf", (30, 20), "a3", markers=True)
