"""The gear library: kept, handed on, brought in, refused when it must be."""

from __future__ import annotations

import datetime
import json
import sqlite3
from contextlib import closing
from dataclasses import asdict
from pathlib import Path

import pytest

from idle_lantern.core.base.errors import DocumentError, InputError
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.gear.entries import (
    Camera,
    Entry,
    Head,
    LensEntry,
    RailFound,
    entry_from,
    facts_of,
    from_frame,
    taken_over,
)
from idle_lantern.core.gear.library import GENERIC, Library
from idle_lantern.core.plan.brief import Brief, Run
from idle_lantern.core.plan.cost import PastJoin
from idle_lantern.core.plan.planner import make_plan


@pytest.fixture
def library(tmp_path: Path) -> Library:
    return Library(tmp_path / "data" / "gear.sqlite")


def test_a_new_library_holds_the_generic_things_and_every_one_can_be_planned_with(library: Library):
    assert {(e.kind, e.name) for e in library.entries()} == {(e.kind, e.name) for e in GENERIC}
    for entry in library.entries():
        plan = make_plan(taken_over(Brief(), entry))
        assert plan.frames


def test_entries_are_kept_replaced_and_removed(library: Library):
    library.put(Entry("camera", "Mine", Camera(17.3, 13.0, 5184, 3888)))
    again = Library(library.path)
    assert again.get("camera", "Mine").facts.width_px == 5184
    library.put(Entry("camera", "Mine", Camera(17.3, 13.0, 4000, 3000)))
    assert again.get("camera", "Mine").facts.width_px == 4000
    library.remove("camera", "Mine")
    assert again.get("camera", "Mine") is None


def test_the_list_goes_out_and_comes_into_another_library(library: Library, tmp_path: Path):
    library.put(Entry("lens", "Zoom", LensEntry("rectilinear", 24, 70, 4, 22, rail=((24.0, 80.0), (70.0, 95.0)))))
    other = Library(tmp_path / "other.sqlite")
    assert other.take_text(library.to_text()) == len(library.entries())
    assert other.get("lens", "Zoom") == library.get("lens", "Zoom")


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("{", "Is not JSON"),
        ('{"schema": "x"}', "no gear list"),
        ('{"schema": "idle-lantern/gear/1", "entries": [{"kind": "camera"}]}', "without kind, name or facts"),
        (
            '{"schema": "idle-lantern/gear/1", "entries": [{"kind": "boat", "name": "a", "facts": {}}]}',
            "no kind of gear",
        ),
        (
            '{"schema": "idle-lantern/gear/1", "entries": [{"kind": "camera", "name": "a", "facts": {"speed": 1}}]}',
            "unknown fact",
        ),
        (
            '{"schema": "idle-lantern/gear/1", "entries": [{"kind": "camera", "name": "a", "facts": {"width_px": -4}}]}',
            "between 100",
        ),
        (
            '{"schema": "idle-lantern/gear/1", "entries": [{"kind": "lens", "name": "a", "facts": {"rail": [[1]]}}]}',
            "wrong kind",
        ),
    ],
)
def test_bad_lists_change_nothing(library: Library, text: str, sentence: str):
    before = library.entries()
    with pytest.raises(InputError, match=sentence):
        library.take_text(text)
    assert library.entries() == before


def test_one_bad_entry_among_good_ones_changes_nothing(library: Library):
    good = {"kind": "card", "name": "Big", "facts": {"capacity_gb": 512}}
    bad = {"kind": "card", "name": "Broken", "facts": {"capacity_gb": -1}}
    with pytest.raises(InputError, match="Broken"):
        library.take_text(json.dumps({"schema": "idle-lantern/gear/1", "entries": [good, bad]}))
    assert library.get("card", "Big") is None


def test_a_damaged_file_is_told_and_left(tmp_path: Path):
    path = tmp_path / "gear.sqlite"
    path.write_bytes(b"this is no database at all" * 50)
    with pytest.raises(DocumentError, match="was left as it is"):
        Library(path)
    assert path.read_bytes().startswith(b"this is no database")


def _read_all(path: Path) -> None:
    library = Library(path)
    library.entries()
    library.past_joins()


@pytest.mark.parametrize(
    ("damage", "error"),
    [
        ("DROP TABLE entries", DocumentError),
        ("INSERT INTO entries VALUES ('lens', CAST(x'ff' AS TEXT), '{}')", DocumentError),
        ("ALTER TABLE joins RENAME COLUMN peak_mib TO other", DocumentError),
        # SQLite's own words then hold bytes that are no text
        ("PRAGMA writable_schema = ON; UPDATE sqlite_master SET sql = CAST(x'43d0' AS TEXT)", DocumentError),
        ("", InputError),  # another program writes
    ],
)
def test_what_is_wrong_with_the_file_is_told_as_it_is(library: Library, damage: str, error: type, monkeypatch):
    monkeypatch.setattr("idle_lantern.core.gear.library._PATIENCE_S", 0.01)
    with closing(sqlite3.connect(library.path)) as db:
        db.executescript(damage or "BEGIN EXCLUSIVE")
        with pytest.raises(error, match="damaged" if damage else "try again"):
            _read_all(library.path)


def test_a_newer_file_is_told_and_left(library: Library):
    with sqlite3.connect(library.path) as db:
        db.execute("PRAGMA user_version = 99")
    with pytest.raises(DocumentError, match="newer Idle Lantern"):
        Library(library.path)


def test_past_joins_newest_first(library: Library):
    for seconds in (10.0, 20.0):
        library.add_join(PastJoin(8, 48, 30, seconds, 800))
    assert [p.seconds for p in library.past_joins()] == [20.0, 10.0]


def test_rail_settings_between_known_focal_lengths():
    lens = LensEntry("rectilinear", 24, 70, 4, 22, rail=((24.0, 80.0), (70.0, 96.0)), rail_doubt_mm=2)
    assert lens.rail_at(24) == (80.0, 2.0)
    setting, doubt = lens.rail_at(47)
    assert setting == pytest.approx(88)
    assert doubt > 2
    assert lens.rail_at(100)[0] == 96
    assert lens.rail_at(100)[1] > lens.rail_at(70)[1]
    assert LensEntry().rail_at(50) is None


def test_taking_a_lens_over_looks_the_rail_up_and_keeps_the_aperture_possible():
    lens = Entry("lens", "Zoom", LensEntry("rectilinear", 24, 70, 4, 16, rail=((24.0, 80.0),)))
    brief = taken_over(Brief(), lens)
    assert brief.rig.focal_mm == 24  # 20 mm lies below its range
    assert brief.rig.rail_mm == 80
    assert brief.rig.lens_name == "Zoom"
    assert 4 <= brief.exposure.aperture <= 16


def test_a_head_brings_its_stops():
    brief = taken_over(Brief(), Entry("head", "Clicks", Head("head", 15, 10, False)))
    assert (brief.support.step_deg, brief.support.tilt_step_deg, brief.support.scale_clockwise) == (15, 10, False)


def test_camera_and_lens_from_a_frame():
    """35 mm equivalent by the diagonal: 43.27 mm / crop factor."""
    told = Metadata(focal_mm=20, focal_35mm=30, aperture=5.6, camera="Body X", lens="Lens Y")
    camera, lens = from_frame(told, 4000, 6000, 25_000_000)
    assert camera.name == "Body X"
    assert camera.facts.sensor_width_mm == pytest.approx(24, abs=0.05)
    assert (camera.facts.width_px, camera.facts.height_px) == (6000, 4000)
    assert camera.facts.raw_mb == 25
    assert lens.facts.shortest_mm == 20
    with pytest.raises(InputError, match="neither"):
        from_frame(Metadata(), 100, 100, 1)


@pytest.mark.parametrize(
    ("kind", "name", "facts", "sentence"),
    [
        ("camera", "", {}, "1 to 80 characters"),
        ("lens", "a", {"shortest_mm": 50, "longest_mm": 24}, "Longest focal length"),
        ("lens", "a", {"widest_aperture": "x"}, "must be a number"),
        ("head", "a", {"kind": "kite"}, "Use one of"),
        ("card", "a", 7, "must be an object"),
    ],
)
def test_impossible_entries_are_refused(kind: str, name: str, facts: object, sentence: str):
    with pytest.raises(InputError, match=sentence):
        entry_from(kind, name, facts)


def test_generic_names_are_unique():
    assert len({(e.kind, e.name) for e in GENERIC}) == len(GENERIC)
    assert all(asdict(e.facts) for e in GENERIC)


@pytest.mark.parametrize("entry", GENERIC, ids=lambda e: e.name)
def test_every_thing_changes_the_brief_it_is_taken_into(entry: Entry):
    """Nothing of the library is for show: another one of its kind makes another plan."""
    others = [e for e in GENERIC if e.kind == entry.kind and e != entry]
    before = taken_over(Brief(run=Run(card_gb=8)), others[0]) if others else Brief(run=Run(card_gb=8))
    assert taken_over(before, entry) != before


def test_a_rail_setting_is_doubted_on_another_body_and_when_it_is_old():
    """Common practice, no source: plates are changed and rails get a knock."""
    today = datetime.date(2026, 5, 14)
    lens = LensEntry(
        "rectilinear", 24, 70, 4, 22, rail=((24.0, 80.0), (70.0, 96.0)), rail_found=(RailFound(24.0, 0.6, "2026-03-01", "Body A"),)
    )  # fmt: skip
    fresh = lens.rail_known(24.0, "Body A", today)
    assert fresh is not None
    assert (fresh.setting_mm, fresh.doubt_mm) == (80.0, 0.6)
    assert fresh.words == "found on 2026-03-01 with Body A"
    other = lens.rail_known(24.0, "Body B", today)
    assert other is not None
    assert other.doubt_mm >= 4
    assert "another body" in other.words
    old = lens.rail_known(24.0, "Body A", datetime.date(2028, 1, 1))
    assert old is not None
    assert old.doubt_mm >= 2
    assert "measure it again" in old.words
    between = lens.rail_known(47.0, "Body A", today)
    assert between is not None
    assert between.setting_mm == pytest.approx(88)
    assert between.doubt_mm > fresh.doubt_mm
    typed = LensEntry("rectilinear", 24, 70, 4, 22, rail=((24.0, 80.0),)).rail_known(24.0, "", today)
    assert typed is not None
    assert typed.words == ""
    with pytest.raises(InputError):
        RailFound(24.0, 0.6, "last year")
    # kept and read again
    entry = Entry("lens", "Zoom", lens)
    assert entry_from("lens", "Zoom", facts_of(entry)) == entry
