"""What moves in the invented place while a run lasts, measured in the frames; and that the field desk says so."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.watching.live_check import LiveCheck
from idle_lantern.simulator.camera import SimulatedCamera
from idle_lantern.simulator.devices import SimulatedRig
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.weather import STILL, WEATHERS, Weather

CAMERA = SimulatedCamera(Lens("rectilinear", 200, 240, 160), 24.0, 24.0 * 240 / 200, noise=False)
BREEZE, CLOUDS, DUSK = WEATHERS[1:]


def _seen(weather: Weather, time_s: float) -> tuple[np.ndarray, np.ndarray]:
    """Linear light and distance, towards the house and the sea."""
    view = CAMERA.view(
        ambrel_holm(walkers=0, weather=weather), rotations.from_yaw_pitch_roll(0.3, 0.1, 0), time_s=time_s
    )
    return view.light, view.distance_m


def test_nothing_changes_in_still_weather_nor_at_the_start_of_any_other():
    still, _ = _seen(STILL, 0)
    assert np.array_equal(_seen(STILL, 500)[0], still)
    for weather in WEATHERS[1:]:
        np.testing.assert_allclose(_seen(weather, 0)[0], still, atol=1e-6)


def test_clouds_and_waves_move_and_what_is_built_stays():
    (before, far), (after, _) = _seen(BREEZE, 0), _seen(BREEZE, 60)
    moved = np.abs(after - before).max(-1) > 0.01
    sky, sea, built = np.isinf(far), (far > 300) & (far < 5000), far < 60
    assert moved[sky].mean() > 0.3
    assert moved[sea].mean() > 0.05
    assert moved[built].mean() < 0.01  # their rims, behind which the sky goes


def test_at_dusk_the_light_fades_as_told():
    """A stop in five minutes (common practice, no source), measured in what the sensor gets."""
    fades = math.log2(float(_seen(DUSK, 0)[0].mean() / _seen(DUSK, 300)[0].mean()))
    assert fades == pytest.approx(5 * DUSK.fading_ev_per_min, abs=0.05)
    assert fades == pytest.approx(1.0, abs=0.05)


def test_clouds_before_the_sun_take_its_light_and_leave_the_shade():
    darkest = min(range(0, 90, 2), key=CLOUDS.sunshine)
    place = ambrel_holm(weather=CLOUDS)
    assert place.at(darkest).sun[0] == pytest.approx(0.25 * place.sun[0], rel=0.01)
    assert place.at(darkest).shade == place.shade
    shown = [CLOUDS.sunshine(t) for t in range(0, 600, 6)]
    assert sum(s == 1 for s in shown) > 50
    assert sum(s < 0.5 for s in shown) > 10


def test_the_desk_tells_of_a_cloud_that_came(tmp_path: Path):
    rig = Rig(focal_mm=24, width_px=540, height_px=360)
    plan = make_plan(Brief(rig=rig, target_field=TargetField(-60, 60, -10, 10, 0.35)))
    # the sun behind the camera: what is lit fills the frames
    place = ambrel_holm(walkers=0, sun_azimuth_deg=180, weather=replace(CLOUDS, wind_m_s=0, waves_m_s=0))
    devices, live_check = SimulatedRig(rig, place), LiveCheck(plan)
    devices.shots = 13  # the sun shines on the first frame, then the cloud comes
    told = []
    for frame in plan.frames[:3]:
        devices.turn_to(frame.yaw_deg, frame.pitch_deg, frame.roll_deg)
        path = tmp_path / f"{frame.number}.jpg"
        devices.shoot(path, "2026:05:14 18:40:00")
        told.append([f.figure for f in live_check.look(path, frame).faults if f.what == "exposure"])
    assert told[0] == []
    assert len(told[2]) == 1
    assert -2.0 < told[2][0] < -0.4
