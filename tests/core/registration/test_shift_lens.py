"""Sets of a shift lens: translations on the sensor plane, solved to a few hundredths of a pixel against the simulator."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from tests.helpers.commands import run_command

from idle_lantern.core.base.progress import SILENT
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve import shift_lens
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm

LENS = Lens("rectilinear", 900, 600, 420, k1=-0.02)
#: Where the lens's axis falls on the frame, from its middle, in pixels.
SHIFTS = ((-240.0, 0.0), (0.0, 6.5), (240.3, -0.4), (-120.0, 150.25), (130.7, 149.0))


@pytest.fixture(scope="module")
def shifted(tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    folder = tmp_path_factory.mktemp("shifted")
    pose = SimulatedHead(play_deg=0).pointed(18, 4, 0)
    paths = []
    for k, (x, y) in enumerate(SHIFTS):
        camera = SimulatedCamera(replace(LENS, cx=x, cy=y), 36.0, 24.0)
        meta = Metadata(focal_mm=36.0, sensor_width_mm=24.0)
        paths.append(folder / f"s{k}.jpg")
        write(camera.expose(ambrel_holm(walkers=0), pose, CameraSettings(), seed=k), paths[-1], WriteOptions(jpeg_quality=95, metadata=meta))  # fmt: skip
    return paths


def _joined(paths: list[Path], folder: Path, *more: str) -> dict:
    done = run_command("join", *paths, "--shift-lens", "--out", folder / "p.tif", "--report", folder / "r.json", *more)
    assert done.returncode == 0, done.stderr
    return json.loads((folder / "r.json").read_text())


def test_frames_of_a_shift_lens_lie_on_each_other(shifted: list[Path], tmp_path: Path):
    report = _joined(shifted, tmp_path)
    found = np.array([(f["lens"]["cx"], f["lens"]["cy"]) for f in report["frames"]])
    truth = np.array(SHIFTS)
    apart = (found - found[0]) - (truth - truth[0])
    assert np.abs(apart).max() < 0.05
    assert all(f["pose"]["yaw_deg"] == 0 and f["used"] for f in report["frames"])
    assert {f["lens"]["focal_px"] for f in report["frames"]} == {900}
    assert report["canvas"]["projection"] == "rectilinear"
    # as wide as the sensor positions together
    assert report["canvas"]["width"] == pytest.approx(600 + 480.3, abs=4)


def test_turned_frames_are_no_shifted_ones(shifted: list[Path], tmp_path: Path, row_set):
    done = run_command("join", shifted[0], row_set.paths[7], "--shift-lens", "--out", tmp_path / "p.tif")
    assert done.returncode == 3
    assert "by a shift alone" in done.stderr


def test_a_frame_whose_points_contradict_each_other_does_not_hang_in_the_air(row_set, monkeypatch):
    """Half of a link's points moved one way, half the other: none is left after the first round, and there was no equation for it."""
    rng = np.random.default_rng(1)
    at = rng.uniform(50, 400, (40, 2))
    plain = [Link(0, 1, at, at + np.array([30, 0])), Link(1, 2, at, at + np.array([28, 4]))]
    torn = at + np.where(np.arange(40) % 2, 20.0, -20.0)[:, None] * np.array([1, 0])
    fine = [replace(plain[0], inlier=np.ones(40, bool)), replace(plain[1], points_b=torn, inlier=np.ones(40, bool))]
    monkeypatch.setattr(shift_lens, "registered_links", lambda *a, **k: fine)
    frames = gather(row_set.paths[:3])
    poses, _links, groups = shift_lens.solve_shifts(
        frames, DecodedFrames(frames.infos, 0), [], plain, 0.7, JoinOptions(), rng, SILENT
    )
    assert poses.frames == (0, 1, 2)
    assert groups[0] == [0, 1, 2]
    assert np.isfinite([lens.cx for lens in poses.lenses]).all()
