"""The command line on a bad day: one line, the right code, and no file lost."""

from __future__ import annotations

import contextlib
import importlib
import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from PIL import Image
from tests.helpers.commands import Done, run_command
from tests.helpers.sets import FrameFiles

from idle_lantern.cli.main import main
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.join.report import SCHEMA, read_report


def _run(*words: object, cwd: Path) -> Done:
    with contextlib.chdir(cwd):
        return run_command(*words)


def _told(done: Done) -> str:
    """The last line on standard error, which has to be all there is of an error."""
    text = done.stderr
    assert "Traceback" not in text
    last = text.strip().rpartition("\n")[2]
    assert 0 < len(last) < 300
    return last


@pytest.fixture
def frames(row_set: FrameFiles, tmp_path: Path) -> list[Path]:
    for path in row_set.paths[:3]:
        shutil.copy(path, tmp_path)
    return [tmp_path / p.name for p in row_set.paths[:3]]


@pytest.mark.parametrize("way", ["frame", "same", "link", "spelling", "mask", "prior"])
def test_no_output_is_ever_an_input_or_another_output(frames: list[Path], tmp_path: Path, way: str):
    first = frames[0]
    (tmp_path / "link.json").symlink_to(first)
    (tmp_path / "masks").mkdir()
    (tmp_path / "masks" / "f00.mask.png").write_bytes(b"paint")
    (tmp_path / "prior.json").write_text('{"frames": []}')
    report = {
        "frame": first,
        "same": tmp_path / "o.jpg",
        "link": tmp_path / "link.json",
        "spelling": tmp_path / "masks" / ".." / first.name,
        "mask": tmp_path / "masks" / "f00.mask.png",
        "prior": tmp_path / "prior.json",
    }[way]
    before = {p: p.read_bytes() for p in tmp_path.rglob("*") if p.is_file() and "user" not in p.parts}
    more = ["--masks", tmp_path / "masks"] if way == "mask" else ["--prior", tmp_path / "prior.json"]
    done = _run("join", *frames, "--out", tmp_path / "o.jpg", "--report", report, *more, cwd=tmp_path)
    assert done.returncode == 2
    _told(done)
    assert {p: p.read_bytes() for p in before} == before
    assert not (tmp_path / "o.jpg").exists()
    if way == "frame":  # the other commands keep it the same way
        spec = tmp_path / "plan.json"
        spec.write_text('{"schema": "idle-lantern/plan-spec/1"}')
        for words in (["--out", spec], ["--out", "a.csv", "--card", spec], ["--out", "c.txt", "--card", "c.txt"]):
            assert _run("plan", spec, *words, cwd=tmp_path).returncode == 2
        assert spec.read_text() == '{"schema": "idle-lantern/plan-spec/1"}'


def test_a_report_that_cannot_be_written_is_told_before_the_work(frames: list[Path], tmp_path: Path):
    done = _run("join", *frames, "--out", "o.tif", "--report", "nowhere/r.json", cwd=tmp_path)
    assert done.returncode == 2
    assert done.stderr.count("does not exist") == 1, "told once"
    assert "read" not in done.stderr.splitlines()[0][:6], "before any stage began"
    assert not (tmp_path / "o.tif").exists()


def test_a_picture_of_a_pixel_is_left_out_and_told(frames: list[Path], tmp_path: Path):
    Image.new("RGB", (1, 1)).save(tmp_path / "icon.png")
    done = _run("join", tmp_path, "--out", tmp_path / "user.tif", "--report", tmp_path / "r.json", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    row = next(r for r in json.loads((tmp_path / "r.json").read_text())["frames"] if r["file"] == "icon.png")
    assert (row["used"], row["reason"]) == (False, "Is of too few pixels to be a frame.")
    assert _run("calibrate", "lens", tmp_path, cwd=tmp_path).returncode == 2  # it shows no board


@pytest.mark.parametrize("value", ["1e999", "NaN", "-Infinity"])
def test_a_report_with_numbers_beyond_all_bounds_is_refused(tmp_path: Path, value: str):
    path = tmp_path / "r.json"
    suspect = f'{{"u": {value}, "v": 1, "width": 1, "height": 1, "kind": "hole", "suspicion": 1, "frames": [], "sentence": ""}}'
    path.write_text(f'{{"schema": "{SCHEMA}", "frames": [], "suspects": [{suspect}]}}')
    with pytest.raises(InputError, match="Is no report of a join"):
        read_report(path)
    path.write_text(path.read_text().replace(value, "1"))
    assert read_report(path).suspects


def test_names_that_are_no_text_are_joined(frames: list[Path], tmp_path: Path):
    named = []
    for i, path in enumerate(frames):
        target = os.fsencode(tmp_path) + b"/caf\xe9-%d.jpg" % i
        os.rename(path, target)
        named.append(os.fsdecode(target))
    out = os.fsdecode(os.fsencode(tmp_path) + b"/caf\xe9.tif")
    # a process of its own: what it writes to its streams are bytes
    command = [sys.executable, "-m", "idle_lantern.cli.main", "join", *named, "--out", out, "--report", "r.json"]
    done = subprocess.run(command, capture_output=True, cwd=tmp_path, check=False)
    assert done.returncode == 0, done.stderr
    assert done.stdout == os.fsencode(out) + b"\n"
    assert os.path.getsize(out) > 1000
    report = json.loads((tmp_path / "r.json").read_text(encoding="utf-8"))
    assert len(report["frames"]) == 3


def test_a_link_as_target_stays_one_and_a_mode_is_kept(frames: list[Path], tmp_path: Path):
    (tmp_path / "real.jpg").write_bytes(b"old")
    (tmp_path / "real.jpg").chmod(0o600)
    (tmp_path / "o.jpg").symlink_to("real.jpg")
    assert _run("join", *frames, "--out", "o.jpg", "--report", "r.json", cwd=tmp_path).returncode == 0
    assert (tmp_path / "o.jpg").is_symlink()
    assert (tmp_path / "real.jpg").read_bytes()[:2] == b"\xff\xd8"
    assert (tmp_path / "real.jpg").stat().st_mode & 0o777 == 0o600


@pytest.mark.parametrize(
    "text",
    [
        '{"schema": "idle-lantern/plan-spec/1", "rig": {"focal_mm": 1e999}}',
        '{"schema": "idle-lantern/plan-spec/1", "rig": {"focal_mm": 1' + "0" * 400 + "}}",
        '{"schema": "idle-lantern/plan-spec/1", "target_field": {"spare_ends": 0.5}}',
        '{"schema": "idle-lantern/plan-spec/1", "exposure": {"bracket_count": 2.5}}',
        '{"schema": "idle-lantern/plan-spec/1", "site": {"start": "' + "9" * 100_000 + '"}}',
        '{"schema": "idle-lantern/plan-spec/1", "' + "k" * 100_000 + '": 1, "rig": {"' + "k" * 100_000 + '": 1}}',
        '{"schema": "idle-lantern/plan-spec/1", "scene": {"marks": [{"name": "m", "yaw_deg": "x"}]}}',
        "[" * 100_000,
    ],
)
def test_absurd_specifications_are_told_in_a_line(tmp_path: Path, text: str, capsys: pytest.CaptureFixture[str]):
    (tmp_path / "s.json").write_text(text)
    assert main(["plan", str(tmp_path / "s.json")]) == 2
    told = capsys.readouterr().err
    assert told.count("\n") == 1
    assert len(told) <= 300


@pytest.mark.parametrize("text", ["[" * 100_000, '{"frames": [{"file": "f00.jpg", "yaw_deg": 1e999, "pitch_deg": 0}]}'])
def test_absurd_directions_are_told_in_a_line(frames: list[Path], tmp_path: Path, text: str):
    (tmp_path / "p.json").write_text(text)
    done = _run("join", *frames, "--out", "o.tif", "--prior", "p.json", cwd=tmp_path)
    assert done.returncode == 2
    assert "p.json" in _told(done)


def test_arguments_of_any_length_are_told_in_a_line(tmp_path: Path):
    done = _run("join", "a.jpg", "--out", "o.tif", "--projection", "x" * 50_000, cwd=tmp_path)
    assert done.returncode == 2
    assert "projection" in _told(done)


def test_what_nobody_expected_is_logged_and_told_in_a_line(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys):
    def fails(*_a: object) -> None:
        raise ZeroDivisionError("x" * 5000)

    monkeypatch.setattr(importlib, "import_module", fails)
    assert main(["plan", "s.json"]) == 1
    told = capsys.readouterr().err
    assert told.count("\n") == 1
    assert "ZeroDivisionError" in told
    log = Path(os.environ["XDG_STATE_HOME"]) / "idle-lantern" / "idle-lantern.log"
    assert "Traceback" in log.read_text()


def test_the_campaign_finds_nothing(tmp_path: Path):
    """Small here, and of the kinds that no other test breaks; ``./lantern test --campaign 10000`` runs all of it large."""
    kinds = ("pictures", "documents", "clicks")
    done = subprocess.run(
        [sys.executable, "-m", "campaign", "1", *(word for kind in kinds for word in ("--only", kind))],
        capture_output=True,
        text=True,
        check=False,
        env=os.environ | {"PYTHONPATH": str(Path(__file__).parents[2] / "benchmarks")},
    )
    assert done.returncode == 0, done.stdout + done.stderr[-2000:]
    rows = {line[:22].strip(): line.split() for line in done.stdout.splitlines()[1:]}
    assert set(rows) == set(kinds)
