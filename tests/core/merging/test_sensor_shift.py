"""Sensor-shift series of the simulated camera: told from repeats, and combined to more than any of their frames shows."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import probe, read
from idle_lantern.core.frames.series import finer, steps_of
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.merging.prepared import ExposureSet, prepare
from idle_lantern.core.merging.recipe import BracketExposure, Recipe
from idle_lantern.core.merging.sensor_shift import combined
from idle_lantern.core.sorting.card import sort
from idle_lantern.simulator.camera import SCENE_EV, CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.raw_files import write_dng

LENS = Lens("rectilinear", 340, 320, 240)
#: Where the picture lies against the first frame, in the order of the exposures.
WHOLE = ((0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0))
HALF = tuple((x + dx, y + dy) for dx, dy in ((0, 0), (0.5, 0), (0.5, 0.5), (0, 0.5)) for x, y in WHOLE)
META = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 320 / 340, exposure_s=1 / 256, aperture=8.0, iso=100.0)


def _light(step: tuple[float, float], scale: int = 1) -> np.ndarray:
    """What falls on the sensor when the picture lies ``step`` right and down; ``scale`` times as fine."""
    lens = replace(LENS.scaled(scale), width=320 * scale, height=240 * scale)
    # pixel (x, y) of the frame lies at (scale x, scale y) of the finer one
    half = (scale - 1) / 2
    lens = replace(lens, cx=step[0] * scale - half, cy=step[1] * scale - half)
    camera = SimulatedCamera(lens, 24.0, 24.0 * 320 / 340)
    gain = 2.0 ** (SCENE_EV - CameraSettings().exposure_value)
    return camera.view(ambrel_holm(walkers=0), SimulatedHead(play_deg=0).pointed(14, -6, 0)).light * gain


def _raws(folder: Path, steps: tuple[tuple[float, float], ...]) -> list[Path]:
    paths = []
    for k, step in enumerate(steps):
        rng = np.random.default_rng(k)
        paths.append(folder / f"s{k:02d}.dng")
        write_dng(paths[-1], np.clip(_light(step) + rng.normal(0, 0.002, (240, 320, 3)), 0, 1), META)
    return paths


def _miss(picture: np.ndarray, truth: np.ndarray) -> float:
    """Root of the mean square miss in display values of 255, a rim left out."""
    shown = SRGB.from_linear(np.clip(truth, 0, 1)) * 255
    return float(np.sqrt(((picture[12:-12, 12:-12] - shown[12:-12, 12:-12]) ** 2).mean()))


def test_four_raw_frames_give_every_pixel_its_own_colours(tmp_path: Path):
    paths = _raws(tmp_path, WHOLE)
    assert steps_of(paths) == WHOLE
    assert finer(WHOLE) == 1
    truth = _light((0.0, 0.0))
    single = _miss(read(paths[0]).pixels / 257, truth)
    together = _miss(combined(paths, WHOLE).pixels / 257, truth)
    assert together < 0.55 * single, "nothing is guessed from neighbours any more"
    place = ExposureSet(probe(paths[0]), tuple(BracketExposure(p, 0.0, "sensor-shift") for p in paths[1:]))
    made = prepare([place], Recipe(), tmp_path / "kept")
    assert "series of 1 position" in made.told[1]
    assert (made.infos[0].width, made.infos[0].height) == (320, 240)


def test_sixteen_frames_by_halves_fill_a_grid_twice_as_fine(tmp_path: Path):
    paths = []
    for k, step in enumerate(HALF):
        paths.append(tmp_path / f"s{k:02d}.png")
        write(Picture(np.rint(SRGB.from_linear(np.clip(_light(step), 0, 1)) * 65535).astype(np.uint16)), paths[-1], WriteOptions(metadata=META))  # fmt: skip
    assert steps_of(paths) == HALF
    made = combined(paths, HALF)
    assert (made.width, made.height) == (640, 480)
    truth = _light((0.0, 0.0), 2)
    enlarged = cv2.resize(read(paths[0]).pixels, (640, 480), interpolation=cv2.INTER_CUBIC) / 257
    enlarged = cv2.warpAffine(enlarged, np.array([[1, 0, -0.5], [0, 1, -0.5]]), (640, 480))
    assert _miss(made.pixels / 257, truth) < 0.8 * _miss(enlarged, truth)
    place = ExposureSet(probe(paths[0]), tuple(BracketExposure(p, 0.0, "sensor-shift") for p in paths[1:]))
    info = prepare([place], Recipe(), tmp_path / "kept").infos[0]
    assert (info.width, info.height) == (640, 480)
    assert info.metadata.focal_px(info.width, info.height) == pytest.approx(680, rel=1e-3)


def test_what_moved_meanwhile_is_taken_from_one_exposure(tmp_path: Path):
    paths = []
    for k, step in enumerate(WHOLE):
        light = _light(step)
        if k in (1, 2):
            light[80:160, 80:150] = 0.6  # somebody in white walks past
        paths.append(tmp_path / f"s{k}.png")
        write(Picture(np.rint(SRGB.from_linear(np.clip(light, 0, 1)) * 65535).astype(np.uint16)), paths[-1], WriteOptions(metadata=META))  # fmt: skip
    made = SRGB.to_linear(combined(paths, WHOLE).pixels / 65535)
    truth = _light((0.0, 0.0))
    assert np.abs(made - np.clip(truth, 0, 1))[90:150, 90:140].mean() < 0.02


def test_series_and_repeats_on_a_card_are_told_apart(tmp_path: Path):
    folder = tmp_path / "card"
    folder.mkdir()
    _raws(folder, WHOLE)
    for k in range(4):
        write_dng(folder / f"t{k}.dng", np.clip(_light((0.0, 0.0)) + np.random.default_rng(k).normal(0, 0.002, (240, 320, 3)), 0, 1), META)  # fmt: skip
    # the two are one place: by themselves they are one group of eight repeats; each alone is told
    for prefix, role in (("s", "sensor-shift"), ("t", "repeat")):
        card = sort(sorted(folder.glob(f"{prefix}*.dng")))
        assert [p.role for run in card.runs for p in run.positions] == [role]
