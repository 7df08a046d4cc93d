"""The simulator keeps its word: parallax, fall-off, blur and noise are what their formulas say."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.rotations import from_yaw_pitch_roll
from idle_lantern.core.plan.rig import Rig
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.devices import SimulatedRig
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.surfaces import Diorama, Quad

LENS = Lens("rectilinear", 300, 320, 240)


def _grey(a: np.ndarray, _b: np.ndarray, _f: np.ndarray) -> np.ndarray:
    return np.full((*a.shape, 3), 0.3, np.float32)


def _dark(directions: np.ndarray, _pixel: float) -> np.ndarray:
    return np.full((*directions.shape[:-1], 3), 0.02, np.float32)


def _post(distance: float, width: float = 0.02) -> Diorama:
    """A thin upright post straight ahead, evenly lit."""
    quad = Quad((-width / 2, -5.0, distance), (1, 0, 0), (0, 1, 0), (width, 10.0), _grey, lit=False)
    return Diorama((quad,), _dark, (0.0, -1.0, 0.0), haze_m=1e12)


def _camera(**more) -> SimulatedCamera:
    return SimulatedCamera(LENS, 24.0, 24.0, noise=False, **more)


def _column_of_post(scene: Diorama, camera: SimulatedCamera, yaw_rad: float) -> float:
    """Brightness-weighted column of the post in the middle row."""
    light = camera.view(scene, from_yaw_pitch_roll(yaw_rad, 0, 0)).light[120, :, 0] - 0.02
    return float((light * np.arange(LENS.width)).sum() / light.sum())


def test_turning_about_the_pupil_shows_no_parallax():
    """Near and far posts keep the same column when the pupil stands on the axis."""
    for yaw in (0.0, 0.2):
        near, far = (_column_of_post(_post(d, 0.02 * d), _camera(), yaw) for d in (2.0, 200.0))
        assert near == pytest.approx(far, abs=0.02)


@pytest.mark.parametrize("offset_m", [0.05, -0.03])
def test_turning_off_the_pupil_shifts_near_things_by_the_formula(offset_m: float):
    """Pupil d ahead of the axis, thing at distance D, turned by a: it appears at atan of exact geometry."""
    yaw, distance = 0.25, 2.0
    camera = _camera(pupil_m=(0.0, 0.0, offset_m))
    column = _column_of_post(_post(distance), camera, yaw)
    # in camera axes the post lies at (-D sin a, D cos a - d)
    x, z = -distance * math.sin(yaw), distance * math.cos(yaw) - offset_m
    assert column == pytest.approx(159.5 + 300 * x / z, abs=0.05)


def test_the_same_arguments_give_the_same_pixels():
    scene = ambrel_holm()
    camera = SimulatedCamera(Lens("rectilinear", 100, 90, 60), 24, 24)
    pose = from_yaw_pitch_roll(0.2, 0, 0)
    one, two = (camera.expose(scene, pose, seed=3).pixels for _ in range(2))
    assert (one == two).all()
    assert (camera.expose(scene, pose, seed=4).pixels != one).any()


def test_one_stop_halves_the_light():
    """Exposure value 1 higher is half the light (ISO 2720 / APEX)."""
    camera = _camera()
    scene = _post(2.0, 4.0)
    levels = []
    for time in (1 / 500, 1 / 1000):
        pixels = camera.expose(scene, np.eye(3), CameraSettings(exposure_s=time)).pixels[120, 160]
        levels.append(SRGB.to_linear(pixels / 255.0))
    np.testing.assert_allclose(levels[0] / levels[1], 2.0, rtol=0.02)  # 8 bit rounding
    assert CameraSettings(8, 1 / 256, 100).exposure_value == pytest.approx(14.0)


def test_fall_off_follows_its_polynomial():
    camera = _camera(falloff=(-0.3, -0.1))
    light = camera.relative_light()
    assert light[119, 159] == pytest.approx(1.0, abs=1e-3)
    assert light[0, 0] == pytest.approx(1 - 0.3 - 0.1, abs=5e-3)


def test_defocus_has_the_diameter_of_the_thin_lens():
    """Blur disc = aperture x magnification x |D - S| / D, spread over the sensor."""
    camera = SimulatedCamera(Lens("rectilinear", 4000, 400, 60), 85.0, 8.5, noise=False, defocus=True)
    settings = CameraSettings(aperture=2.0, focus_m=2.0, exposure_s=1 / 4096)
    expected_mm = (85 / 2) * (0.085 / (2 - 0.085)) * (8.0 - 2.0) / 8.0
    expected_px = expected_mm / 8.5 * 400
    scene = _post(8.0, 40.0)
    sharp_edge = replace(scene, quads=(replace(scene.quads[0], corner_m=(0.0, -5.0, 8.0)),))
    row = camera.expose(sharp_edge, np.eye(3), settings).pixels[30, :, 0] / 255.0
    light = SRGB.to_linear(row)
    inside = (light > light[:20].mean() + 0.02 * np.ptp(light)) & (light < light[-20:].mean() - 0.02 * np.ptp(light))
    # a blurred edge runs over one disc diameter; steps of half a stop in the simulation allow a fifth
    assert inside.sum() == pytest.approx(expected_px, rel=0.25)


def test_noise_grows_with_iso():
    scene = _post(2.0, 4.0)
    camera = SimulatedCamera(LENS, 24.0, 24.0)
    spread = []
    for iso in (100, 3200):
        settings = CameraSettings(exposure_s=1 / 256 * 100 / iso, iso=iso)
        spread.append(camera.expose(scene, np.eye(3), settings).pixels[100:140, 140:180, 1].std())
    assert spread[1] > 3 * spread[0]


def test_motion_blur_spreads_a_thin_post():
    sharp = _camera().expose(_post(2.0), np.eye(3)).pixels[120, :, 0].astype(float)
    smeared = replace(_camera(), shake_px=(12.0, 0.0)).expose(_post(2.0), np.eye(3)).pixels[120, :, 0].astype(float)
    assert (smeared > smeared.min() + 5).sum() > (sharp > sharp.min() + 5).sum() + 8


def test_walkers_walk():
    camera = SimulatedCamera(Lens("rectilinear", 300, 600, 100), 24, 24, noise=False)
    scene, still = ambrel_holm(walkers=18), ambrel_holm(walkers=0)
    moved = [camera.expose(s, np.eye(3), time_s=t).pixels for s in (scene, still) for t in (0.0, 3.0)]
    assert (moved[0] != moved[1]).any()
    assert (moved[2] == moved[3]).all()


def test_head_leans_and_plays():
    exact, leaning = (
        SimulatedHead().pointed(30, 5),
        SimulatedHead(base_tilt_deg=2.0, base_tilt_toward_deg=0).pointed(0, 0),
    )
    np.testing.assert_allclose(exact, from_yaw_pitch_roll(*np.radians([30, 5, 0])), atol=1e-12)
    np.testing.assert_allclose(leaning, from_yaw_pitch_roll(0, math.radians(2), 0), atol=1e-12)
    assert not np.allclose(SimulatedHead(play_deg=0.2).pointed(30, 5, shot=1), exact)


def test_stand_in_writes_a_real_file_with_exif(tmp_path):
    """Read back by Pillow, not by the project's own reader."""
    from PIL import ExifTags, Image

    rig = SimulatedRig(Rig(width_px=300, height_px=200))
    rig.turn_to(20, 0)
    rig.shoot(tmp_path / "a.jpg", "2026:05:14 18:40:00")
    with Image.open(tmp_path / "a.jpg") as image:
        assert image.size == (200, 300)
        exif = image.getexif().get_ifd(ExifTags.IFD.Exif)
        assert float(exif[ExifTags.Base.FocalLength]) == 20.0
        assert float(exif[ExifTags.Base.ExposureTime]) == pytest.approx(1 / 256, rel=1e-3)
        assert exif[ExifTags.Base.DateTimeOriginal] == "2026:05:14 18:40:00"


def test_beside_pixels_that_see_nothing_all_is_drawn_as_by_a_lens_that_fills_its_frame():
    """The corners of a circular fisheye have no ray; the lamp and the light tower stand whole all the same."""
    wide = Lens("equisolid", 100, 350, 350)  # beyond 200 px there is no ray
    inner = replace(wide, width=150, height=150)
    assert not np.isfinite(wide.unproject(np.array([[2.0, 2.0]]))).all()
    ahead = from_yaw_pitch_roll(0.2, 0.1, 0)
    shown = [
        SimulatedCamera(lens, 24.0, 24.0 * lens.width / lens.focal_px).view(ambrel_holm(), ahead)
        for lens in (wide, inner)
    ]
    np.testing.assert_allclose(shown[0].light[100:250, 100:250], shown[1].light, atol=0.03)
