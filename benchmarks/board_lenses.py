"""Lenses measured from rendered chessboards, many of them cut off by the frame: the error in a corner, and whether the told one holds.

    .venv/bin/python benchmarks/board_lenses.py [--sets 20] [--keep DIR]

Each set is another lens (17 to 60 mm on a full frame, up to three numbers of distortion, the middle off by some pixels), seen by
6 to 14 pictures of a board at all distances and tilts, with noise, blur and JPEG. On 2026-12-01, before parts of boards counted:
13 of 20 sets measured, worst 1.24 px, 77 % within three told errors. With them 24 of 24: worst 1.1 px, 0.44 rms, within three told errors
88 %. With large misses counted by their size, of the first 20 sets worst 0.52 px, 0.27 rms, all within three; of 44 worst 1.14 px, 0.40
rms, all within three.
"""

from __future__ import annotations

import math
from pathlib import Path

import cv2
import numpy as np
from kept_sets import kept_sets
from PIL import Image
from scipy.spatial.transform import Rotation

from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.calibration.board import calibrate_by_board
from idle_lantern.core.geometry.lenses import Lens

WIDTH, HEIGHT, BOARD, FINE = 1080, 720, (9, 6), 2


def lens_of(rng: np.random.Generator) -> Lens:
    """One of many that show something out to their corners."""
    while True:
        lens = _any_lens(rng)
        if np.isfinite(lens.unproject(np.array([[0.0, 0.0], [WIDTH - 1.0, HEIGHT - 1.0]]))).all():
            return lens


def _any_lens(rng: np.random.Generator) -> Lens:
    focal = float(rng.uniform(17, 60)) / 36 * WIDTH
    k1 = float(rng.uniform(-0.2, 0.08))
    return Lens(
        "rectilinear", focal, WIDTH, HEIGHT, k1=k1, k2=float(-k1 * rng.uniform(0, 0.3)), k3=float(rng.normal(0, 0.004)),
        cx=float(rng.normal(0, 5)), cy=float(rng.normal(0, 5)),
    )  # fmt: skip


def rays_of(lens: Lens, fine: int = FINE) -> np.ndarray:
    """Directions of ``fine`` x ``fine`` places of each pixel, row by row, (N, 3)."""
    v, u = np.mgrid[: lens.height * fine, : lens.width * fine]
    pixels = np.stack([(u + 0.5) / fine - 0.5, (v + 0.5) / fine - 0.5], -1).reshape(-1, 2)
    return np.nan_to_num(lens.unproject(pixels), nan=1e-9)


def drawn(
    lens: Lens, rays: np.ndarray, pose: np.ndarray, rng: np.random.Generator, blur_px: float = 0.0, noise: float = 1.5
) -> np.ndarray:
    """A board of 10 x 7 squares as the lens sees it, grey, 8 bit: every ray meets the plane."""
    turn, shift = Rotation.from_rotvec(pose[:3]).as_matrix(), pose[3:]
    # where a ray meets the board: depth along it
    depth = (turn[:, 2] @ shift) / (rays @ turn[:, 2])
    at = (rays * depth[:, None] - shift) @ turn
    x, y = np.floor(at[:, 0] + 1).astype(int), np.floor(at[:, 1] + 1).astype(int)
    on = (x >= 0) & (x < 10) & (y >= 0) & (y < 7) & (depth > 0)
    rim = (at[:, 0] > -2) & (at[:, 0] < 10) & (at[:, 1] > -2) & (at[:, 1] < 7) & (depth > 0)
    shade = np.where(on, np.where((x + y) % 2 == 0, 25, 225), np.where(rim, 225, 120)).astype(np.float32)
    fine = round(math.sqrt(len(rays) / (lens.width * lens.height)))
    grey = cv2.resize(shade.reshape(lens.height * fine, -1), (lens.width, lens.height), interpolation=cv2.INTER_AREA)
    if blur_px:
        grey = cv2.GaussianBlur(grey, (0, 0), blur_px)
    return np.clip(grey + rng.normal(0, noise, grey.shape), 0, 255).astype(np.uint8)


def make(folder: Path, seed: int) -> tuple[list[Path], Lens]:
    """Pictures of a set, made unless they are there, and the lens that took them."""
    rng = np.random.default_rng(seed)
    lens = lens_of(rng)
    paths = [folder / f"{seed}-{k:02d}.jpg" for k in range(int(rng.integers(6, 15)))]
    if all(p.exists() for p in paths):
        return paths, lens
    rays = rays_of(lens)
    for path in paths:
        # from a board that fills the frame to one a third as wide, its middle anywhere
        far = lens.focal_px / WIDTH * 10 * float(rng.uniform(0.9, 2.5))
        there = np.array([rng.uniform(-0.42, 0.42) * WIDTH, rng.uniform(-0.42, 0.42) * HEIGHT]) / lens.focal_px * far
        tilt = rng.uniform(-0.6, 0.6, 3) * (1, 1, 0.5)
        shift = np.array([*there, far]) - Rotation.from_rotvec(tilt).as_matrix() @ np.array([4.0, 2.5, 0])
        board = drawn(lens, rays, np.concatenate([tilt, shift]), rng, float(rng.uniform(0.5, 1.2)), 2.5)
        Image.fromarray(board).save(path, quality=93)
    return paths, lens


def corner_error_px(found: Lens, true: Lens) -> float:
    """RMS over the four corners of where the found lens puts what the true one shows there, turned as fits best.

    A turn of the camera takes up what the two differ by alike everywhere.
    """
    v, u = np.meshgrid(np.linspace(0, HEIGHT - 1, 13), np.linspace(0, WIDTH - 1, 19), indexing="ij")
    pixels = np.stack([u, v], -1).reshape(-1, 2)
    rays = true.unproject(pixels)
    turn = np.zeros(3)
    for _ in range(5):
        now = found.project(rays @ Rotation.from_rotvec(turn).as_matrix().T)[0] - pixels
        slopes = [
            (found.project(rays @ Rotation.from_rotvec(turn + s).as_matrix().T)[0] - pixels - now).ravel() / 1e-5
            for s in 1e-5 * np.eye(3)
        ]
        turn = turn - np.linalg.lstsq(np.stack(slopes, 1), now.ravel(), rcond=None)[0]
    miss = (found.project(rays @ Rotation.from_rotvec(turn).as_matrix().T)[0] - pixels).reshape(13, 19, 2)
    return float(np.sqrt((miss[[0, 0, -1, -1], [0, -1, 0, -1]] ** 2).sum(1).mean()))


def main() -> None:
    """Measure and print."""
    with kept_sets(__doc__) as (seeds, folder):
        errors, shares = [], []
        for seed in seeds:
            paths, lens = make(folder, seed)
            try:
                found = calibrate_by_board(paths, BOARD)
            except LanternError as error:
                print(f"{seed}: {len(paths)} pictures: {error.sentence}", flush=True)
                continue
            errors.append(corner_error_px(found.lens, lens))
            shares.append(errors[-1] / max(1e-6, found.corner_sigma_px or 0.0))
            told = f"{errors[-1]:.2f} px in a corner at a told {found.corner_sigma_px:.2f}"
            print(f"{seed}: {found.pictures} of {len(paths)} pictures, f {lens.focal_px:.0f}, {told}", flush=True)
        within = [round(100 * float(np.mean(np.array(shares) < k))) for k in (1, 2, 3)]
        worst, rms = max(errors), math.sqrt(float(np.mean(np.square(errors))))
        print(f"{len(errors)} of {len(seeds)}: worst {worst:.2f} px, rms {rms:.2f}; within 1, 2, 3 told: {within} %")


if __name__ == "__main__":
    main()
