"""A facade of natural texture whose windows repeat: placed by what no two windows share, or told to repeat."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
import skimage.data
from PIL import Image

from idle_lantern.core.base.errors import JoinError
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.solve.solve import solve
from idle_lantern.core.request.options import JoinOptions

LENS = Lens("rectilinear", 640, 680, 460)
PERIOD = 112


def _facade(weathered: float) -> np.ndarray:
    """Brick and cups of scikit-image, each window as the next but for weathering of so many display values, (H, W, 3) float32."""
    wide, high, tall = 2000, 1000, round(PERIOD * 1.1)
    brick = cv2.resize(skimage.data.brick().astype(np.float32), (PERIOD, tall), interpolation=cv2.INTER_AREA)
    window = cv2.resize(skimage.data.coffee()[:, :400].astype(np.float32), (56, 78), interpolation=cv2.INTER_AREA)
    unit = brick[..., None] * np.array([1.0, 0.85, 0.75], np.float32)
    unit[12 : 12 + 78, 20 : 20 + 56] = window
    whole = np.tile(unit, (high // tall + 1, wide // PERIOD + 1, 1))[:high, :wide]
    moon = cv2.resize(
        skimage.data.moon()[60:310, 10:510].astype(np.float32), (wide, high), interpolation=cv2.INTER_CUBIC
    )
    own = cv2.GaussianBlur(moon, (0, 0), 1.0) - cv2.GaussianBlur(moon, (0, 0), 12.0)
    return whole + (weathered * own / own.std())[..., None]


def _shot(folder: Path, weathered: float, focal_px: float = 640.0) -> tuple[list[Path], list[np.ndarray]]:
    """A row before the facade, overlapping by half; through a long lens the windows look all alike, none narrower to the sides."""
    picture, rng = _facade(weathered), np.random.default_rng(1)
    lens = replace(LENS, focal_px=focal_px)
    h, w = picture.shape[:2]
    rays = lens.unproject(np.stack(np.meshgrid(np.arange(680.0), np.arange(460.0)), -1))
    paths, cameras = [], []
    for i in range(4):
        angles = np.degrees(np.arctan(np.array([200.0 * (i - 1.5), 0, 0]) / focal_px)) + rng.normal(
            0, 100 / focal_px, 3
        )
        camera = rotations.from_yaw_pitch_roll(*np.radians(angles))
        d = rays @ camera.T
        at = [(side - 1) / 2 + focal_px * d[..., k] / d[..., 2] for k, side in ((0, w), (1, h))]
        frame = cv2.remap(picture, *(a.astype(np.float32) for a in at), cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
        noisy = np.clip(frame + rng.normal(0, 1.5, frame.shape), 0, 255).astype(np.uint8)
        paths.append(folder / f"w{i}.jpg")
        Image.fromarray(noisy).save(paths[-1], quality=95)
        cameras.append(camera)
    return paths, cameras


def test_windows_that_repeat_are_placed_by_what_no_two_share(tmp_path: Path):
    """It ended with 'overlap by a third'; they did. A window further on looks nearly as right, and is 10 degrees off."""
    paths, cameras = _shot(tmp_path, 4.0)
    solution = solve(gather(paths), JoinOptions(refine=False))
    assert sorted(solution.poses.frames) == [0, 1, 2, 3]
    true = [cameras[f] for f in solution.poses.frames]
    turned = solution.poses.world_from_camera
    whole = rotations.nearest(sum(t @ s.T for t, s in zip(true, turned, strict=True)))
    off = [math.degrees(float(rotations.angle_between(t, whole @ s))) for t, s in zip(true, turned, strict=True)]
    assert max(off) < 0.5


def test_windows_that_are_wholly_alike_are_told_and_not_guessed(tmp_path: Path):
    paths, _cameras = _shot(tmp_path, 0.0, focal_px=4000.0)
    with pytest.raises(JoinError, match=r"repeats .windows, slats, tiles.*Tie neighbours by a point"):
        solve(gather(paths), JoinOptions(refine=False))
