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


def lake(seed: int = 1) -> np.ndarray:
    """Gravel, flattened as water is by distance, under a soft sky of fur: one step of brightness at the horizon, (H, W, 3) uint8."""
    rng = np.random.default_rng(seed)
    h, w = 900, 2600
    below = (np.arange(h) - (h - 1) / 2) / PX_PER_RAD
    near = np.clip(below, 1e-4, None)[:, None]
    gravel = np.tile(skimage.data.gravel().astype(np.float32), (3, 6))[:1400, :3000]
    u = (np.arange(w)[None, :] * np.clip(0.02 / near, 0.2, 3) + rng.uniform(0, 900)) % 2900
    v = np.broadcast_to(30 / near % 1300, u.shape)
    water = cv2.remap(gravel, u.astype(np.float32), v.astype(np.float32), cv2.INTER_LINEAR) - 128
    fur = cv2.cvtColor(skimage.data.chelsea(), cv2.COLOR_RGB2GRAY).astype(np.float32)
    sky = cv2.GaussianBlur(cv2.resize(fur, (w, h), interpolation=cv2.INTER_CUBIC), (0, 0), 6)
    grey = np.where(below[:, None] > 0, 125 + 0.3 * water * np.clip(near / 0.05, 0, 1), 185 + 0.25 * (sky - 120))
    soft = cv2.GaussianBlur(grey.astype(np.float32), (0, 0), 0.8)
    noisy = soft[..., None] * [0.97, 1.0, 1.03] + rng.normal(0, 2.5, (h, w, 3))
    return np.clip(noisy, 0, 255).astype(np.uint8)


def cut(
    folder: Path,
    lens: Lens,
    directions: list[tuple[float, float, float]],
    *,
    picture: np.ndarray | None = None,
    base: np.ndarray | None = None,
) -> tuple[list[Path], list[np.ndarray]]:
    """Frames of the band, or another ``picture`` (H, W, 3), for yaw, pitch, roll in degrees: files and true ``world_from_camera``.

    ``base`` (3, 3) is how the head's base leans.
    """
    picture = band() if picture is None else picture
    base = np.eye(3) if base is None else base
    h, w = picture.shape[:2]
    paths, cameras = [], []
    v, u = np.mgrid[: lens.height, : lens.width].astype(np.float64)
    rays = lens.unproject(np.stack([u, v], -1))
    for i, angles in enumerate(directions):
        camera = base @ rotations.from_yaw_pitch_roll(*np.radians(angles))
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
