"""Frames of the sensor's own size: looked at in bands, the same to the last bit."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image

from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.rig import Rig
from idle_lantern.simulator import camera as camera_module
from idle_lantern.simulator.camera import SimulatedCamera, SimulatedHead
from idle_lantern.simulator.devices import SimulatedRig
from idle_lantern.simulator.diorama import ambrel_holm


def test_a_frame_looked_at_in_bands_is_the_same(monkeypatch):
    body = SimulatedCamera(Lens("rectilinear", 420, 500, 400), 24.0, 24.0 * 500 / 420)
    scene, pose = ambrel_holm(), SimulatedHead(play_deg=0.1).pointed(30, -5, 1)
    whole = body.view(scene, pose, time_s=12)
    monkeypatch.setattr(camera_module, "_AT_ONCE_PX", 1000)
    monkeypatch.setattr(camera_module, "_BAND", 112)
    banded = body.view(scene, pose, time_s=12)
    assert np.array_equal(whole.distance_m, banded.distance_m)
    assert np.abs(whole.light - banded.light).max() < 1e-5


def test_the_stand_in_writes_small_frames_unless_asked(tmp_path: Path):
    rig = Rig(width_px=2400, height_px=1600, focal_mm=24.0, upright=False)
    assert SimulatedRig(rig).frame_px[0] < 2000
    large = SimulatedRig(rig, most_megapixels=float("inf"))
    assert large.frame_px == (2400, 1600)
    large.turn_to(10, 0)
    large.shoot(tmp_path / "a.jpg", "2026:05:14 18:40:00")
    with Image.open(tmp_path / "a.jpg") as image:
        assert image.size == (2400, 1600)
