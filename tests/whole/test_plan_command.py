"""``idle-lantern plan``: the same plan as the window's, as text, CSV and JSON; bad specifications are told."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import pytest

from idle_lantern.cli.main import main
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

SPEC = {
    "schema": "idle-lantern/plan-spec/1",
    "rig": {"focal_mm": 35, "upright": False},
    "target_field": {"left_deg": -70, "right_deg": 60, "low_deg": -20, "high_deg": 30, "overlap": 0.3},
}


@pytest.fixture
def spec(tmp_path: Path) -> Path:
    path = tmp_path / "spec.json"
    path.write_text(json.dumps(SPEC))
    return path


def test_json_and_csv_hold_the_plan(spec: Path, tmp_path: Path):
    expected = make_plan(Brief(Rig(focal_mm=35, upright=False), TargetField(-70, 60, -20, 30, 0.3)))
    assert main(["plan", str(spec), "--out", str(tmp_path / "p.json")]) == 0
    plan = json.loads((tmp_path / "p.json").read_text())
    assert plan["schema"] == "idle-lantern/plan/1"
    assert [f["yaw_deg"] for f in plan["frames"]] == [f.yaw_deg for f in expected.frames]
    assert plan["coverage"]["complete"]
    assert plan["joined"]["width_px"] == expected.size.width_px
    assert sum(r["frames"] for r in plan["rows"]) == len(plan["frames"])
    assert main(["plan", str(spec), "--out", str(tmp_path / "p.csv")]) == 0
    with open(tmp_path / "p.csv", newline="") as stream:
        rows = list(csv.DictReader(stream))
    assert [float(r["pitch_deg"]) for r in rows] == [f.pitch_deg for f in expected.frames]


def test_without_a_target_the_angles_are_printed(spec: Path, capsys: pytest.CaptureFixture[str]):
    assert main(["plan", str(spec)]) == 0
    assert capsys.readouterr().out.startswith("frame  row")


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("{", "Is not JSON"),
        ("[]", "no plan specification"),
        ('{"schema": "idle-lantern/plan-spec/1", "rig": {"focal": 3}}', "unknown field 'focal'"),
        ('{"schema": "idle-lantern/plan-spec/1", "rig": {"focal_mm": "x"}}', "must be a number"),
        ('{"schema": "idle-lantern/plan-spec/1", "target_field": {"overlap": 3}}', "between 5 % and 80 %"),
        ('{"schema": "idle-lantern/plan-spec/1", "target_field": 7}', "must be an object"),
    ],
)
def test_bad_specifications_end_with_two(tmp_path: Path, capsys: pytest.CaptureFixture[str], text: str, sentence: str):
    path = tmp_path / "bad.json"
    path.write_text(text)
    assert main(["plan", str(path)]) == 2
    told = capsys.readouterr().err
    assert sentence in told
    assert "bad.json" in told


def test_unknown_ending_and_missing_file(spec: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]):
    assert main(["plan", str(spec), "--out", str(tmp_path / "p.xls")]) == 2
    assert main(["plan", str(tmp_path / "none.json")]) == 2
    assert "none.json" in capsys.readouterr().err
