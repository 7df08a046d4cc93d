"""The no-parallax point measured from pairs of the simulated camera, against where it was set."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from tests.helpers.commands import run_command

from idle_lantern.core.base.errors import InputError, JoinError
from idle_lantern.core.calibration.pupil import calibrate_pupil
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.rig import Rig
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm, upright
from idle_lantern.simulator.practice import PupilPractice
from idle_lantern.simulator.surfaces import Diorama

LENS = Lens("rectilinear", 1100, 1100, 640)
META = Metadata(focal_mm=24.0, sensor_width_mm=24.0)
TRUE_MM, NEAR_M = 81.0, 1.1
TURN_DEG = 9.0


def _with_post(near_m: float) -> Diorama:
    """The island with an upright of brick in front of the camera."""
    island = ambrel_holm(walkers=0)
    return replace(island, quads=(*island.quads, upright(near_m)))


@pytest.fixture(scope="module")
def pairs(tmp_path_factory: pytest.TempPathFactory) -> list[tuple[float, Path, Path]]:
    """Three pairs before an upright near the camera."""
    folder, scene, made = tmp_path_factory.mktemp("pupil"), _with_post(NEAR_M), []
    for rail in (60.0, 75.0, 95.0):
        camera = SimulatedCamera(LENS, 24.0, 24.0, pupil_m=(0, 0, (rail - TRUE_MM) / 1000))
        files = []
        for k, yaw in enumerate((-TURN_DEG, TURN_DEG)):
            files.append(folder / f"at{rail:g}-{k}.jpg")
            pose = SimulatedHead(play_deg=0.3).pointed(yaw, 0, 0, shot=int(rail) + k)
            write(
                camera.expose(scene, pose, CameraSettings(), seed=k),
                files[-1],
                WriteOptions(jpeg_quality=95, metadata=META),
            )
        made.append((rail, *files))
    return made


def test_three_pairs_tell_the_setting_to_a_millimetre(pairs: list[tuple[float, Path, Path]]):
    found = calibrate_pupil(pairs)
    assert found.setting_mm == pytest.approx(TRUE_MM, abs=1.0)
    assert abs(found.setting_mm - TRUE_MM) < 3 * found.sigma_mm
    # by hand: axis off by e, turned by twice the angle, a thing at distance d before ground far away
    for pair in found.pairs:
        e = (pair.rail_mm - TRUE_MM) / 1000
        turn = math.radians(TURN_DEG)
        left, right = (np.arctan2(-e * math.sin(a), NEAR_M - e * math.cos(a)) - a for a in (-turn, turn))
        plain = LENS.focal_px * (math.tan(right) - math.tan(left)) - LENS.focal_px * (math.tan(-turn) - math.tan(turn))
        # the ground stands some metres behind the thing, not at infinity, and so takes a part of it along
        assert 0.6 * abs(plain) - 0.4 < abs(pair.shift_px) < 1.1 * abs(plain) + 0.4


def test_a_tilted_row_tells_how_high_the_point_stands(tmp_path: Path):
    """The practice of the window, whose height is known; by hand: the pupil (0, -up, e) turned by the pitch stands over the axis."""
    practice = PupilPractice(Rig(focal_mm=24.0, width_px=960, height_px=640, upright=False), 1.1, 60.0, up_mm=8.0)
    level, tilted = (
        [(mm, *practice.take_pair(mm, tmp_path, pitch_deg=pitch)) for mm in settings]
        for pitch, settings in ((0.0, (50.0, 62.0)), (25.0, (52.0, 66.0)))
    )
    at = [w for mm, a, b in level for w in ("--at", f"{mm}", str(a), str(b))]
    more = [w for mm, a, b in tilted for w in ("--tilted-at", "25", f"{mm}", str(a), str(b))]
    done = run_command("calibrate", "pupil", *at, *more, "--json", tmp_path / "p.json")
    assert done.returncode == 0, done.stderr
    height = json.loads((tmp_path / "p.json").read_text())["height"]
    assert abs(height["up_mm"] - 8.0) < 3 * height["sigma_mm"] < 6.0
    assert "Lower the camera" in height["sentence"]
    # the setting that the tilted row wants, from the turned offset itself
    turned = rotations.from_yaw_pitch_roll(0, math.radians(25), 0) @ (0, -8.0, height["setting_mm"] - 60.0)
    assert turned[2] == pytest.approx(0, abs=1.2)
    done = run_command("calibrate", "pupil", *at, *(w if w != "25" else "steep" for w in more))
    assert (done.returncode, "no pitch" in done.stderr) == (2, True), done.stderr


def test_the_command_says_it_and_what_is_wrong(pairs: list[tuple[float, Path, Path]], tmp_path: Path):
    at = [text for rail, left, right in (pairs[0], pairs[2]) for text in ("--at", f"{rail:g}", str(left), str(right))]
    done = run_command("calibrate", "pupil", *at, "--json", tmp_path / "p.json")
    assert done.returncode == 0, done.stderr
    told = json.loads((tmp_path / "p.json").read_text())
    assert told["schema"] == "idle-lantern/pupil-calibration/1"
    assert told["setting_mm"] == pytest.approx(81, abs=2)
    assert [set(p) for p in told["pairs"]] == [{"rail_mm", "shift_px", "sigma_px"}] * 2
    for wrong, code, word in ((at[:4], 2, "one setting"), (["--at", "x", *at[2:]], 2, "no rail setting")):
        done = run_command("calibrate", "pupil", *wrong)
        assert done.returncode == code, done.stderr
        assert word in done.stderr


def test_what_tells_no_setting_is_said(pairs: list[tuple[float, Path, Path]]):
    with pytest.raises(InputError, match="one setting"):
        calibrate_pupil([(60.0, Path("a"), Path("b"))])
    with pytest.raises(JoinError, match=r"Nothing near|too near"):
        calibrate_pupil([(rail, left, left) for rail, left, _right in pairs[:2]])
