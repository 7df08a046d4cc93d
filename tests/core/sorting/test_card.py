"""Cards made by the simulator: runs, brackets, repeats, bookends and twins told apart as they were shot."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from idle_lantern.core.audit.settings import short_brackets
from idle_lantern.core.frames.frameset import pictures_in
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.sorting.card import Card, sort, without_twins
from idle_lantern.core.sorting.grouped import grouped
from idle_lantern.simulator.camera import SimulatedCamera
from idle_lantern.simulator.cards import CardRun, CardShot, round_sweep, write_card
from idle_lantern.simulator.diorama import ambrel_holm

CAMERA = SimulatedCamera(Lens("rectilinear", 320, 240, 360), 24.0, 18.0)


def _told(card: Card) -> dict[str, str]:
    """Role by file name."""
    told = {f.name: p.role for run in card.runs for p in run.positions for f in p.files}
    told |= {look.path.name: "bookend" for look in card.bookends}
    return told | {other.name: "twin" for _used, other in card.twins}


def _wrong(card: Card, shots: list[CardShot]) -> list[str]:
    told = _told(card)
    return [f"{s.name}: {s.role} told {told.get(s.name)}" for s in shots if told.get(s.name) != s.role]


@pytest.fixture(scope="module")
def mixed(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, list[CardShot]]:
    """Six runs on one card, 70 files."""
    folder = tmp_path_factory.mktemp("card")
    runs = [
        CardRun(round_sweep(-90, 5, 28), bookends="hand"),
        CardRun(round_sweep(-40, 3, 28), brackets_ev=(0, -2, 2), files="both", bookends="cap"),
        CardRun(round_sweep(20, 3, 26), repeats=3, play_deg=0.3),
        CardRun(round_sweep(-90, 4, 28, 10) + round_sweep(-90, 4, 28, 48), pause_s=300),
        CardRun(round_sweep(100, 3, 28), brackets_ev=(-2, 0, 2), play_deg=0.5, bookends="hand"),
        CardRun([(0, 80, 0), (90, 75, 0)], brackets_ev=(-2, 0, 2), pause_s=200),
    ]
    return folder, write_card(folder, CAMERA, runs)


def test_every_file_of_a_mixed_card_is_told_for_what_it_is(mixed: tuple[Path, list[CardShot]]):
    folder, shots = mixed
    card = sort(pictures_in(folder))
    assert _wrong(card, shots) == []
    assert [len(run.positions) for run in card.runs] == [5, 3, 3, 8, 3, 2]
    (second,) = [run for run in card.runs if run.positions[0].base.path.suffix == ".dng"]
    for position in second.positions:
        assert position.ev == pytest.approx((0, -2, 2), abs=0.05)
        assert position.chosen == 0


def test_the_jpeg_of_a_raw_can_be_chosen_instead(mixed: tuple[Path, list[CardShot]]):
    folder, _shots = mixed
    card = sort(pictures_in(folder), prefer_raw=False)
    assert len(card.twins) == 11
    assert all(used.suffix == ".jpg" and other.suffix == ".dng" for used, other in card.twins)


@pytest.mark.parametrize(
    ("names", "raw_first", "pairs"),
    [
        ("a.dng a.JPG a.heic", True, "dng>JPG dng>heic"),
        ("a.dng a.JPG a.heic", False, "JPG>heic JPG>dng"),
        ("a.heic a.jpg", True, "heic>jpg"),
        ("a.nef a.tif", False, "tif>nef"),
        ("a.jpg a.tif", True, ""),  # no camera writes these two of one exposure
        ("a.jpg b.heic", True, ""),
    ],
)
def test_what_a_camera_writes_of_one_exposure_is_one(names: str, raw_first: bool, pairs: str):
    paths = [Path(name) for name in names.split()]
    kept, twins = without_twins(paths, prefer_raw=raw_first)
    assert " ".join(f"{a.suffix[1:]}>{b.suffix[1:]}" for a, b in twins) == pairs
    assert kept == [p for p in paths if p not in {other for _used, other in twins}]


def test_brackets_are_known_without_any_metadata(tmp_path: Path):
    shots = write_card(tmp_path, CAMERA, [CardRun(round_sweep(-60, 4, 28), brackets_ev=(0, -1, 1), metadata=False)])
    card = sort(pictures_in(tmp_path))
    assert _wrong(card, shots) == []
    for position in card.runs[0].positions:
        # a quarter of an EV by what is seen alone
        assert position.ev == pytest.approx((0, -1, 1), abs=0.25)


@pytest.mark.parametrize(
    ("lost", "told", "sentence"),
    [
        ((4,), True, "2 exposures where the other brackets have 3: -2.0 EV is missing"),
        ((3,), False, "2 exposures where the other brackets have 3: the middle one is missing"),
        ((4,), False, "2 exposures where the other brackets have 3: which ones cannot be told from these"),
        ((4, 5), True, "1 exposure where the other brackets have 3: -2.0 EV, +2.0 EV are missing"),
        ((), True, ""),
    ],
)
def test_a_bracket_with_a_file_missing_is_told(lost: tuple[int, ...], told: bool, sentence: str, tmp_path: Path):
    run = CardRun(round_sweep(-60, 4, 28), brackets_ev=(0, -2, 2), metadata=told)
    shots = write_card(tmp_path, CAMERA, [run])
    for k in lost:
        (tmp_path / shots[k].name).unlink()
    positions = sort(pictures_in(tmp_path)).runs[0].positions
    assert [len(p.files) for p in positions] == [3, 3 - len(lost), 3, 3]
    assert [f.sentence for f in short_brackets(positions)] == ([sentence] if sentence else [])


def test_a_clear_sky_is_no_hand_before_the_lens(tmp_path: Path):
    clear = ambrel_holm(clouds=0)
    runs = [CardRun(round_sweep(-90, 5, 28, 45) + round_sweep(-90, 5, 28), bookends="hand")]
    shots = write_card(tmp_path, CAMERA, runs, scene=clear)
    assert _wrong(sort(pictures_in(tmp_path)), shots) == []


def test_an_automatic_exposure_makes_no_bracket_of_a_sky(tmp_path: Path):
    """Frames of a clear sky, shot quickly, each exposed by the camera as it liked: every one is a place of its own."""
    clear = ambrel_holm(clouds=0)
    runs = [
        CardRun([angles], exposure_s=2.0 ** (-8 + 0.5 * (k % 3)), step_s=1.5, pause_s=0.1)
        for k, angles in enumerate(round_sweep(-20, 6, 28, 52))
    ]
    shots = write_card(tmp_path, CAMERA, runs, scene=clear)
    assert _wrong(sort(pictures_in(tmp_path)), shots) == []


def test_of_repeats_the_sharpest_stands_for_the_place(tmp_path: Path):
    write_card(tmp_path, CAMERA, [CardRun([(0, 0, 0)], repeats=3), CardRun([(40, 0, 0)], repeats=3)])
    first = sorted(tmp_path.glob("*.jpg"))[:3]
    soft = replace(CAMERA, shake_px=(3.0, 0.0))
    other = tmp_path / "other"
    other.mkdir()
    write_card(other, soft, [CardRun([(0, 0, 0)], repeats=3)])
    for path, blurred in zip((first[0], first[2]), sorted(other.glob("*.jpg"))):
        with Image.open(path) as sharp, Image.open(blurred) as image:
            exif = sharp.info["exif"]  # as bytes: what is read later comes from a file that is being written
            image.load()
        image.save(path, quality=93, exif=exif)
    positions = sort(sorted(tmp_path.glob("*.jpg"))).runs[0].positions
    assert [p.role for p in positions] == ["repeat", "repeat"]
    assert positions[0].base.path == first[1]


def test_what_cannot_be_read_is_named_and_the_rest_goes_on(tmp_path: Path):
    write_card(tmp_path, CAMERA, [CardRun(round_sweep(0, 3, 28))])
    (tmp_path / "IL_0900.nef").write_bytes(b"half a file")
    (tmp_path / "IL_0901.jpg").write_bytes(b"")
    card = sort(pictures_in(tmp_path))
    assert [len(run.positions) for run in card.runs] == [3]
    assert {Path(e.where).name for e in card.unreadable} == {"IL_0900.nef", "IL_0901.jpg"}


def test_plain_frames_are_left_as_they_are(tmp_path: Path):
    """One exposure in all files: nothing to group, and a join pays nothing for it."""
    write_card(tmp_path, CAMERA, [CardRun(round_sweep(0, 3, 28))])
    paths = pictures_in(tmp_path)
    assert grouped(paths).positions is None
    Image.fromarray(np.zeros((40, 60, 3), np.uint8)).save(tmp_path / "plain.png")
    assert grouped([*paths, tmp_path / "plain.png"]).positions is not None


def test_brackets_of_nothing_but_sky_are_told_by_their_pattern(tmp_path: Path):
    """Four positions of clear sky, five exposures each: no look tells them apart, the exposures that go round do."""
    runs = [CardRun([(-30.0 + 28 * i, 70.0, 0.0) for i in range(4)], brackets_ev=(0.0, -2.0, 2.0, -4.0, 4.0))]
    shots = write_card(tmp_path, CAMERA, runs)
    card = sort(pictures_in(tmp_path))
    positions = [p for run in card.runs for p in run.positions]
    assert [[f.name for f in p.files] for p in positions] == [
        [s.name for s in shots[i : i + 5]] for i in range(0, 20, 5)
    ]
    assert {p.role for p in positions} == {"bracket"}
    assert {p.ev for p in positions} == {(0.0, -2.0, 2.0, -4.0, 4.0)}
