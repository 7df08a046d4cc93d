"""The document comes back as it was; damaged and newer ones are told and left alone."""

from __future__ import annotations

import json
import math
import os
import shutil
import time
from dataclasses import replace
from pathlib import Path

import jsonschema
import pytest
from hypothesis import HealthCheck, given, settings
from tests.helpers.outings import bring_frames
from tests.strategies import outings

from idle_lantern.core.base.errors import DocumentError, InputError
from idle_lantern.core.frames.masks import read_mask
from idle_lantern.core.outing import assets, document, edits, schema
from idle_lantern.core.outing.index import OutingIndex
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.plan.brief import Brief, Mark
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import AS_NEEDED, TargetField
from idle_lantern.core.shoot.guide import FrameState, guide, turn_to_next

OLD = Path(__file__).parents[2] / "data"


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
    assert outing.choices.left_out == (outing.frames[1].id,)
    assert outing.target_field.right_deg == 100.0


def _as_shot(outing: Outing) -> None:
    """What the samples of versions 2 and 3 held, told value by value."""
    assert outing.name == "North mole"
    assert outing.note == "Two walkers at the mast.\nTide rising."
    assert outing.put_aside == ("wind", "hole")
    brief = outing.brief
    assert (brief.kind, brief.rig.focal_mm, brief.rig.lens_name) == ("rows", 35.0, "35 mm f/2")
    f = brief.target_field
    assert (f.left_deg, f.right_deg, f.low_deg, f.high_deg) == (-60, 45, -20, 22)
    assert (f.overlap, f.overlap_rows, f.reserve, f.spare_ends) == (0.4, 0.3, 0.25, 1)
    assert (f.zenith_frames, f.nadir_frames) == (2, AS_NEEDED)
    assert (brief.support.kind, brief.support.step_deg, brief.support.scale_clockwise) == ("tripod", 15.0, False)
    assert brief.scene.far_m == math.inf
    assert [m.name for m in brief.scene.marks] == ["mast", "boat"]
    assert not brief.scene.marks[1].keep_off_seams
    assert brief.exposure.readings == ((-60.0, 12.5), (40.0, 15.0))
    assert brief.exposure.polariser
    assert brief.site.stops[0].name == "harbour"
    assert (brief.run.order, brief.run.repeats) == ("snake", 2)
    assert brief.target.print_mm == 900.0
    assert [g.role for g in outing.given_frames] == ["field", "spare"]
    assert [r.file for r in outing.frames][3] == "/pictures/b/p1.jpg"
    assert outing.frames[0].yaw_deg == -50.02
    assert outing.choices.projection == "panini"
    assert not outing.choices.crop
    assert outing.choices.left_out == (outing.frames[2].id,)


def test_the_sample_of_version_2_opens_with_all_it_held():
    outing = document.from_text((OLD / "outing-2.json").read_text(encoding="utf-8"))
    _as_shot(outing)
    assert outing.choices.put_back == ()


def test_the_sample_of_version_3_opens_with_all_it_held_and_its_masks(tmp_path: Path):
    shutil.copytree(OLD / "outing-3", tmp_path / "o")
    outing = document.load(tmp_path / "o")
    _as_shot(outing)
    assert outing.choices.put_back == (outing.frames[3].id,)
    masks = {m.frame: read_mask(tmp_path / "o" / "assets" / f"{m.asset}.png") for m in outing.masks}
    assert set(masks) == {outing.frames[1].id, outing.frames[2].id}
    painted = masks[outing.frames[1].id]
    assert (int((painted.hide > 0).sum()), int((painted.keep > 0).sum())) == (20 * 35, 20 * 30)
    assert (OLD / "outing-3" / "masks" / "f001-2.mask.png").exists(), "the old file is left where it was"
    # opened again without being saved, frames and masks are the same
    assert document.load(tmp_path / "o") == outing
    document.save(outing, tmp_path / "o")
    assert document.load(tmp_path / "o") == outing


def test_the_sample_of_version_4_opens_with_what_could_not_be_brought_together():
    """Pixels of 6000 x 3000 on 36 x 24 mm, and a subject before the nearest thing, are refused since version 5."""
    outing = document.from_text((OLD / "outing-4.json").read_text(encoding="utf-8"))
    brief = outing.brief
    assert (brief.rig.width_px, brief.rig.height_px) == (6000, 3000)
    assert (brief.rig.sensor_width_mm, brief.rig.sensor_height_mm) == (36, 18)
    assert (brief.scene.near_m, brief.scene.subject_m) == (2.5, 2.5)
    assert (brief.target_field.zenith_frames, brief.target_field.nadir_frames) == (AS_NEEDED, 2)


def test_the_sample_of_version_6_opens_and_develops_nothing():
    outing = document.from_text((OLD / "outing-6.json").read_text(encoding="utf-8"))
    before = document.from_text((OLD / "outing-5.json").read_text(encoding="utf-8"))
    assert (outing.frames, outing.brief) == (before.frames, before.brief)
    assert outing.choices.brackets == "fuse"
    assert (outing.choices.repeats, outing.choices.twins) == ("sharpest", "raw")
    assert outing.lens is None
    assert outing.development.changes_nothing


def test_the_sample_of_version_7_opens_and_has_no_verdicts():
    outing = document.from_text((OLD / "outing-7.json").read_text(encoding="utf-8"))
    assert (outing.name, outing.verdicts) == ("Sample of version 7", ())
    assert outing.choices.brackets == "fuse"


def test_the_sample_of_version_8_opens_and_its_picture_is_composed_as_it_was():
    outing = document.from_text((OLD / "outing-8.json").read_text(encoding="utf-8"))
    assert outing.name == "Sample of version 8"
    assert [v.verdict for v in outing.verdicts] == ["later"]
    choices = outing.choices
    assert (choices.turn_deg, choices.distance, choices.rim, choices.ratio) == ((0.0, 0.0, 0.0), 1.0, "none", None)


def test_the_sample_of_version_9_opens_and_its_marks_stand_for_things():
    outing = document.from_text((OLD / "outing-9.json").read_text(encoding="utf-8"))
    assert (outing.name, outing.scouts) == ("Sample of version 9", ())
    assert (outing.choices.rim, outing.choices.ratio, outing.choices.distance) == ("stretch", (3.0, 1.0), 0.7)
    marks = outing.brief.scene.marks
    assert [(m.name, m.role, m.tall_deg, m.keep_off_seams) for m in marks] == [
        ("mast", "thing", 3.0, True),
        ("boat", "thing", 9.0, False),
    ]
    assert make_plan(outing.brief).subject.name == "mast"


def test_the_sample_of_version_10_opens_with_its_scouting_picture():
    outing = document.from_text((OLD / "outing-10.json").read_text(encoding="utf-8"))
    (picture,) = outing.scouts
    assert (picture.name, picture.turn_deg, picture.lines) == ("noon.jpg", (12.0, 0.5, 0.0), ((0.0, 5.0, 0.0, 20.0),))
    assert (picture.skyline, outing.brief.site.skyline_deg) == ((), None)


def test_the_sample_of_version_11_opens_with_its_checks_and_cut_links():
    outing = document.from_text((OLD / "outing-11.json").read_text(encoding="utf-8"))
    assert outing.cut_links == ((outing.frames[0].id, outing.frames[1].id),)
    assert (outing.brief.support.leg_circle_mm, outing.brief.run.own_checks) == (900.0, ("The gate closed behind us",))
    assert (outing.choices.put_back, outing.choices.off) == ((outing.frames[0].id,), ())
    assert outing.choices.tell_invented is False


def test_the_sample_of_version_12_opens_with_its_cover_and_ties_without_lines():
    outing = document.from_text((OLD / "outing-12.json").read_text(encoding="utf-8"))
    choices = outing.choices
    assert (choices.off, choices.nadir, choices.nadir_deg) == ((outing.frames[1].id,), "mark", 14.0)
    assert (choices.distance, choices.straighten) == (0.7, 0.0)
    assert [(p.sigma_px, p.to_a, p.to_b) for p in outing.points] == [(0.05, None, None)]


def test_the_sample_of_version_5_opens_and_joins_what_it_joined():
    """Its bracket does not tell the exposures: the middle one stands for the place, as it did."""
    outing = document.from_text((OLD / "outing-5.json").read_text(encoding="utf-8"))
    (group,) = outing.groups
    assert (group.kind, group.ev, outing.choices.projection) == ("bracket", (), "panini")
    assert [r.file for r in outing.frames_to_join()] == ["frames/f001.jpg"]
    assert outing.exposures_beside(outing.frames[0].id) == ()
    assert outing.choices.brackets == "merge"


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
    """docs/formats carries what the model says; older schemas stay as they were published."""
    formats = Path(__file__).parents[3] / "docs" / "formats"
    published = json.loads((formats / f"outing-{schema.VERSION}.schema.json").read_text(encoding="utf-8"))
    assert published == schema.json_schema()
    for version in range(1, schema.VERSION):
        assert (formats / f"outing-{version}.schema.json").is_file()


@settings(suppress_health_check=[HealthCheck.too_slow], deadline=None, max_examples=20)
@given(outings())
def test_what_is_written_satisfies_the_published_schema(outing: Outing):
    """By jsonschema, a reference implementation of JSON Schema 2020-12."""
    jsonschema.validate(json.loads(document.to_text(outing)), _PUBLISHED)


_PUBLISHED = schema.json_schema()


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
    assert outing.mask_of(first.id) == "0" * 64
    assert outing.mask_of(outing.frames[1].id) is None
    outing = edits.remove_frames([first.id]).apply(outing)
    assert (outing.choices.left_out, outing.masks) == ((), ())


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
