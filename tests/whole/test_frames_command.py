"""``idle-lantern frames`` and a join of a card as it comes, as a person runs them."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import OpenEXR
import pytest
from tests.helpers.commands import run_command

from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.simulator.camera import SimulatedCamera
from idle_lantern.simulator.cards import CardRun, CardShot, round_sweep, write_card
from idle_lantern.simulator.truth import registration_error_px

LENS = Lens("rectilinear", 640, 480, 680)


@pytest.fixture(scope="module")
def card(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, list[CardShot]]:
    """One hand-held run of four brackets of three, raw and JPEG, between two hands."""
    folder = tmp_path_factory.mktemp("card")
    run = CardRun(round_sweep(-42, 4, 28), brackets_ev=(0, -2, 2), files="both", bookends="hand", play_deg=0.15)
    return folder, write_card(folder, SimulatedCamera(LENS, 24.0, 18.0), [run])


def test_a_card_is_sorted_for_people_and_for_programs(card: tuple[Path, list[CardShot]], tmp_path: Path):
    folder, shots = card
    done = run_command("frames", folder, "--json", tmp_path / "r.json")
    assert done.returncode == 0, done.stderr
    assert done.stdout == f"{tmp_path / 'r.json'}\n"
    told = json.loads((tmp_path / "r.json").read_text())
    (run,) = told["runs"]
    assert [p["role"] for p in run["positions"]] == ["bracket"] * 4
    assert [p["ev"] for p in run["positions"]] == [pytest.approx([0, -2, 2], abs=0.1)] * 4
    assert sorted(told["bookends"]) == sorted(s.name for s in shots if s.role == "bookend")
    assert len(told["twins"]) == 14
    # where a neighbour's rim fell, it seemed darker than it is, and sharp and clean frames had a veil
    assert told["findings"] == []
    words = run_command("frames", folder)
    assert "4 brackets" in words.stdout
    assert "2 bookends" in words.stdout


def test_a_card_joins_to_the_picture_one_wants(card: tuple[Path, list[CardShot]], tmp_path: Path):
    """Raw, brackets, twins and bookends: every file is named for what it was used, positions lie where they were shot."""
    folder, shots = card
    done = run_command("join", folder, "--out", tmp_path / "o.tif", "--report", tmp_path / "r.json")
    assert done.returncode == 0, done.stderr
    report = json.loads((tmp_path / "r.json").read_text())
    roles = {row["file"]: row["role"] for row in report["frames"]}
    assert len(roles) == len(shots)
    bases = [row for row in report["frames"] if row["role"] == "base"]
    assert [row["position"] for row in bases] == ["p01", "p02", "p03", "p04"]
    truth = {s.name: s.camera for s in shots}
    lenses = [Lens(**row["lens"], width=row["width"], height=row["height"]) for row in bases]
    errors = registration_error_px(
        LENS, [truth[row["file"]] for row in bases], lenses, [np.array(row["pose"]["rotation"]) for row in bases]
    )
    assert float(np.sqrt((errors**2).mean())) < 0.3
    assert all(row["used"] and row["ev"] in (-2.0, 2.0) for row in report["frames"] if row["role"] == "bracket")
    assert not any(row["used"] for row in report["frames"] if row["role"] in ("twin", "bookend"))
    assert "merged to linear light" in done.stderr


@pytest.mark.parametrize(
    ("arguments", "code", "words"),
    [
        (["frames", "{none}"], 2, "missing"),
        (["frames", "{empty}"], 2, "no picture"),
        (["frames", "{bad}"], 2, "damaged"),
        (["frames", "{folder}", "--json", "{first}"], 2, "files that are read"),
        (["join", "{folder}", "--out", "{out}", "--develop", "{first}"], 2, ""),
    ],
)
def test_bad_input_gets_one_sentence(
    card: tuple[Path, list[CardShot]], tmp_path: Path, arguments: list[str], code: int, words: str
):
    folder, shots = card
    (tmp_path / "empty").mkdir()
    (tmp_path / "bad").mkdir()
    (tmp_path / "bad" / "x.nef").write_bytes(b"nothing")
    places = {
        "none": tmp_path / "none", "empty": tmp_path / "empty", "bad": tmp_path / "bad", "folder": folder,
        "first": folder / shots[0].name, "out": tmp_path / "o.jpg",
    }  # fmt: skip
    before = (folder / shots[0].name).read_bytes()
    done = run_command(*(a.format(**places) for a in arguments))
    assert done.returncode == code, done.stderr
    assert words in done.stderr
    assert len([line for line in done.stderr.splitlines() if "%" not in line and line.strip()]) == 1
    assert (folder / shots[0].name).read_bytes() == before
    assert not (tmp_path / "o.jpg").exists()


def test_a_merged_set_joins_to_light_beyond_white(tmp_path: Path):
    """The middle exposure is full where the darker one is not: OpenEXR holds what was there, TIFF the curve of it."""
    folder = tmp_path / "card"
    folder.mkdir()
    lens = Lens("rectilinear", 400, 300, 400)
    run = CardRun(round_sweep(-75, 2, 28), brackets_ev=(0, -3), exposure_s=1 / 64)
    write_card(folder, SimulatedCamera(lens, 24.0, 18.0), [run])
    done = run_command("join", folder, "--out", tmp_path / "o.exr", "--report", tmp_path / "r.json")
    assert done.returncode == 0, done.stderr
    assert "EV above white" in done.stderr
    channels = OpenEXR.File(str(tmp_path / "o.exr"), separate_channels=True).channels()
    report = json.loads((tmp_path / "r.json").read_text())
    assert channels["G"].pixels.shape == (report["canvas"]["height"], report["canvas"]["width"])
    assert 1.5 < float(np.percentile(channels["G"].pixels, 98)) < 8
