"""The document comes back as it was; damaged and newer ones are told and left alone."""

from __future__ import annotations

import json
import os
import time
from dataclasses import replace
from pathlib import Path

import jsonschema
import pytest
from hypothesis import HealthCheck, given, settings
from tests.helpers.outings import bring_frames
from tests.strategies import outings

from idle_lantern.core.base.errors import DocumentError, InputError
from idle_lantern.core.outing import assets, document, edits, model, schema
from idle_lantern.core.outing.index import OutingIndex
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.plan.brief import Brief, Mark
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.shoot.guide import FrameState, guide, turn_to_next


@settings(suppress_health_check=[HealthCheck.too_slow], deadline=None)
@given(outings())
def test_text_comes_back(outing: Outing):
    assert document.from_text(document.to_text(outing)) == outing


def test_a_saved_outing_opens_to_the_same_state(tmp_path: Path):
    outing = Outing("Evening", "2026-05-14T18:40", frames=(FrameRef("frames/a.jpg", 1, 3.0, 0.0, 0.0, "x"),))
    document.save(outing, tmp_path / "new" / "folder")
    assert document.load(tmp_path / "new" / "folder") == outing


@pytest.mark.parametrize(
    ("change", "sentence"),
    [
        (lambda t: t[:-20], "damaged at line"),
        (lambda t: "", "damaged at line"),
        (lambda t: "[1, 2]", "no outing document"),
        (lambda t: t.replace(f"outing/{schema.VERSION}", f"outing/{schema.VERSION + 1}"), "newer Idle Lantern"),
        (lambda t: t.replace('"overlap": 0.33', '"overlap": 7'), "impossible value: Overlap"),
        (lambda t: t.replace('"focal_mm": 20.0', '"focal_mm": 99999'), "damaged at brief/rig/focal_mm"),
        (lambda t: t.replace('"frames": []', '"frames": [{"file": 3}]'), "damaged at frames/0/file"),
        (lambda t: t.replace(f"outing/{schema.VERSION}", "outing/0"), "impossible version 0"),
        (lambda t: t.replace(f"outing/{schema.VERSION}", "outing/²"), "no outing document"),
        (lambda t: t.replace(f"outing/{schema.VERSION}", "outing/" + "9" * 5000), "newer Idle Lantern"),
        (lambda t: "[" * 100_000, "nested too deep"),
        (lambda t: t.replace('"spare_ends": 0', '"spare_ends": 0.5'), "damaged at brief/target_field/spare_ends"),
        (lambda t: t.replace('"near_m": 5.0', '"near_m": 1' + "0" * 400), "too large to be used"),
        (lambda t: t.replace('"near_m": 5.0', '"near_m": 1e999'), "too large to be used"),
        (lambda t: t.replace('"name": "A"', '"name": "\\ud800"'), "damaged at"),
        (lambda t: t.replace('"right_deg": 100.0', '"right_deg": -200.0'), "impossible value"),
    ],
)
def test_damaged_documents_are_told_and_left(tmp_path: Path, change, sentence: str):
    text = change(document.to_text(Outing("A", "2026", Brief(target_field=TargetField(overlap=0.33)))))
    (tmp_path / document.DOCUMENT).write_text(text)
    with pytest.raises(DocumentError, match=sentence) as caught:
        document.load(tmp_path)
    assert "left as it" in caught.value.sentence
    assert len(caught.value.sentence) < 300 + len(str(tmp_path))
    assert (tmp_path / document.DOCUMENT).read_text() == text


def test_a_folder_without_an_outing_is_told(tmp_path: Path):
    with pytest.raises(DocumentError, match="Holds no outing"):
        document.load(tmp_path)


@pytest.mark.parametrize(
    ("name", "changes", "kept"),
    [
        ("85 mm f/1.8", {"widest_aperture": 1.4}, ""),
        ("8 mm fisheye", {"focal_mm": 89.0}, ""),
        ("24-70 mm f/2.8", {"focal_mm": 50.0}, "24-70 mm f/2.8"),
        ("24-70 mm f/2.8", {"focal_mm": 85.0}, ""),
        ("85 mm f/1.8", {"rail_mm": 40.0}, "85 mm f/1.8"),
        ("85 mm f/1.8", {"focal_mm": 50.0, "lens_name": "50 mm f/2"}, "50 mm f/2"),
    ],
)
def test_a_lens_keeps_its_name_only_while_it_is_that_lens(name: str, changes: dict[str, float], kept: str):
    before = Outing("A", "2026", Brief(Rig(lens_name=name)))
    assert edits.set_rig("typed", **changes).apply(before).brief.rig.lens_name == kept


def test_a_camera_is_typed_in_one_number_after_the_other():
    """Sensor and pixels of 17.3 x 13 mm with 5184 x 3888 px; each number alone would not fit the others."""
    outing = Outing("A", "2026", Brief(Rig(camera="small one")))
    for key, value in (("sensor_width_mm", 17.3), ("sensor_height_mm", 13.0), ("width_px", 5184), ("height_px", 3888)):
        outing = edits.set_rig("typed", **{key: value}).apply(outing)
        assert getattr(outing.brief.rig, key) == value
    rig = outing.brief.rig
    assert (rig.sensor_width_mm, rig.sensor_height_mm, rig.width_px, rig.height_px) == (17.3, 13.0, 5184, 3888)
    assert rig.camera == ""


def test_outings_elsewhere_are_listed_while_they_are_there(tmp_path: Path):
    root, other = tmp_path / "outings", tmp_path / "stick" / "tour"
    for folder, name in ((root / "a", "At home"), (other, "On the stick")):
        document.save(Outing(name, "2026-05-14T18:40"), folder)
    listed = OutingIndex().listed(root, [other, other, tmp_path / "gone", root / "a"])
    assert sorted(s.name for s in listed) == ["At home", "On the stick"]


def test_the_published_schema_is_the_one_that_is_checked():
    """docs/formats carries what the model says."""
    formats = Path(__file__).parents[3] / "docs" / "formats"
    published = json.loads((formats / f"outing-{schema.VERSION}.schema.json").read_text(encoding="utf-8"))
    assert published == schema.json_schema()


@settings(suppress_health_check=[HealthCheck.too_slow], deadline=None, max_examples=20)
@given(outings())
def test_what_is_written_satisfies_the_published_schema(outing: Outing):
    """By jsonschema, a reference implementation of JSON Schema 2020-12."""
    _PUBLISHED.validate(json.loads(document.to_text(outing)))


#: The schema itself is checked once: that takes seconds.
_PUBLISHED = jsonschema.Draft202012Validator(schema.json_schema())


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
    outing = edits.leave_out(outing.frames[2], True).apply(outing)
    assert [r.file for r in outing.frames_to_join()] == ["a-2.jpg"]
    outing = edits.remove_frames([outing.frames[2].id]).apply(outing)
    assert outing.choices.left_out == ()


def test_leaving_out_goes_by_the_frame_and_not_by_its_name():
    """Another file of the same name changes nothing for the first."""
    outing = bring_frames(["a/f1.jpg"]).apply(Outing("A", "2026"))
    first = outing.frames[0]
    outing = edits.paint(first.id, "f1.jpg", "0" * 64).apply(edits.leave_out(first, True).apply(outing))
    outing = bring_frames(["b/f1.jpg"]).apply(outing)
    assert [r.file for r in outing.frames_to_join()] == ["b/f1.jpg"]
    assert outing.choices.mask_of(first.id) == "0" * 64
    assert outing.choices.mask_of(outing.frames[1].id) is None
    outing = edits.remove_frames([first.id]).apply(outing)
    assert (outing.choices.left_out, outing.choices.masks) == ((), ())


def test_the_same_place_is_a_share_of_the_frames_own_field():
    """600 mm on 24 x 16 mm sees 2.3 degrees: a frame one step away (1.5 degrees) is another place."""
    narrow = Brief(rig=Rig(focal_mm=600.0, upright=False), target_field=TargetField(-6, 6, -1, 1, 1 / 3))
    outing, plan = Outing("A", "2026", narrow), make_plan(narrow)
    one, two = plan.frames[0], plan.frames[1]
    assert abs(two.yaw_deg - one.yaw_deg) < 2.0
    beside = FrameRef("a.jpg", 1, two.yaw_deg, two.pitch_deg, 0.0)
    assert edits.add_frame(beside).apply(outing).shot(one) is None
    there = FrameRef("b.jpg", 1, one.yaw_deg + 0.1, one.pitch_deg, 0.0)
    assert edits.add_frame(there).apply(outing).shot(one) is there
    # the frame's own field counts, whatever the rig is now
    wide = edits.set_rig("x", focal_mm=20.0).apply(outing)
    own = replace(beside, field_deg=(2.3, 1.5))
    assert edits.add_frame(own).apply(wide).shot(one) is None


def test_high_up_a_turn_moves_a_frame_less():
    """On the sphere a degree of yaw spans its cosine: 5 degrees at 60 up are 2.5, within a tenth of a field of 30."""
    field = (30.0, 20.0)
    assert model.same_place((5.0, 60.0), (0.0, 60.0), field)
    assert not model.same_place((5.0, 0.0), (0.0, 0.0), field)
    assert not model.same_place((7.0, 60.0), (0.0, 60.0), field)
    assert model.same_place((359.0, 0.0), (1.0, 0.0), field)


def test_repeats_read_a_little_apart_are_one_place():
    """A head reads 0.04 degrees beside its last reading: still the same frame, so the last is joined."""
    outing = Outing("A", "2026")
    frame = make_plan(outing.brief).frames[0]
    for i, off in enumerate((0.0, 0.04, -0.04)):
        ref = FrameRef(f"{i}.jpg", 1, frame.yaw_deg + off, frame.pitch_deg + off, 0.0)
        outing = edits.add_frame(ref).apply(outing)
    assert [r.file for r in outing.frames_to_join()] == ["2.jpg"]


def test_names_that_are_no_text_are_refused_at_the_door(tmp_path: Path):
    odd = tmp_path / os.fsdecode(b"caf\xe9.jpg")
    with pytest.raises(InputError, match="not UTF-8"):
        document.relative(tmp_path, odd)


def test_assets_are_written_once_and_swept_when_nobody_names_them(tmp_path: Path):
    one = assets.put(tmp_path, b"one", "png")
    assert assets.put(tmp_path, b"one", "png") == one
    other = assets.put(tmp_path, b"other", "png")
    long_ago = time.time() - 30 * 86400
    for name in (one, other):
        os.utime(assets.path(tmp_path, name, "png"), (long_ago, long_ago))
    young = assets.put(tmp_path, b"young", "png")
    (tmp_path / "assets" / "notes.txt").write_text("not ours")
    assets.sweep(tmp_path, {one})
    left = {p.name for p in (tmp_path / "assets").iterdir()}
    assert left == {f"{one}.png", f"{young}.png", "notes.txt"}


def test_bringing_the_same_files_twice_adds_them_once():
    outing = bring_frames(["x.jpg", "y.jpg"]).apply(Outing("A", "2026"))
    assert len(bring_frames(["y.jpg", "z.jpg"]).apply(outing).frames) == 3


def test_turning_takes_the_short_way():
    plan = make_plan(Brief(target_field=TargetField(-180, 180, -10, 10, 0.3)))
    right, up = turn_to_next(plan.frames[-1], plan.frames[0])
    assert 0 < right < 60
    assert up == 0


def test_what_could_not_be_read_again_is_not_written(tmp_path: Path):
    """A remark on a mark with a very long name was put aside under a key that no reader took (found by 26 500 random clicks)."""
    brief = Brief(scene=replace(Brief().scene, marks=(Mark("m" * 500, 0.0, 0.0, 90.0),)))
    keys = [j.key for j in judge(make_plan(brief))]
    assert any(key.startswith("seam-on-m") for key in keys)
    document.save(replace(Outing("A", "2026", brief), put_aside=tuple(keys)), tmp_path)
    kept = (tmp_path / document.DOCUMENT).read_bytes()
    with pytest.raises(DocumentError, match="put_aside/0"):
        document.save(Outing("A", "2026", put_aside=("k" * 201,)), tmp_path)
    assert (tmp_path / document.DOCUMENT).read_bytes() == kept
