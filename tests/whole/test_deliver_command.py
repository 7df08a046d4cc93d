"""``idle-lantern deliver``: formats, the nadir covered, what is invented told below; and refusals in a sentence."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.helpers.commands import run_command

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.reading import read

WIDE, HIGH = 720, 360


@pytest.fixture
def sphere(tmp_path: Path) -> tuple[Path, Path]:
    """A whole sphere of one colour with a tripod of another one up to ten degrees from straight down, and its report."""
    pixels = np.full((HIGH, WIDE, 3), (90, 120, 70), np.uint8)
    pixels[HIGH - 20 :] = (200, 30, 180)
    write(Picture(pixels), tmp_path / "sphere.tif")
    canvas = {
        "projection": "equirectangular", "parameters": {}, "width": WIDE, "height": HIGH, "px_per_rad": WIDE / (2 * math.pi),
        "centre_px": [WIDE / 2 - 0.5, HIGH / 2 - 0.5], "rotation": np.eye(3).tolist(), "full_circle": True,
    }  # fmt: skip
    rim = {
        "u": 300,
        "v": 20,
        "width": 100,
        "height": 40,
        "kind": "invented",
        "suspicion": 1.0,
        "figure": 0.004,
        "frames": [],
    }
    (tmp_path / "r.json").write_text(json.dumps({"canvas": canvas, "suspects": [rim | {"sentence": ""}]}))
    return tmp_path / "sphere.tif", tmp_path / "r.json"


def test_the_tripod_is_blurred_and_the_rest_is_as_it_was(sphere: tuple[Path, Path], tmp_path: Path):
    picture, report = sphere
    done = run_command(
        "deliver", picture, "--report", report, "--nadir", "blur", "--nadir-deg", "12", "--out", tmp_path / "o.png"
    )
    assert (done.returncode, done.stdout) == (0, f"{tmp_path / 'o.png'}\n"), done.stderr
    before, after = (read(p).pixels.astype(int) for p in (picture, tmp_path / "o.png"))
    assert np.array_equal(before[: HIGH - 30], after[: HIGH - 30])
    assert np.abs(after[HIGH - 18 :] - before[0, 0]).max() <= 3  # the colour of what lies round it


def test_a_mark_and_a_margin_that_tells_what_is_invented(sphere: tuple[Path, Path], tmp_path: Path):
    picture, report = sphere
    Image.new("RGBA", (60, 60), (255, 255, 255, 255)).save(tmp_path / "mark.png")
    told = [
        "--report",
        report,
        "--nadir",
        tmp_path / "mark.png",
        "--nadir-deg",
        "15",
        "--tell-invented",
        "--as",
        "jpeg",
    ]
    done = run_command("deliver", picture, *told, "--out", tmp_path / "o.jpg")
    assert done.returncode == 0, done.stderr
    after = read(tmp_path / "o.jpg").pixels.astype(int)
    assert after.shape[0] > HIGH
    assert after[HIGH - 8 : HIGH - 2].min() > 230  # the mark, white
    margin = after[HIGH:]
    assert np.median(margin) > 230  # paper with words and a small picture on it
    assert margin.min() < 80


def test_without_more_it_writes_the_picture_in_another_format(sphere: tuple[Path, Path], tmp_path: Path):
    picture, _report = sphere
    assert run_command("deliver", picture, "--out", tmp_path / "o.png").returncode == 0
    assert np.array_equal(read(picture).pixels, read(tmp_path / "o.png").pixels)


@pytest.mark.parametrize(
    ("arguments", "sentence"),
    [
        (["--nadir", "blur", "--out", "o.png"], "--nadir needs the report"),
        (["--as", "png", "--out", "o.jpg"], "End it in .png"),
        (["--quality", "3", "--out", "o.jpg"], "outside 40 to 100"),
        (["--out", "sphere.tif"], "sphere.tif"),
        (["--report", "small.json", "--out", "o.jpg"], "Is of a picture of 10 x 5 pixels"),
        (["--report", "none.json", "--out", "o.jpg"], "none.json"),
        (["--report", "r.json", "--nadir", "none.png", "--out", "o.jpg"], "none.png"),
        (["--report", "r.json", "--nadir", "blur", "--nadir-deg", "80", "--out", "o.jpg"], "lies outside 1 to 45"),
        (["--out", "o.gif"], "Use .tif, .png, .jpg, .exr, .webp, .avif or .jxl"),
    ],
)
def test_what_cannot_be_is_said_in_a_sentence(
    sphere: tuple[Path, Path], tmp_path: Path, monkeypatch, arguments: list[str], sentence: str
):
    report = json.loads(sphere[1].read_text())
    (tmp_path / "small.json").write_text(json.dumps({"canvas": report["canvas"] | {"width": 10, "height": 5}}))
    monkeypatch.chdir(tmp_path)
    before = sorted(tmp_path.iterdir())
    done = run_command("deliver", "sphere.tif", *arguments)
    assert (done.returncode, sentence in done.stderr) == (2, True), done.stderr
    assert sorted(tmp_path.iterdir()) == before
