"""Brackets fused, merged and laid on each other: against OpenCV, against known light, against a known turn."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
import rawpy

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import LINEAR, SRGB
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import probe, read
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.merging.aligning import on_base, unmoved
from idle_lantern.core.merging.development import Development, read_development
from idle_lantern.core.merging.fusion import fuse
from idle_lantern.core.merging.prepared import ExposureSet, needs_preparing, prepare
from idle_lantern.core.merging.radiance import merge
from idle_lantern.core.merging.recipe import BracketExposure, Recipe
from idle_lantern.core.merging.temperature import gains_for, grey_at, light_of, red_over_blue
from idle_lantern.simulator.camera import SCENE_EV, CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.cards import CardRun, write_card
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.raw_files import NEUTRAL, write_dng

LENS = Lens("rectilinear", 500, 480, 360)
CAMERA = SimulatedCamera(LENS, 24.0, 24.0 * 480 / 500)
STEPS = (0.0, -2.0, 2.0)


def _exposed(ev: float, pose: np.ndarray | None = None, seed: int = 0) -> Picture:
    view = CAMERA.view(ambrel_holm(walkers=0), np.eye(3) if pose is None else pose)
    return CAMERA.develop(view, CameraSettings(exposure_s=2.0**ev / 256), seed=seed)


@pytest.fixture(scope="module")
def bracket() -> list[Picture]:
    return [_exposed(ev, seed=i) for i, ev in enumerate(STEPS)]


@pytest.fixture(scope="module")
def light() -> np.ndarray:
    """What the bracket was made of, one where the middle exposure is full."""
    gain = 2.0 ** (SCENE_EV - CameraSettings().exposure_value)
    return CAMERA.view(ambrel_holm(walkers=0), np.eye(3)).light * gain


def test_fusion_is_that_of_opencv(bracket: list[Picture]):
    """Mertens 2007 as cv2.createMergeMertens has it, all three weights on."""
    theirs = cv2.createMergeMertens(1.0, 1.0, 1.0).process([p.pixels for p in bracket])
    ours = fuse(bracket).pixels / 65535
    assert np.abs(ours - np.clip(theirs, 0, 1)).mean() < 5e-4
    assert fuse(bracket[:1]) is bracket[0]


def test_the_merge_is_the_light_it_was_made_of(bracket: list[Picture], light: np.ndarray):
    """Median within one per cent, nineteen of twenty within three."""
    off = np.abs(merge(bracket, STEPS) / np.maximum(light, 1e-4) - 1)
    assert np.median(off) < 0.01
    assert np.percentile(off, 95) < 0.03


def test_where_all_exposures_are_full_the_darkest_says_at_least():
    white = [Picture(np.full((8, 8, 3), 255, np.uint8)) for _ in range(2)]
    assert merge(white, (0.0, -2.0)) == pytest.approx(4.0)
    black = [Picture(np.zeros((8, 8, 3), np.uint8)) for _ in range(2)]
    assert merge(black, (0.0, -2.0)).max() == 0


@pytest.mark.parametrize("white", [1.0, 2.0, 4.0, 32.0])
def test_the_curve_keeps_grey_reaches_white_and_is_undone(white: float):
    space = SRGB.up_to(white)
    grey = float(space.from_linear(np.asarray(0.18)))
    assert grey == pytest.approx(float(SRGB.from_linear(np.asarray(0.18))), abs=1e-3)
    assert float(space.from_linear(np.asarray(white))) == pytest.approx(1, abs=1e-6)
    values = np.repeat(np.geomspace(0.01, white, 200).astype(np.float32)[:, None, None], 3, 2)
    shown = Picture.of_light(values, space)
    assert np.all(np.diff(shown.pixels.astype(int), axis=0) > 0)
    assert shown.light() == pytest.approx(values, rel=2e-3)


def test_a_hand_held_exposure_is_laid_on_its_base(bracket: list[Picture]):
    """A turn of known angles is found again to a third of a pixel; a still camera's frames are not touched."""
    turn = SimulatedHead().pointed(0.6, -0.4, 0.5)
    other = _exposed(-2.0, turn, seed=4)
    laid = on_base(bracket[0], other, LENS.focal_px)
    assert laid.found
    assert laid.moved_px > 3
    true = _exposed(-2.0, seed=5).pixels.astype(float)
    inner = np.s_[20:-20, 20:-20]
    assert (
        np.abs(laid.picture.pixels[inner] - true[inner]).mean()
        < 1.1 * np.abs(_shifted(true, 0.33)[inner] - true[inner]).mean() + 2
    )
    still = on_base(bracket[0], bracket[1], LENS.focal_px)
    assert still.picture is bracket[1]
    flat = Picture(np.full((360, 480, 3), 255, np.uint8))
    assert not on_base(bracket[0], flat, LENS.focal_px).found


def _shifted(pixels: np.ndarray, by: float) -> np.ndarray:
    return cv2.warpAffine(pixels, np.array([[1, 0, by], [0, 1, 0]]), pixels.shape[1::-1], flags=cv2.INTER_CUBIC)


def test_what_moved_is_taken_from_the_base(bracket: list[Picture], light: np.ndarray):
    walker = bracket[1].pixels.copy()
    walker[150:230, 200:240] = 3
    other = replace(bracket[1], pixels=walker)
    laid = [on_base(bracket[0], p, LENS.focal_px) for p in (other, bracket[2])]
    weights = unmoved(bracket[0], laid, STEPS[1:])
    assert weights[0] is not None
    assert weights[0][190, 220] < 0.05
    made = merge([bracket[0], *(one.picture for one in laid)], STEPS, [None, *weights])
    inside = np.s_[155:225, 205:235]
    assert np.median(np.abs(made[inside] / np.maximum(light[inside], 1e-4) - 1)) < 0.02


# --- development -------------------------------------------------------------------------------


def test_a_development_moves_what_it_says(tmp_path: Path):
    ramp = Picture(np.repeat(np.arange(256, dtype=np.uint8)[None, :, None], 3, -1))
    assert Development().applied(ramp) is ramp
    # one EV more doubles linear light (IEC 61966-2-1)
    brighter = Development(exposure_ev=1.0).applied(ramp).pixels[0, 100, 0] / 65535
    assert brighter == pytest.approx(
        float(SRGB.from_linear(np.asarray(2 * ((100 / 255 + 0.055) / 1.055) ** 2.4))), abs=1e-3
    )
    lifted = Development(shadows=1.0).applied(ramp).pixels[0, :, 0].astype(int)
    assert lifted[0] == 0
    assert lifted[255] == 65535
    assert lifted[60] > 60 * 257
    assert np.all(np.diff(Development(shadows=1, highlights=-1).applied(ramp).pixels[0, :, 0].astype(int)) >= 0)
    path = tmp_path / "d.json"
    path.write_text(json.dumps({"exposure_ev": 0.5, "white_balance": [1.1, 1, 0.9], "clipped": "rebuild"}))
    assert read_development(path) == Development(0.5, (1.1, 1.0, 0.9), clipped="rebuild")
    for wrong, word in (
        ({"exposure_ev": 9}, "exposure_ev"),
        ({"clarity": 1}, "clarity"),
        ({"white_balance": [1, 2]}, "three"),
    ):
        path.write_text(json.dumps(wrong))
        with pytest.raises(InputError, match=word):
            read_development(path)


# --- making ready ------------------------------------------------------------------------------


def test_raw_frames_get_one_white_balance_whatever_the_camera_set(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    """Left on automatic, the camera told another neutral in one file; all are developed by the middle of them."""
    grey = np.full((64, 96, 3), 0.3, np.float32)
    for k, red in enumerate((NEUTRAL[0], NEUTRAL[0], 0.4)):
        monkeypatch.setattr("idle_lantern.simulator.raw_files.NEUTRAL", NEUTRAL)
        write_dng(tmp_path / f"r{k}.dng", grey, Metadata())
        if red != NEUTRAL[0]:
            _retold(tmp_path / f"r{k}.dng", red)
    infos = [probe(tmp_path / f"r{k}.dng") for k in range(3)]
    with rawpy.imread(str(tmp_path / "r2.dng")) as other:
        assert other.camera_whitebalance[0] / other.camera_whitebalance[1] == pytest.approx(2.5, rel=0.01)
    ready = prepare([ExposureSet(i) for i in infos], Recipe(), tmp_path / "kept")
    means = [read(i.path).pixels.reshape(-1, 3).mean(0) for i in ready.infos]
    assert np.ptp(means, axis=0).max() < 30
    assert means[0] == pytest.approx(float(SRGB.from_linear(np.asarray(0.3))) * 65535, rel=0.01)
    assert "white balance red 2.00" in ready.told[0]


def _retold(path: Path, red: float) -> None:
    """Another as-shot neutral (DNG tag 50728) in place."""
    import tifffile

    with tifffile.TiffFile(path, mode="r+b") as tiff:
        tiff.pages[0].tags[50728].overwrite((round(red * 1000), 1000, 1000, 1000, 625, 1000))


def test_brackets_are_made_ready_once_and_by_content(tmp_path: Path, light: np.ndarray):
    write_card(tmp_path, replace(CAMERA, noise=True), [CardRun([(0, 0, 0)], brackets_ev=STEPS)])
    paths = sorted(tmp_path.glob("*.jpg"))
    place = ExposureSet(probe(paths[0]), tuple(BracketExposure(p, ev) for p, ev in zip(paths[1:], STEPS[1:])))
    assert needs_preparing([place], Recipe())
    assert not needs_preparing([place], Recipe("base"))
    ready = prepare([place], Recipe(), tmp_path / "kept")
    (info,) = ready.infos
    made = info.path.stat().st_ino
    assert (info.width, info.height, info.bits) == (480, 360, 16)
    back = replace(read(info.path), space=info.space).light()
    off = np.abs(back / np.maximum(np.minimum(light, info.space.transfer.white), 1e-3) - 1)
    assert np.median(off) < 0.02
    again = prepare([place], Recipe(), tmp_path / "kept").infos[0]
    assert again.path == info.path
    renamed = paths[0].rename(tmp_path / "other.jpg")
    same = prepare([replace(place, base=probe(renamed))], Recipe(), tmp_path / "kept").infos[0]
    assert same.path == info.path
    assert same.path.stat().st_ino == made, "it was not written again"
    fused = prepare([replace(place, base=probe(renamed))], Recipe("fuse"), tmp_path / "kept").infos[0]
    assert fused.path != info.path
    assert not np.array_equal(read(fused.path).pixels, read(info.path).pixels)


def test_repeats_averaged_have_less_noise_by_the_root_of_their_number_and_stay_sharp(tmp_path: Path):
    """The mean of n independent readings spreads by 1 / sqrt(n); hand-held repeats are laid on each other first."""
    noisy = CameraSettings(iso=6400, exposure_s=1 / 256 / 64)
    scene = ambrel_holm(walkers=0)
    head = SimulatedHead(play_deg=0.15)
    paths = []
    for i in range(5):
        pose = head.pointed(10, -4, 0, shot=i)
        path = tmp_path / f"r{i}.png"
        write(
            CAMERA.expose(scene, pose, noisy, seed=i),
            path,
            WriteOptions(metadata=Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 480 / 500)),
        )
        paths.append(path)
    truth = replace(CAMERA, noise=False).expose(scene, head.pointed(10, -4, 0, shot=0), noisy).pixels.astype(float)
    soft = tmp_path / "soft.png"
    pixels = cv2.GaussianBlur(read(paths[1]).pixels, (0, 0), 2.0)
    write(Picture(pixels), soft, WriteOptions(metadata=Metadata(focal_mm=24.0)))
    others = tuple(BracketExposure(p, kind="repeat") for p in (*paths[1:4], soft))
    place = ExposureSet(probe(paths[0]), others)
    assert not needs_preparing([place], Recipe())
    made = prepare([place], Recipe(repeats="stack"), tmp_path / "kept")
    stacked = read(made.infos[0].path).pixels / 257
    grey = truth.mean(2).astype(np.float32)
    smooth = cv2.dilate(np.hypot(cv2.Sobel(grey, 5, 1, 0), cv2.Sobel(grey, 5, 0, 1)), np.ones((5, 5))) < 30
    smooth[:20] = smooth[-20:] = smooth[:, :20] = smooth[:, -20:] = False
    assert smooth.mean() > 0.02
    noise = [float(np.std((p - truth)[smooth])) for p in (read(paths[0]).pixels.astype(float), stacked)]
    assert noise[1] == pytest.approx(noise[0] / 2, rel=0.15), "four of five: the soft one is left out"
    assert "averaged" in made.told[0]
    # no softer than a single frame: edges are as steep as those of the truth
    edges = [
        float(np.quantile(np.abs(cv2.Sobel(p.mean(2).astype(np.float32), 5, 1, 0)), 0.99)) for p in (truth, stacked)
    ]
    assert edges[1] > 0.93 * edges[0]


def test_white_balance_by_kelvin_goes_there_and_back():
    """A light of 5500 K is daylight: nothing changes; higher ones raise red."""
    assert gains_for(5500.0) == pytest.approx((1, 1, 1))
    for kelvin, tint in ((3000.0, 0.0), (4200.0, -0.4), (8000.0, 0.3)):
        assert light_of(gains_for(kelvin, tint)) == (pytest.approx(kelvin, rel=1e-3), pytest.approx(tint, abs=5e-3))
    red, _green, blue = gains_for(7500.0)
    assert red > 1 > blue
    # developed for lamp light, lamp light is as grey as daylight was
    lamp = gains_for(3000.0)
    assert math.log2(lamp[0] / lamp[2]) == pytest.approx(red_over_blue(5500) - red_over_blue(3000))
    grey = grey_at((0.4, 0.2, 0.1), (1, 1, 1))
    assert np.ptp(np.array(grey) * (0.4, 0.2, 0.1)) < 1e-9


def test_each_exposure_counts_by_the_light_it_gathered():
    """Of Poisson light the variance of ``value / exposure`` falls with the exposure: the mean weighted by it has the least there can be.

    Inverse-variance weighting, e.g. Hasinoff, Durand and Freeman (2010), section 3.
    """
    rng, electrons, linear = np.random.default_rng(5), 20_000.0, replace(SRGB, transfer=LINEAR)
    ways, light = (0.0, -3.0), 0.4
    taken = [rng.poisson(light * 2.0**ev * electrons, (300, 300, 3)) / electrons for ev in ways]
    made = merge([Picture(np.rint(t * 65535).astype(np.uint16), space=linear) for t in taken], ways)
    variances = [light * 2.0**-ev / electrons for ev in ways]
    least = 1 / sum(1 / v for v in variances)
    assert made.mean() == pytest.approx(light, rel=1e-3)
    assert made.var() == pytest.approx(least, rel=0.03)
    assert least < 0.45 * np.mean(variances) / 2, "a plain mean would be far from it"
    # what is neither nearly full nor noise counts alike, whatever its value; what is full or noise counts for nothing
    of = [Picture(np.full((4, 4, 3), round(v * 65535), np.uint16), space=linear) for v in (0.8, 0.3, 1.0, 0.0)]
    assert merge(of[:2], (0.0, 0.0)) == pytest.approx(0.55, abs=1e-4)
    assert merge([of[1], of[2], of[3]], (0.0, 0.0, 0.0)) == pytest.approx(0.3, abs=1e-4)
    # light that the short exposure alone tells counts in full
    assert merge([of[2], of[1]], (0.0, -3.0)) == pytest.approx(0.3 * 8, abs=1e-3)
    # where no exposure may count, dark places are told by the brightest and bright ones by the darkest
    none = [np.zeros((4, 4), np.float32)] * 2
    assert merge([of[1], of[1]], (1.0, -1.0), none) == pytest.approx(0.3 / 2, abs=1e-4)
    assert merge([of[0], of[0]], (1.0, -1.0), none) == pytest.approx(0.8 * 2, abs=1e-4)
