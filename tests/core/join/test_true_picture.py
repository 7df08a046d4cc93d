"""The joined picture against the scene itself, drawn without a camera."""

from __future__ import annotations

import math
from pathlib import Path

import cv2
import numpy as np
import pytest
from skimage.metrics import structural_similarity

from idle_lantern.core.base.picture import Picture, linear_to_srgb, srgb_to_linear
from idle_lantern.core.deliver.targets import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.join.canvas.canvas import make_canvas
from idle_lantern.core.join.render.compose import compose_picture
from idle_lantern.core.join.solve.solve import solve
from idle_lantern.core.sim.camera import Head, SimulatedCamera
from idle_lantern.core.sim.diorama import ambrel_holm
from idle_lantern.core.sim.truth import ideal_canvas

#: Rays to a pixel's side, and the blur of a good lens in pixels (common practice, no source): without them
#: the scene's hard edges alias and no two samplings of it agree.
_FINE, _LENS_BLUR_PX = 3, 0.5


def _averaged(light: np.ndarray) -> np.ndarray:
    light = cv2.GaussianBlur(light.astype(np.float32), (0, 0), _LENS_BLUR_PX * _FINE)
    h, w = light.shape[0] // _FINE, light.shape[1] // _FINE
    return light.reshape(h, _FINE, w, _FINE, 3).mean((1, 3))


@pytest.mark.parametrize("yaws", [(0.0, 30.0)])
def test_picture_is_the_scene_to_38_decibel(yaws: tuple[float, ...], tmp_path: Path):
    """PSNR of 38 dB and SSIM (by scikit-image) of 0.98 after one gain for each channel, off the rim."""
    lens, scene = Lens("rectilinear", 560, 384, 512), ambrel_holm()
    body = SimulatedCamera(lens.scaled(_FINE), 24.0, 24.0 * 384 / 560)
    head, meta = Head(play_deg=0.25), Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 512 / 560)
    cameras, paths = [], []
    for i, yaw in enumerate(yaws):
        cameras.append(head.pointed(yaw, 0, shot=i))
        fine = body.expose(scene, cameras[i], seed=i)
        light = _averaged(srgb_to_linear(fine.pixels.astype(np.float32) / 255))
        paths.append(tmp_path / f"f{i}.jpg")
        pixels = np.rint(linear_to_srgb(light) * 255).astype(np.uint8)
        write(Picture(pixels), paths[i], WriteOptions(jpeg_quality=97, metadata=meta))
    solution = solve(gather(paths))
    canvas = make_canvas(solution.poses, solution.seen, "cylindrical")
    picture = compose_picture(solution, canvas).picture

    first = solution.poses.frames[0]
    turn = cameras[first] @ solution.poses.world_from_camera[0].T
    ideal = _averaged(
        ideal_canvas(
            scene,
            canvas.projection,
            (canvas.height * _FINE, canvas.width * _FINE),
            canvas.px_per_rad * _FINE,
            tuple((c + 0.5) * _FINE - 0.5 for c in canvas.centre_px),
            canvas.canvas_from_world @ turn.T,
        ).clip(0, 1)
    )
    inside = cv2.erode((picture.alpha > 0).astype(np.uint8), np.ones((9, 9))) > 0
    shown = srgb_to_linear(picture.pixels.astype(np.float32) / 255)
    usable = inside[..., None] & (ideal < 0.95) & (ideal > 0.01)
    gain = [np.median(shown[..., c][usable[..., c]] / ideal[..., c][usable[..., c]]) for c in range(3)]
    expected = linear_to_srgb(np.clip(ideal * gain, 0, 1))
    error = (picture.pixels / 255.0 - expected)[inside]
    psnr = -10 * math.log10(float((error**2).mean()))
    # on brightness and with the window of Wang et al., Image Quality Assessment (2004)
    grey = [cv2.cvtColor(p.astype(np.float32), cv2.COLOR_RGB2GRAY) for p in (picture.pixels / 255.0, expected)]
    how = {"gaussian_weights": True, "sigma": 1.5, "use_sample_covariance": False, "data_range": 1.0}
    _, likeness = structural_similarity(*grey, full=True, **how)
    assert psnr >= 38, f"PSNR {psnr:.1f} dB"
    assert likeness[inside].mean() >= 0.98, f"SSIM {likeness[inside].mean():.4f}"
