"""``idle-lantern join`` as a process: report, exit codes and messages of the join contract."""

from __future__ import annotations

import io
import json
import math
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import cv2
import numpy as np
import pytest
from PIL import Image, ImageCms
from tests.helpers.commands import Done, run_command
from tests.helpers.sets import FrameFiles

from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry import rotations

COMMAND = [sys.executable, "-m", "idle_lantern.cli.main", "join"]


def _run(*arguments: object) -> Done:
    return run_command("join", *arguments)


def test_report_holds_what_the_contract_says(row_set: FrameFiles, tmp_path: Path):
    out, path = tmp_path / "o.tif", tmp_path / "r.json"
    done = _run(*row_set.paths[:4], "--out", out, "--projection", "cylindrical", "--width", 900, "--report", path)
    assert done.returncode == 0
    assert done.stdout.strip() == str(out)
    assert "blend" in done.stderr
    report = json.loads(path.read_text())
    assert report["schema"] == "idle-lantern/join-report/1"
    assert [f["file"] for f in report["frames"]] == [p.name for p in row_set.paths[:4]]
    frame = report["frames"][2]
    assert (frame["used"], frame["reason"], frame["placed_by"]) == (True, None, "features")
    assert (frame["width"], frame["height"]) == (480, 680)
    assert set(frame["lens"]) == {"model", "focal_px", "k1", "k2", "k3", "cx", "cy"}
    rotation = np.array(frame["pose"]["rotation"])
    np.testing.assert_allclose(rotation @ rotation.T, np.eye(3), atol=1e-9)
    assert math.degrees(math.atan2(rotation[0, 2], rotation[2, 2])) == pytest.approx(frame["pose"]["yaw_deg"])
    assert len(frame["gain"]) == 3
    assert 0 < frame["sigma_deg"] < 0.1
    assert report["groups"] == [[p.name for p in row_set.paths[:4]]]
    assert all(set(k) == {"a", "b", "matches", "inliers", "rms_px"} for k in report["links"])
    canvas = report["canvas"]
    assert (canvas["projection"], canvas["width"]) == ("cylindrical", 900)
    picture = read(out)
    assert (picture.width, picture.height) == (900, canvas["height"])
    assert picture.alpha is not None
    needed = {"read", "features", "match", "adjust", "warp", "seams", "blend", "write"}
    assert needed <= set(report["timings_s"])
    assert report["peak_rss_mib"] > 50
    # the picture lies where the report says (contract, "Canvas"): what a frame shows in its middle stands there
    scale = canvas["px_per_rad"] / frame["lens"]["focal_px"]
    for row, path in zip(report["frames"], row_set.paths):
        x, y, z = np.array(canvas["rotation"]) @ np.array(row["pose"]["rotation"])[:, 2]
        u = canvas["centre_px"][0] + canvas["px_per_rad"] * math.atan2(x, z)
        v = canvas["centre_px"][1] + canvas["px_per_rad"] * y / math.hypot(x, z)
        there = picture.pixels[round(v) - 12 : round(v) + 13, round(u) - 12 : round(u) + 13].astype(float)
        shown = read(path).pixels.astype(np.float32)
        shown = cv2.resize(shown, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA)
        cy, cx = (s // 2 for s in shown.shape[:2])
        here = shown[cy - 12 : cy + 13, cx - 12 : cx + 13]
        likeness = np.corrcoef(there.mean(-1).ravel(), here.mean(-1).ravel())[0, 1]
        assert likeness > 0.9, path.name


def test_crop_leaves_no_gap(row_set: FrameFiles, tmp_path: Path):
    done = _run(*row_set.paths[:4], "--out", tmp_path / "o.png", "--crop", "largest", "--report", tmp_path / "r.json")
    assert done.returncode == 0
    picture, report = read(tmp_path / "o.png"), json.loads((tmp_path / "r.json").read_text())
    assert picture.alpha is None
    assert (picture.width, picture.height) == (report["canvas"]["width"], report["canvas"]["height"])
    assert report["crop"]["ratio"] is None


def test_ratio_level_and_profile_are_as_asked(row_set: FrameFiles, tmp_path: Path):
    """A 3:2 picture in Display P3, turned by some degrees; its colours are those of the same picture in sRGB."""
    common = [*row_set.paths[:2], "--projection", "cylindrical"]
    done = _run(*common, "--out", tmp_path / "a.png", "--report", tmp_path / "a.json", "--crop", "3:2")
    assert done.returncode == 0, done.stderr
    picture, report = read(tmp_path / "a.png"), json.loads((tmp_path / "a.json").read_text())
    assert picture.alpha is None
    assert picture.width == pytest.approx(1.5 * picture.height, abs=1.5)
    assert (report["crop"]["width"], report["crop"]["height"]) == (picture.width, picture.height)
    assert report["crop"]["ratio"] == 1.5
    done = _run(
        *common, "--out", tmp_path / "b.png", "--report", tmp_path / "b.json", "--crop", "3:2", "--profile", "p3"
    )
    assert done.returncode == 0, done.stderr
    assert json.loads((tmp_path / "b.json").read_text())["profile"] == "Display P3"
    with Image.open(tmp_path / "b.png") as wide, Image.open(tmp_path / "a.png") as plain:
        profile = ImageCms.ImageCmsProfile(io.BytesIO(wide.info["icc_profile"]))
        back = ImageCms.profileToProfile(wide, profile, ImageCms.createProfile("sRGB"))
        apart = np.abs(np.asarray(back.convert("RGB")).astype(int) - np.asarray(plain.convert("RGB")))
    assert np.median(apart) <= 1
    assert np.quantile(apart, 0.99) <= 6
    for level, turn in (("10,-3,2", (10, -3, 2)),):
        done = _run(*common, "--out", tmp_path / "c.png", "--report", tmp_path / "c.json", "--level", level)
        assert done.returncode == 0, done.stderr
        told = json.loads((tmp_path / "c.json").read_text())["frames"][0]["pose"]["rotation"]
        upright = np.array(report["frames"][0]["pose"]["rotation"])
        wanted = rotations.from_yaw_pitch_roll(*np.radians(turn)) @ upright
        np.testing.assert_allclose(told, wanted, atol=1e-6)
    done = _run(*common, "--out", tmp_path / "d.png", "--report", tmp_path / "d.json", "--level", "none")
    assert np.allclose(
        json.loads((tmp_path / "d.json").read_text())["frames"][0]["pose"]["rotation"], np.eye(3), atol=1e-9
    )


@pytest.mark.parametrize(
    ("option", "value", "word"),
    [
        ("--crop", "wide", "no crop"),
        ("--crop", "0:1", "no crop"),
        ("--level", "1,2", "no level"),
        ("--profile", "nowhere.icc", "nowhere.icc"),
    ],
)
def test_what_cannot_be_asked_is_said(row_set: FrameFiles, tmp_path: Path, option: str, value: str, word: str):
    done = _run(*row_set.paths[:2], "--out", tmp_path / "o.png", option, value)
    assert done.returncode == 2
    assert word in done.stderr


@pytest.mark.parametrize(
    ("names", "code", "sentence"),
    [
        (["good.jpg", "missing.jpg"], 2, "missing.jpg: Is missing"),
        (["good.jpg", "zero.jpg"], 2, "zero.jpg: Is empty"),
        (["good.jpg", "text.jpg"], 2, "text.jpg: Is damaged or not a picture"),
        (["good.jpg", "moving.gif"], 2, "moving.gif: Is a GIF picture"),
        (["good.jpg", "good.jpg"], 2, "given twice"),
        (["good.jpg"], 3, "One frame alone makes no panorama"),
        (["good.jpg", "copy.jpg"], 3, "all show the same view as"),
        (["plain.jpg", "other.jpg"], 3, "enough detail"),
        (["good.jpg", "plain.jpg"], 3, "No two frames match"),
    ],
)
def test_what_cannot_be_joined_is_told(row_set: FrameFiles, tmp_path: Path, names: list[str], code: int, sentence: str):
    (tmp_path / "good.jpg").write_bytes(row_set.paths[0].read_bytes())
    (tmp_path / "copy.jpg").write_bytes(row_set.paths[0].read_bytes())
    (tmp_path / "zero.jpg").write_bytes(b"")
    (tmp_path / "text.jpg").write_text("words")
    Image.new("RGB", (40, 40)).save(tmp_path / "moving.gif")
    Image.new("RGB", (400, 300), "gray").save(tmp_path / "plain.jpg")
    Image.new("RGB", (400, 300), "silver").save(tmp_path / "other.jpg")
    out, report = tmp_path / "o.tif", tmp_path / "r.json"
    done = _run(*[tmp_path / n for n in names], "--out", out, "--report", report)
    assert done.returncode == code, done.stderr
    assert sentence in done.stderr
    assert not out.exists()
    assert done.stdout == ""
    assert sentence in json.loads(report.read_text())["error"]


@pytest.mark.parametrize(
    ("extra", "sentence"),
    [
        (["--out", "o.bmp"], "no picture ending"),
        (["--out", "nowhere/o.tif"], "folder does not exist"),
        (["--out", "o.tif", "--width", "3"], "makes no picture"),
        (["--out", "o.tif", "--projection", "sinusoidal"], "invalid choice"),
        (["--out", "o.tif", "--prior", "none.json"], "none.json"),
        ([], "--out"),
    ],
)
def test_bad_arguments_end_with_two(row_set: FrameFiles, tmp_path: Path, extra: list[str], sentence: str):
    done = subprocess.run(
        [*COMMAND, *map(str, row_set.paths[:2]), *extra], capture_output=True, text=True, cwd=tmp_path, check=False
    )
    assert done.returncode == 2
    assert sentence in done.stderr


def test_a_frame_is_never_overwritten(row_set: FrameFiles, tmp_path: Path):
    path = tmp_path / "a.jpg"
    path.write_bytes(row_set.paths[0].read_bytes())
    done = _run(path, row_set.paths[1], "--out", path)
    assert done.returncode == 2
    assert "Is one of the files that are read" in done.stderr
    assert path.read_bytes() == row_set.paths[0].read_bytes()


def test_read_only_target_is_told_before_the_work(row_set: FrameFiles, tmp_path: Path):
    if os.geteuid() == 0:
        pytest.skip("root may write everywhere")
    folder = tmp_path / "locked"
    folder.mkdir(mode=0o500)
    done = _run(*row_set.paths[:2], "--out", folder / "o.tif")
    assert done.returncode == 2
    assert "read-only" in done.stderr


def test_an_interrupted_run_leaves_no_output(row_set: FrameFiles, tmp_path: Path):
    """Ctrl+C; the campaign of bad days tries it at any moment."""
    out = tmp_path / "o.tif"
    # what runs in the background ignores Ctrl + C, and so would all that it begins
    hears = "import signal, sys; signal.signal(signal.SIGINT, signal.default_int_handler)\n"
    code = f"{hears}from idle_lantern.cli.main import main\nsys.exit(main())"
    words = ["join", *map(str, row_set.paths[:4]), "--out", str(out), "--width", "7000"]
    arguments = [sys.executable, "-c", code, *words]
    with subprocess.Popen(arguments, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as process:
        assert process.stderr is not None
        end = time.monotonic() + 120
        for line in process.stderr:
            if "features" in line or time.monotonic() > end:
                break
        process.send_signal(signal.SIGINT)
        rest = process.stderr.read()
        assert process.wait(30) == 130, rest
    assert "nothing was written" in rest
    assert list(tmp_path.glob("*.tif")) == []
    assert list(tmp_path.glob(".*.tif")) == []


def test_prior_turns_the_picture_as_planned(row_set: FrameFiles, tmp_path: Path):
    from idle_lantern.core.registration.solve.prior import prior_text

    paths = row_set.paths[:3]
    plan = tmp_path / "plan.json"
    plan.write_text(prior_text([p.name for p in paths], [(10.0 + 28 * i, 5.0, 0.0) for i in range(3)]))
    done = _run(*paths, "--out", tmp_path / "o.jpg", "--prior", plan, "--report", tmp_path / "r.json")
    assert done.returncode == 0
    pitch = [f["pose"]["pitch_deg"] for f in json.loads((tmp_path / "r.json").read_text())["frames"]]
    np.testing.assert_allclose(np.mean(pitch), 5.0, atol=0.8)
