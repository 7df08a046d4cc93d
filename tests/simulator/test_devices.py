"""The stand-ins take every kind of picture; a shift lens slides the picture and a circle leaves the corners dark."""

from __future__ import annotations

import math
import threading
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from idle_lantern.core.frames.reading import read
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.kinds import KINDS, kind_of
from idle_lantern.core.plan.planner import Plan, make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.simulator.camera import SimulatedCamera
from idle_lantern.simulator.devices import SimulatedRig
from idle_lantern.simulator.diorama import ambrel_holm


def _plan(kind: str, width_px: int, height_px: int) -> Plan:
    brief = kind_of(kind).start(Brief())
    return make_plan(replace(brief, rig=replace(brief.rig, width_px=width_px, height_px=height_px)))


@pytest.mark.parametrize("kind", [k.id for k in KINDS])
def test_every_kind_can_be_shot(kind: str, tmp_path: Path):
    plan = _plan(kind, 240, 240 if kind == "two-lens" else 160)
    devices = SimulatedRig(plan.rig)
    frame = plan.frames[-1]
    devices.turn_to(frame.yaw_deg, frame.pitch_deg, frame.roll_deg)
    devices.shift_lens(frame.shift_right_mm, frame.shift_up_mm)
    devices.shoot(tmp_path / "f.jpg", "2026:05:14 18:40:00")
    picture = read(tmp_path / "f.jpg")
    assert (picture.width, picture.height) == plan.rig.frame_px
    assert picture.pixels.mean() > 20


def test_outside_the_image_circle_it_is_dark(tmp_path: Path):
    """A circle inscribed in a square leaves 1 - pi / 4 of it."""
    plan = _plan("two-lens", 300, 300)
    devices = SimulatedRig(plan.rig)
    devices.turn_to(0, 0)
    devices.shoot(tmp_path / "f.jpg", "2026:05:14 18:40:00")
    dark = (read(tmp_path / "f.jpg").pixels.max(-1) < 8).mean()
    assert dark == pytest.approx(1 - math.pi / 4, abs=0.01)


def test_a_shifted_lens_slides_the_picture_and_changes_nothing_else():
    """Plane geometry: frames of a shift lens differ by a translation on the sensor, near and far alike."""
    plan = _plan("shift", 480, 320)
    devices = SimulatedRig(plan.rig)
    camera = replace(devices.camera, noise=False, falloff=(0.0, 0.0))
    devices.camera = camera
    px_per_mm = 480 / 24
    devices.shift_lens(3.0, -2.0)
    shifted = devices.camera.expose(devices.scene, np.eye(3)).pixels.astype(int)
    plain = camera.expose(devices.scene, np.eye(3)).pixels.astype(int)
    right, down = round(3.0 * px_per_mm), round(2.0 * px_per_mm)
    # lens to the right shows more of the right: the picture slides left; lens down: it slides up
    differing = np.abs(shifted[: 320 - down, : 480 - right] - plain[down:, right:]).max(-1) > 3
    # the renderer softens rims by the rows it works on at once, so a line of pixels may differ
    assert differing.mean() < 0.002


def test_a_frame_looked_at_ahead_is_the_same_and_comes_at_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    """While one looks through the finder the next frame is rendered; the shot only develops and writes it."""
    # a place of its own each, so that no view is known from before
    plain, ahead = (SimulatedRig(Rig(width_px=300, height_px=200), replace(ambrel_holm())) for _ in range(2))
    for rig, name in ((plain, "a.jpg"), (ahead, "b.jpg")):
        if rig is ahead:
            rig.prepare(20.0, 5.0)
            thread = next(t for t in threading.enumerate() if t.name == "looking ahead")
            thread.join(20)
            monkeypatch.setattr(SimulatedCamera, "view", None)
        rig.turn_to(20.0, 5.0)
        rig.shoot(tmp_path / name, "2026:05:14 18:40:00")
    assert (tmp_path / "a.jpg").read_bytes() == (tmp_path / "b.jpg").read_bytes()


def test_wide_open_the_subject_is_sharp_and_what_lies_behind_is_not():
    """As the plan of a shallow-depth grid sets it; discs by the thin lens: f/1.8 at 85 mm, focus 2.5 m, infinity, worked by hand."""
    brief = kind_of("shallow").start(Brief())
    rig = replace(brief.rig, width_px=600, height_px=400, focal_mm=85.0, upright=False)
    open_wide, stopped = (SimulatedRig(rig).focused(aperture, 2.5).with_somebody(8.0, 2.5) for aperture in (1.8, 16.0))
    # (f / N) * f / (s - f) = 47.2 mm * 85 / 2415 = 1.662 mm on 24 mm of 600 px
    assert open_wide.camera.blur_disc_px(np.array([1e9]), open_wide.settings)[0] == pytest.approx(41.5, abs=0.1)
    assert open_wide.camera.blur_disc_px(np.array([2.5]), open_wide.settings)[0] == pytest.approx(0, abs=1e-6)
    assert open_wide.settings.exposure_value == pytest.approx(stopped.settings.exposure_value)
    detail = []
    for devices in (open_wide, stopped):
        devices.turn_to(8.0, -2.0)
        view = devices._look(devices.shots, devices._reached)
        grey = devices.camera.develop(view, devices.settings).pixels.astype(float).mean(-1)
        edges = np.abs(np.diff(grey, axis=1))
        near = view.distance_m[:, 1:] < 3
        detail.append((edges[near].mean(), edges[~near & np.isfinite(view.distance_m[:, 1:])].mean()))
    assert detail[0][0] > 0.5 * detail[1][0]
    assert detail[0][1] < 0.35 * detail[1][1]
