"""The document comes back as it was; damaged and newer ones are told and left alone."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from tests.strategies import outings

from idle_lantern.core.base.errors import DocumentError
from idle_lantern.core.outing import document, edits
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.shoot.guide import FrameState, guide, turn_to_next

OLD = Path(__file__).parents[2] / "old_files"


@settings(suppress_health_check=[HealthCheck.too_slow], deadline=None)
@given(outings())
def test_text_comes_back(outing: Outing):
    assert document.from_text(document.to_text(outing)) == outing


def test_a_saved_outing_opens_to_the_same_state(tmp_path: Path):
    outing = Outing("Evening", "2026-05-14T18:40", frames=(FrameRef("frames/a.jpg", 1, 3.0, 0.0, 0.0, "x"),))
    document.save(outing, tmp_path / "new" / "folder")
    assert document.load(tmp_path / "new" / "folder") == outing


def test_the_real_document_of_version_1_still_opens():
    outing = document.from_text((OLD / "outing-1.json").read_text(encoding="utf-8"))
    assert outing.name == "Ambrel Holm, evening"
    assert len(outing.frames) == 2
    assert outing.choices.left_out == ("frames/f002.jpg",)


@pytest.mark.parametrize(
    ("change", "sentence"),
    [
        (lambda t: t[:-20], "damaged at line"),
        (lambda t: "", "damaged at line"),
        (lambda t: "[1, 2]", "no outing document"),
        (lambda t: t.replace("outing/3", "outing/9"), "newer Idle Lantern"),
        (lambda t: t.replace('"overlap": 0.33', '"overlap": 7'), "damaged at brief/wish/overlap"),
        (lambda t: t.replace('"right_deg": 100.0', '"right_deg": -200.0'), "impossible value"),
        (lambda t: t.replace('"focal_mm"', '"focal_nn"'), "damaged at brief/rig"),
    ],
)
def test_damaged_documents_are_told_and_left(tmp_path: Path, change, sentence: str):
    text = change(document.to_text(Outing("A", "2026", Brief(target_field=TargetField(overlap=0.33)))))
    (tmp_path / document.DOCUMENT).write_text(text)
    with pytest.raises(DocumentError, match=sentence) as caught:
        document.load(tmp_path)
    assert "left as it" in caught.value.sentence
    assert (tmp_path / document.DOCUMENT).read_text() == text


def test_a_folder_without_an_outing_is_told(tmp_path: Path):
    with pytest.raises(DocumentError, match="Holds no outing"):
        document.load(tmp_path)


def test_documents_agree_with_the_published_schema():
    """docs/formats carries the schema that the program uses."""
    for version in range(1, document.VERSION + 1):
        name = f"outing-{version}.schema.json"
        published = Path(__file__).parents[3] / "docs" / "formats" / name
        shipped = Path(document.__file__).parent / name
        assert json.loads(published.read_text()) == json.loads(shipped.read_text())


def test_frames_inside_the_folder_are_named_relative(tmp_path: Path):
    inside, outside = tmp_path / "o" / "frames" / "a.jpg", tmp_path / "b.jpg"
    assert document.relative(tmp_path / "o", inside) == "frames/a.jpg"
    assert document.relative(tmp_path / "o", outside) == str(outside)
    assert document.resolve(tmp_path / "o", FrameRef("frames/a.jpg")) == inside


def _shot(outing: Outing, number: int, file: str) -> Outing:
    frame = make_plan(outing.brief).frame(number)
    assert frame is not None
    return edits.add_frame(FrameRef(file, number, frame.yaw_deg, frame.pitch_deg, 0.0)).apply(outing)


def test_guide_counts_what_is_missing():
    outing = Outing("A", "2026")
    plan = make_plan(outing.brief)
    outing = _shot(_shot(outing, 1, "a.jpg"), 3, "c.jpg")
    outing = edits.skip_frame(4, True).apply(outing)
    state = guide(plan, outing)
    assert state.next_number == 2
    assert state.missing == (2, 5, 6, 7)
    assert state.states[:4] == (FrameState.SHOT, FrameState.NEXT, FrameState.SHOT, FrameState.SKIPPED)
    assert edits.skip_frame(4, False).apply(outing).skipped == ()


def test_frames_shot_for_another_plan_do_not_count():
    """After the plan changed, frame 1 is another place."""
    outing = _shot(Outing("A", "2026"), 1, "a.jpg")
    changed = edits.set_target_field("x", left_deg=-60.0).apply(outing)
    assert guide(make_plan(changed.brief), changed).shot == 0
    assert guide(make_plan(outing.brief), outing).shot == 1
    assert [r.file for r in changed.frames_to_join()] == ["a.jpg"]


def test_the_last_of_repeats_is_joined_and_left_out_frames_are_not():
    outing = _shot(_shot(_shot(Outing("A", "2026"), 1, "a.jpg"), 1, "a-2.jpg"), 2, "b.jpg")
    assert [r.file for r in outing.frames_to_join()] == ["a-2.jpg", "b.jpg"]
    outing = edits.leave_out("b.jpg", True).apply(outing)
    assert [r.file for r in outing.frames_to_join()] == ["a-2.jpg"]
    outing = edits.remove_frames(["b.jpg"]).apply(outing)
    assert outing.choices.left_out == ()


def test_bringing_the_same_files_twice_adds_them_once():
    outing = edits.bring_frames(["x.jpg", "y.jpg"]).apply(Outing("A", "2026"))
    assert len(edits.bring_frames(["y.jpg", "z.jpg"]).apply(outing).frames) == 3


def test_turning_takes_the_short_way():
    plan = make_plan(Brief(target_field=TargetField(-180, 180, -10, 10, 0.3)))
    right, up = turn_to_next(plan.frames[-1], plan.frames[0])
    assert 0 < right < 60
    assert up == 0
