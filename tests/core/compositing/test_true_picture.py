"""The joined picture against the scene itself, drawn without a camera."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest
from skimage.metrics import structural_similarity
from tests.helpers import true_picture

from idle_lantern.core.compositing.canvas.canvas import make_canvas
from idle_lantern.core.compositing.render.compose import compose_picture
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.solve.solve import solve
from idle_lantern.simulator.camera import SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm


@pytest.mark.parametrize("yaws", [(0.0, 30.0)])
def test_picture_is_the_scene_to_38_decibel(yaws: tuple[float, ...], tmp_path: Path):
    """PSNR of 38 dB and SSIM (by scikit-image) of 0.98 after one gain for each channel, off the rim."""
    lens, scene = Lens("rectilinear", 560, 384, 512), ambrel_holm()
    body = SimulatedCamera(lens.scaled(true_picture.FINE), 24.0, 24.0 * 384 / 560)
    head, meta = SimulatedHead(play_deg=0.25), Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 512 / 560)
    cameras = [head.pointed(yaw, 0, shot=i) for i, yaw in enumerate(yaws)]
    paths = [tmp_path / f"f{i}.jpg" for i in range(len(yaws))]
    for i, path in enumerate(paths):
        true_picture.shoot(body, scene, cameras[i], path, meta, i)
    solution = solve(gather(paths))
    canvas = make_canvas(solution.poses, solution.seen, "cylindrical")
    picture = compose_picture(solution, canvas).picture

    wanted, inside = true_picture.expected(scene, picture, solution, canvas, cameras)
    psnr = true_picture.decibel(picture, wanted, inside)
    # on brightness and with the window of Wang et al., Image Quality Assessment (2004)
    grey = [cv2.cvtColor(p.astype(np.float32), cv2.COLOR_RGB2GRAY) for p in (picture.pixels / 255.0, wanted)]
    how = {"gaussian_weights": True, "sigma": 1.5, "use_sample_covariance": False, "data_range": 1.0}
    _, likeness = structural_similarity(*grey, full=True, **how)
    assert psnr >= 38, f"PSNR {psnr:.1f} dB"
    assert likeness[inside].mean() >= 0.98, f"SSIM {likeness[inside].mean():.4f}"
