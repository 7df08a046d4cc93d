"""What a joined picture should show: the scene drawn without a camera on the same canvas."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path

import cv2
import numpy as np

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry import rotations
from idle_lantern.core.registration.solve.solve import Solution
from idle_lantern.simulator.camera import SimulatedCamera
from idle_lantern.simulator.surfaces import Diorama
from idle_lantern.simulator.truth import ideal_canvas

#: Rays to a pixel's side, and the blur of a good lens in pixels (common practice, no source): without them
#: the scene's hard edges alias and no two samplings of it agree.
FINE, _LENS_BLUR_PX = 3, 0.5


def averaged(light: np.ndarray, fine: int = FINE) -> np.ndarray:
    """Light of rays as a good lens and pixels of ``fine`` rays a side see it."""
    light = cv2.GaussianBlur(light.astype(np.float32), (0, 0), _LENS_BLUR_PX * fine)
    h, w = light.shape[0] // fine, light.shape[1] // fine
    return light.reshape(h, fine, w, fine, 3).mean((1, 3))


def shoot(
    body: SimulatedCamera, scene: Diorama, pose: np.ndarray, path: Path, meta: Metadata, seed: int, fine: int = FINE
):
    """One frame of a camera with ``fine`` rays to a pixel's side."""
    seen = body.expose(scene, pose, seed=seed)
    light = averaged(SRGB.to_linear(seen.pixels.astype(np.float32) / 255), fine)
    pixels = np.rint(SRGB.from_linear(light) * 255).astype(np.uint8)
    write(Picture(pixels), path, WriteOptions(jpeg_quality=97, metadata=meta))


def expected(
    scene: Diorama,
    picture: Picture,
    solution: Solution,
    canvas: Canvas,
    cameras: Sequence[np.ndarray],
    fine: int = FINE,
) -> tuple[np.ndarray, np.ndarray]:
    """The scene on the picture's canvas, 0 to 1, after one gain for each channel, and where the picture is, off its rim.

    Seen from where the cameras turned, all ``cameras`` together laid on the solved ones.
    """
    own = np.stack([cameras[f] for f in solution.poses.frames])
    turn = rotations.nearest((own @ np.swapaxes(solution.poses.world_from_camera, 1, 2)).sum(0))
    ideal = averaged(
        ideal_canvas(
            scene,
            canvas.projection,
            (canvas.height * fine, canvas.width * fine),
            canvas.px_per_rad * fine,
            tuple((c + 0.5) * fine - 0.5 for c in canvas.centre_px),
            canvas.canvas_from_world @ turn.T,
        ).clip(0, 1),
        fine,
    )
    inside = cv2.erode((picture.alpha > 0).astype(np.uint8), np.ones((9, 9))) > 0
    shown = SRGB.to_linear(picture.pixels.astype(np.float32) / 255)
    usable = inside[..., None] & (ideal < 0.95) & (ideal > 0.01)
    gain = [np.median(shown[..., c][usable[..., c]] / ideal[..., c][usable[..., c]]) for c in range(3)]
    return SRGB.from_linear(np.clip(ideal * gain, 0, 1)), inside


def decibel(picture: Picture, wanted: np.ndarray, where: np.ndarray) -> float:
    """Peak signal to noise ratio of a picture against what it should show."""
    return -10 * math.log10(float((((picture.pixels / 255.0 - wanted)[where]) ** 2).mean()))
