"""Folders of several runs, natural photographs with a camera's clock: one picture is joined, the others are named."""

from __future__ import annotations

import datetime
import json
from pathlib import Path
from typing import Any

import pytest
from PIL import Image
from tests.helpers.commands import run_command
from tests.reference.photographs import cut

from idle_lantern.core.geometry.lenses import Lens

LENS = Lens("rectilinear", 420, 300, 400)
_TAKEN, _EXPOSURE_S, _F_NUMBER, _ISO = 0x9003, 0x829A, 0x829D, 0x8827


def _shot(folder: Path, sweeps: list[tuple[float, list[float]]]) -> list[Path]:
    """Sweeps at so many seconds, a frame each four seconds, at one exposure."""
    paths, _cameras = cut(folder, LENS, [(yaw, 0.0, 0.0) for _s, yaws in sweeps for yaw in yaws])
    times = [begin + 4.0 * i for begin, yaws in sweeps for i in range(len(yaws))]
    for path, second in zip(paths, times, strict=True):
        with Image.open(path) as picture:
            exif = picture.getexif()
            clock = datetime.datetime(2026, 5, 14, 18, 40) + datetime.timedelta(seconds=second)
            exif.get_ifd(0x8769).update(
                {_TAKEN: clock.strftime("%Y:%m:%d %H:%M:%S"), _EXPOSURE_S: 0.004, _F_NUMBER: 8.0, _ISO: 100}
            )
            picture.load()
            picture.save(path, quality=95, exif=exif)
    return paths


def _joined(folder: Path, *more: str) -> tuple[dict[str, Any], str]:
    report = folder.parent / "r.json"
    done = run_command("join", folder, "--out", folder.parent / "o.jpg", "--report", report, "--width", "500", *more)
    assert done.returncode == 0, done.stderr
    return json.loads(report.read_text()), done.stderr


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "card").mkdir()
    return tmp_path / "card"


def test_the_same_ground_shot_again_is_another_picture(folder: Path):
    """Before, both runs were mixed into one picture, each frame of the second dropped or taken by chance."""
    paths = [p.name for p in _shot(folder, [(0, [-28, -12, 4]), (200, [-20, -4])])]
    report, told = _joined(folder)
    used = [row["file"] for row in report["frames"] if row["used"]]
    assert used == paths[:3]
    assert report["groups"] == [paths[:3], paths[3:]]
    why = {row["reason"] for row in report["frames"] if not row["used"]}
    assert why == {"Of run 2, which shows the same ground again; --run 'run 2' joins it."}
    assert f"left out 2 files, {paths[3]} to {paths[4]}: Of run 2" in told


def test_a_run_that_goes_on_after_a_pause_is_the_same_picture(folder: Path):
    paths = [p.name for p in _shot(folder, [(0, [-44, -28, -12]), (300, [4, 20, 36])])]
    report, told = _joined(folder)
    assert [row["file"] for row in report["frames"] if row["used"]] == paths
    assert "left out" not in told


def test_a_run_of_another_place_is_named(folder: Path):
    paths = [p.name for p in _shot(folder, [(0, [-44, -32]), (300, [8, 20, 32])])]
    report, _told = _joined(folder)
    assert [row["file"] for row in report["frames"] if row["used"]] == paths[2:]
    assert {row["reason"] for row in report["frames"] if not row["used"]} == {
        "Of run 1, which is a picture of another place; --run 'run 1' joins it."
    }
    # a run that there is not is refused in a sentence
    for more, words in (
        (["--run", "run 9"], "Choose one of these: run 1 (2 positions), run 2 (3 positions)"),
        (["--run", "run 1", "--no-groups"], "--no-groups looks for no runs"),
    ):
        done = run_command("join", folder, "--out", folder.parent / "none.jpg", *more)
        assert done.returncode == 2
        assert words in done.stderr
        assert not (folder.parent / "none.jpg").exists()
