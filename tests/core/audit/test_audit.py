"""One bad frame among good ones is found by what its neighbours show; good frames raise no alarm."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from idle_lantern.core.audit.audit import CardReport, audit_card
from idle_lantern.core.audit.report import as_json, as_text
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.frameset import pictures_in
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.merging.temperature import red_over_blue
from idle_lantern.core.sorting.card import sort
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.surfaces import SurfaceView

LENS = Lens("rectilinear", 690, 620, 776)
CAMERA = SimulatedCamera(LENS, 24.0, 24.0 * 620 / 690, falloff=(-0.12, -0.05))
ROW = [(-98.0 + 30 * i, 0.0, 0.0) for i in range(6)]


@pytest.fixture(scope="module")
def views() -> list[SurfaceView]:
    """The light of six frames of a row, looked at once."""
    scene = ambrel_holm(walkers=0)
    return [CAMERA.view(scene, SimulatedHead(play_deg=0.3).pointed(*angles, shot=i)) for i, angles in enumerate(ROW)]


def _shoot(folder: Path, views: list[SurfaceView], *, meta: Metadata | None = None, **bad: object) -> list[Path]:
    """Frames of the views; ``sigma``, ``shake_px``, ``ev``, ``gains`` and ``meta_of_bad`` spoil the one of number ``at``."""
    paths = []
    for i, view in enumerate(views):
        here = bad if bad.get("at") == i else {}
        camera = replace(CAMERA, shake_px=here.get("shake_px", (0.0, 0.0)))
        if here.get("sigma"):
            view = replace(view, light=cv2.GaussianBlur(view.light, (0, 0), here["sigma"]))
        settings = CameraSettings(
            exposure_s=2.0 ** here.get("ev", 0.0) / 256, white_balance=here.get("gains", (1, 1, 1))
        )
        light = np.clip(camera.sensed(view, settings, seed=i), 0, 1)
        picture = Picture(np.rint(SRGB.from_linear(light) * 255).astype(np.uint8))
        told = here.get("meta_of_bad", meta) or Metadata()
        paths.append(folder / f"f{i:02d}.jpg")
        write(picture, paths[-1], WriteOptions(jpeg_quality=94, metadata=told))
    return paths


def _found(folder: Path) -> list[tuple[str, str, float]]:
    """Findings but for what is full white: the sun stands in the row."""
    return [(f.path.name, f.what, f.figure) for f in _audited(folder).findings if f.what != "clipped"]


def _audited(folder: Path) -> CardReport:
    return audit_card(sort(pictures_in(folder)), prepared=folder / "prepared")


def test_good_frames_raise_no_alarm(tmp_path: Path, views: list[SurfaceView]):
    _shoot(tmp_path, views)
    assert _found(tmp_path) == []


@pytest.mark.parametrize(("shake", "word"), [((0.0, 3.0), "up and down")])
def test_a_shaken_frame_is_found_with_its_direction(
    tmp_path: Path, views: list[SurfaceView], shake: tuple[float, float], word: str
):
    _shoot(tmp_path, views, at=4, shake_px=shake)
    report = _audited(tmp_path)
    (finding,) = [f for f in report.findings if f.what != "clipped"]
    assert (finding.path.name, finding.what) == ("f04.jpg", "shake")
    assert finding.figure == pytest.approx(3.0, abs=0.8)
    assert word in finding.sentence
    assert finding.u is not None
    assert 0 <= finding.u < LENS.width


@pytest.mark.parametrize("ev", [-1 / 3])
def test_a_third_of_an_ev_is_seen_without_metadata(tmp_path: Path, views: list[SurfaceView], ev: float):
    _shoot(tmp_path, views, at=3, ev=ev)
    ((name, what, figure),) = _found(tmp_path)
    assert (name, what) == ("f03.jpg", "exposure")
    assert figure == pytest.approx(ev, abs=0.1)


def test_three_hundred_kelvin_are_seen_without_metadata(tmp_path: Path, views: list[SurfaceView]):
    """Gains of a development for 5800 K where the light, and the others' setting, is 5500 K (black bodies)."""
    step = 2.0 ** ((red_over_blue(5500) - red_over_blue(5800)) / 2)
    _shoot(tmp_path, views, at=1, gains=(step, 1.0, 1 / step))
    ((name, what, figure),) = _found(tmp_path)
    assert (name, what) == ("f01.jpg", "white_balance")
    assert figure == pytest.approx(300, abs=100)


def test_black_bodies_are_those_of_the_tables():
    """6504 K lies next to D65, which is white in sRGB (IEC 61966-2-1); 2856 K is CIE illuminant A, (0.4476, 0.4074)."""
    assert red_over_blue(6504) == pytest.approx(0, abs=0.12)
    x, y = 0.4476, 0.4074
    red = 3.2406 * x / y - 1.5372 - 0.4986 * (1 - x - y) / y
    blue = 0.0557 * x / y - 0.2040 + 1.0570 * (1 - x - y) / y
    assert red_over_blue(2856) == pytest.approx(np.log2(red / blue), abs=0.1)


def test_settings_that_one_file_tells_otherwise_are_named(tmp_path: Path, views: list[SurfaceView]):
    usual = Metadata(focal_mm=24, aperture=8, iso=100, exposure_s=1 / 250)
    _shoot(tmp_path, views, meta=usual, at=2, meta_of_bad=replace(usual, aperture=5.6, iso=200))
    found = {what: figure for name, what, figure in _found(tmp_path) if name == "f02.jpg"}
    assert found == {"aperture": pytest.approx(1.03, abs=0.05), "iso": pytest.approx(1.0)}


def test_a_foreign_picture_is_a_stray(tmp_path: Path, views: list[SurfaceView]):
    _shoot(tmp_path, views[:3])
    rng = np.random.default_rng(3)
    blocks = rng.integers(0, 255, (15, 12, 3), dtype=np.uint8)
    foreign = np.kron(blocks, np.ones((60, 60, 1), np.uint8))[: LENS.height, : LENS.width]
    write(Picture(foreign), tmp_path / "foreign.jpg")
    report = _audited(tmp_path)
    assert [p.name for p in report.strays] == ["foreign.jpg"]
    told = as_json(report, pictures_in(tmp_path))
    assert told["schema"] == "idle-lantern/frames-report/1"
    assert told["strays"] == ["foreign.jpg"]
    assert "foreign.jpg: matches nothing" in as_text(report, pictures_in(tmp_path))


def _spoilt(
    folder: Path, views: list[SurfaceView], spoil: Callable[[int, np.ndarray], np.ndarray]
) -> dict[str, list[tuple[str, float]]]:
    """Findings by file of frames whose linear light was changed by ``spoil(i, light)``."""
    _shoot(folder, [replace(view, light=spoil(i, view.light.copy())) for i, view in enumerate(views)])
    found: dict[str, list[tuple[str, float]]] = {}
    for name, what, figure in _found(folder):
        found.setdefault(name, []).append((what, figure))
    return found


def test_a_flare_that_one_frame_has_is_found(tmp_path: Path, views: list[SurfaceView]):
    """A veil of light over a tenth of the frame, additive as flare is."""
    height, width = views[0].light.shape[:2]
    v, u = np.mgrid[:height, :width]
    veil = np.exp(-(((u - 0.3 * width) / (0.12 * width)) ** 2) - ((v - 0.7 * height) / (0.12 * height)) ** 2)
    found = _spoilt(tmp_path, views, lambda i, light: light + (0.12 * veil[..., None] if i == 3 else 0))
    assert set(found) == {"f03.jpg"}
    ((what, figure),) = found["f03.jpg"]
    assert what == "flare"
    assert 0.22 < figure < 2


def test_focus_that_moved_in_one_frame_is_told_from_blur(tmp_path: Path, views: list[SurfaceView]):
    """The run is focused far, so that its near part is soft; one frame is focused near."""

    def focused(i: int, light: np.ndarray) -> np.ndarray:
        soft = cv2.GaussianBlur(light, (0, 0), 1.4)
        half = int(0.52 * len(light))
        far, near = np.s_[:half], np.s_[half:]
        light[near if i != 2 else far] = soft[near if i != 2 else far]
        return light

    found = _spoilt(tmp_path, views, focused)
    assert [what for what, _figure in found["f02.jpg"]] == ["focus"]
    assert set(found) == {"f02.jpg"}


def test_the_band_of_a_polariser_is_found_in_a_wide_clear_sky(tmp_path: Path):
    """Sky light falls by 1 - p cos^2 of the angle from the band (Malus), less so in blue, over 150 degrees of sky."""
    angles = [(-75.0 + 30 * i, 8.0, 0.0) for i in range(6)]
    height, width = CAMERA.lens.height, CAMERA.lens.width
    v, u = np.mgrid[:height, :width]
    rays = CAMERA.lens.unproject(np.stack([u, v], -1).reshape(-1, 2).astype(float))
    scene = ambrel_holm(walkers=0)
    views = []
    for a in angles:
        pose = SimulatedHead(play_deg=0.2).pointed(*a)
        azimuth, altitude = (np.degrees(x).reshape(height, width) for x in azimuth_altitude(rays @ pose.T))
        view = CAMERA.view(scene, pose)
        sky = altitude > 4
        # a sky without clouds, from which the polariser takes its share
        plain = np.stack([np.full_like(azimuth, 0.16), np.full_like(azimuth, 0.24), np.full_like(azimuth, 0.42)], -1)
        taken = 0.72 * np.cos(np.radians(np.clip(azimuth - 10, -90, 90))) ** 2
        plain *= 1 - taken[..., None] * (1.0, 0.9, 0.75)
        views.append(replace(view, light=np.where(sky[..., None], plain, view.light).astype(np.float32)))
    _shoot(tmp_path, views)
    banded = [f for f in _audited(tmp_path).findings if f.what == "polariser"]
    assert len(banded) == 1
    assert banded[0].figure > 0.7
    assert "near yaw 1" in banded[0].sentence or "near yaw 5" in banded[0].sentence
