"""Photographs that ship with scikit-image, laid side by side on a sphere and cut into frames.

scikit-image (BSD-3-Clause) brings these pictures in its package: real lenses, sensors and things,
so that the engine is not tuned to the look of the simulator.
"""

from __future__ import annotations

import math
from pathlib import Path

import cv2
import numpy as np
import skimage.data
from PIL import Image

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens

#: Pixels of the band to a radian.
PX_PER_RAD = 900.0


def band() -> np.ndarray:
    """A cylinder's worth of photographs melted into each other at their sides, (H, W, 3) uint8."""
    pictures = [skimage.data.coffee(), skimage.data.rocket(), skimage.data.chelsea(), skimage.data.astronaut()]
    height = 427
    sized = [
        cv2.resize(p, (round(p.shape[1] * height / p.shape[0]), height), interpolation=cv2.INTER_AREA) for p in pictures
    ]
    row = sized[0].astype(np.float32)
    melt = 40
    for nxt in sized[1:]:
        ramp = np.linspace(0, 1, melt, dtype=np.float32)[None, :, None]
        mixed = row[:, -melt:] * (1 - ramp) + nxt[:, :melt] * ramp
        row = np.concatenate([row[:, :-melt], mixed, nxt[:, melt:].astype(np.float32)], axis=1)
    return np.rint(row).astype(np.uint8)


def cut(folder: Path, lens: Lens, directions: list[tuple[float, float, float]]) -> tuple[list[Path], list[np.ndarray]]:
    """Frames of the band for yaw, pitch, roll in degrees: files and true ``world_from_camera``."""
    picture = band()
    h, w = picture.shape[:2]
    paths, cameras = [], []
    v, u = np.mgrid[: lens.height, : lens.width].astype(np.float64)
    rays = lens.unproject(np.stack([u, v], -1))
    for i, angles in enumerate(directions):
        camera = rotations.from_yaw_pitch_roll(*np.radians(angles))
        d = rays @ camera.T
        x = (w - 1) / 2 + PX_PER_RAD * np.arctan2(d[..., 0], d[..., 2])
        y = (h - 1) / 2 + PX_PER_RAD * d[..., 1] / np.hypot(d[..., 0], d[..., 2])
        frame = cv2.remap(picture, x.astype(np.float32), y.astype(np.float32), cv2.INTER_CUBIC)
        paths.append(folder / f"p{i:02d}.jpg")
        Image.fromarray(frame).save(paths[-1], quality=95)
        cameras.append(camera)
    return paths, cameras


def width_deg() -> float:
    """Angle that the band spans."""
    return math.degrees(band().shape[1] / PX_PER_RAD)
