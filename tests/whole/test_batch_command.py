"""``idle-lantern batch``: folders, a card of two runs and an outing; failures told, done work not done again, stopped and gone on."""

from __future__ import annotations

import csv
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.helpers.commands import run_command
from tests.helpers.outings import bring_frames
from tests.reference.photographs import cut
from tests.whole.test_several_runs import LENS, _shot

from idle_lantern.core.outing import document, edits
from idle_lantern.core.outing.model import Outing

YAWS = (-24.0, -10.0, 4.0)


@pytest.fixture(scope="module")
def season(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Folders as they come home: one that joins, a card of two places, one that shares nothing, a damaged one, one picture, none twice."""
    root = tmp_path_factory.mktemp("season")
    for name in ("bay", "card", "far apart", "broken", "single", "empty", "empty too"):
        (root / name).mkdir()
    cut(root / "bay", LENS, [(yaw, 0.0, 0.0) for yaw in YAWS])
    _shot(root / "card", [(0, [-44, -32]), (300, [8, 20, 32])])
    cut(root / "far apart", LENS, [(-50.0, 0.0, 0.0), (50.0, 0.0, 0.0)])
    for k in range(3):
        (root / "broken" / f"b{k}.jpg").write_bytes(b"\xff\xd8 no picture")
    cut(root / "single", LENS, [(0.0, 0.0, 0.0)])
    return root


def test_a_season_is_joined_and_what_cannot_be_is_told(season: Path, tmp_path: Path):
    out, table = tmp_path / "out", tmp_path / "t.json"
    asked = ["batch", season, "--preset", "web", "--out", out, "--json", table]
    done = run_command(*asked, "--csv", tmp_path / "t.csv", "--html", tmp_path / "t.html")
    assert done.returncode == 1, done.stderr
    rows = json.loads(table.read_text())["rows"]
    assert [set(row) for row in rows] == [{"folder", "run", "state", "out", "why"}] * len(rows)
    by = {(Path(row["folder"]).name, row["run"]): row for row in rows}
    good = {key for key, row in by.items() if row["state"] != "failed"}
    assert good == {("bay", ""), ("card", ""), ("card", "run 1")}, rows
    assert by["bay", ""]["state"] == "delivered", by["bay", ""]
    for key in good:
        with Image.open(by[key]["out"]) as image:
            assert image.format == "JPEG"
            assert image.size[0] > 400
        assert Path(by[key]["out"]).with_suffix("").with_suffix(".report.json").is_file()
    assert by["single", ""]["why"].startswith("There is one picture only")
    assert by["empty", ""]["why"] == by["empty too", ""]["why"] == "There is no picture in it."
    for name in ("far apart", "broken"):
        assert by[name, ""]["state"] == "failed"
        assert len(by[name, ""]["why"]) > 20
    with (tmp_path / "t.csv").open(newline="") as table_file:
        assert list(csv.DictReader(table_file)) == rows
    page = (tmp_path / "t.html").read_text()
    assert page.count("<img") == 3
    assert page.count('class="failed"') == 5
    assert "delivered" in done.stdout
    assert "far apart" in done.stdout

    # once more: nothing is done again, not even what failed
    before = {p.name: p.stat().st_mtime_ns for p in out.iterdir()}
    begun = time.process_time(), os.times().children_user
    again = run_command(*asked)
    assert again.returncode == 1
    assert json.loads(table.read_text())["rows"] == rows
    assert os.times().children_user == begun[1], "no command was run"
    assert {n: t for n, t in before.items() if n != "batch.json"} == {
        p.name: p.stat().st_mtime_ns for p in out.iterdir() if p.name != "batch.json"
    }
    # by another preset it is done anew
    run_command("batch", season / "bay", "--preset", "archive", "--out", out)
    assert (out / "bay.tif").is_file()


def test_an_outing_is_joined_by_its_own_choices(season: Path, tmp_path: Path):
    """Its projection, its shape and the frame it leaves out: the same pixels as from its frames by the same options."""
    folder, paths = tmp_path / "outing", sorted((season / "bay").glob("*.jpg"))
    outing = bring_frames([str(path) for path in paths]).apply(Outing("Bay", "2026-05-14T18:40"))
    for edit in (edits.choose("", projection="stereographic"), edits.compose("", ratio=(2.0, 1.0))):
        outing = edit.apply(outing)
    outing = edits.switch_off(outing.frames[2], off=True).apply(outing)
    document.save(outing, folder)
    one, other = tmp_path / "one.png", tmp_path / "other.png"
    assert run_command("join", folder, "--out", one).returncode == 0
    asked = ["join", *paths, "--off", paths[2].name, "--projection", "stereographic", "--crop", "2:1"]
    assert run_command(*asked, "--out", other).returncode == 0
    np.testing.assert_array_equal(np.asarray(Image.open(one)), np.asarray(Image.open(other)))
    refused = run_command("join", folder, "--out", other, "--width", "900")
    assert refused.returncode == 2
    assert "--width cannot be given beside it" in refused.stderr
    run_command("batch", folder, "--preset", "web", "--out", tmp_path / "out")
    with Image.open(tmp_path / "out" / "outing.jpg") as image:
        assert image.width == pytest.approx(2 * image.height, abs=1)
    told = json.loads((tmp_path / "out" / "outing.report.json").read_text())
    assert told["canvas"]["projection"] == "stereographic"


def test_stopped_it_leaves_nothing_half_written_and_goes_on(season: Path, tmp_path: Path):
    out = tmp_path / "out"
    command = [
        sys.executable,
        "-m",
        "idle_lantern.cli.main",
        "batch",
        str(season / "bay"),
        "--preset",
        "web",
        "--out",
        str(out),
    ]
    running = subprocess.Popen(command, stderr=subprocess.PIPE, text=True, start_new_session=True)
    while not list(out.glob(".batch-*")):
        time.sleep(0.02)
    time.sleep(0.3)
    running.send_signal(signal.SIGTERM)
    _out, told = running.communicate(timeout=60)
    assert running.returncode == 130
    assert "Stopped" in told
    assert [p.name for p in out.iterdir()] in ([], ["batch.json"])
    done = run_command("batch", season / "bay", "--preset", "web", "--out", out)
    assert done.returncode in (0, 1)
    assert (out / "bay.jpg").is_file()


def test_what_is_no_folder_is_refused(season: Path, tmp_path: Path):
    for path, why in ((season / "none", "Is missing"), (next((season / "bay").glob("*.jpg")), "takes folders")):
        done = run_command("batch", path, "--out", tmp_path / "o")
        assert done.returncode == 2
        assert why in done.stderr
    done = run_command("batch", season / "bay", "--preset", "none such", "--out", tmp_path / "o")
    assert done.returncode == 2
    assert "There is no preset" in done.stderr
