"""Briefs and plans through files and back."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import pypdf
import pytest
from hypothesis import given, settings
from tests.strategies import briefs

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.plan.brief import Brief, Mark, Run, Scene, Site, Stop, Support
from idle_lantern.core.plan.card import card_pdf, card_text, write_card
from idle_lantern.core.plan.checklist import before_first_frame
from idle_lantern.core.plan.exchange import (
    SPEC_SCHEMA,
    brief_document,
    plan_csv,
    plan_document,
    read_brief,
    read_frames_csv,
    read_spec,
)
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.kinds import KINDS, PictureKind, kind_of
from idle_lantern.core.plan.planner import angle_list, make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField


@settings(max_examples=40, deadline=None)
@given(briefs())
def test_briefs_come_back_as_they_went(brief: Brief):
    """Strict JSON: no bare Infinity, which other readers refuse."""
    text = json.dumps(brief_document(brief), allow_nan=False)
    assert read_brief(json.loads(text)) == brief


@settings(max_examples=100, deadline=None)
@given(briefs())
def test_a_specification_of_all_that_the_window_holds_gives_the_same_brief(brief: Brief):
    """So that the command line reckons the figures of the window: one brief, one plan."""
    assert read_spec(json.dumps({"schema": SPEC_SCHEMA, **brief_document(brief)})) == brief


@pytest.mark.parametrize("kind", KINDS, ids=lambda k: k.id)
@pytest.mark.parametrize("lens", ["rectilinear", "equisolid"])
def test_a_kind_goes_by_the_lens_that_the_specification_tells(kind: PictureKind, lens: str):
    """As in the window, where the lens is told and then the kind is chosen: a fisheye sphere has six round."""
    rig = {"sensor_width_mm": 36.0, "sensor_height_mm": 24.0, "focal_mm": 8.0, "lens_model": lens}
    if kind.id == "two-lens" or (kind.id == "shift" and lens != "rectilinear"):
        return  # which bring lenses of their own
    told = read_spec(json.dumps({"schema": SPEC_SCHEMA, "kind": kind.id, "rig": rig}))
    by_hand = kind.start(Brief(rig=Rig(36, 24, focal_mm=8, lens_model=lens)))
    assert told == replace(by_hand, rig=replace(by_hand.rig, **rig))
    if kind.id == "sphere" and lens != "rectilinear":
        plan = make_plan(told)
        assert max(len(row) for row in plan.rows) == 6
        # two look straight down, so nothing is said to be without
        assert not any("without two nadir" in j.sentence for j in judge(plan))
        assert not any("9 frames instead of 9" in j.remedy for j in judge(plan)), "more overlap changes nothing"


def test_a_plan_file_is_a_specification_too():
    plan = make_plan(kind_of("rows").start(Brief(scene=Scene(marks=(Mark("beacon", 3.0),)))))
    text = json.dumps(plan_document(plan), allow_nan=False)
    assert make_plan(read_spec(text)).frames == plan.frames


def test_a_specification_may_name_only_a_kind():
    for kind in KINDS:
        text = json.dumps({"schema": SPEC_SCHEMA, "kind": kind.id})
        assert read_spec(text) == kind.start(Brief())


@pytest.mark.parametrize(
    ("document", "sentence"),
    [
        ({"kind": "hexagon"}, "no kind of picture"),
        ({"scene": {"near_m": 5, "far_m": 2}}, "at least as far"),
        ({"scene": {"marks": [{"name": "x"}]}}, "wrong kind"),
        ({"exposure": {"readings": [[1]]}}, "wrong kind"),
        ({"exposure": {"polariser": "yes"}}, "Words in quotes, true or false without"),
        ({"site": {"date": "14.5.2026"}}, "Write it like 2026-05-14"),
        ({"site": {"start": "19:30+02:00"}}, "names a zone"),
        ({"target_field": {"spare_ends": 0.5}}, "must be a whole number, not 0.5"),
        ({"exposure": {"bracket_count": 2.5}}, "must be a whole number, not 2.5"),
        ({"support": {"step_deg": 0.01}}, "at least 0.1"),
        ({"support": {"kind": "balloon"}}, "Use one of head"),
        ({"run": {"repeats": 1000}}, "between 1 and 20"),
        ({"target": {"print_mm": -3}}, "between 0"),
        ({"rig": {"motion": "walk"}}, "Use one of turn"),
    ],
)
def test_impossible_specifications_are_told(document: dict, sentence: str):
    with pytest.raises(InputError, match=sentence):
        read_spec(json.dumps({"schema": SPEC_SCHEMA, **document}), "spec.json")


def test_frames_go_out_as_csv_and_come_back():
    plan = make_plan(Brief(target_field=TargetField(-70, 60, -30, 40, 0.3)))
    back = read_frames_csv(plan_csv(plan))
    assert [(f.yaw_deg, f.pitch_deg, f.role) for f in back] == [
        (pytest.approx(f.yaw_deg), f.pitch_deg, f.role) for f in plan.frames
    ]
    given_plan = make_plan(plan.brief, frames=back)
    assert given_plan.given
    assert given_plan.coverage.complete


def test_a_given_list_with_a_gap_is_judged():
    brief = Brief(target_field=TargetField(-70, 60, -20, 20, 0.3))
    frames = read_frames_csv("yaw_deg,pitch_deg\n-50,0\n-25,0\n40,0\n")
    plan = make_plan(brief, frames=frames)
    hole = next(j for j in judge(plan) if j.key == "hole")
    assert "frame list" in hole.sentence
    assert plan.coverage.smallest_overlap == pytest.approx(0.0, abs=0.02)


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("a,b\n1,2\n", "no columns yaw_deg"),
        ("yaw_deg,pitch_deg\n1,2\nx,3\n", "Line 3 is no frame"),
        ("yaw_deg,pitch_deg\n1,95\n", "Line 2 is no frame"),
        ("yaw_deg,pitch_deg\n", "Holds no frames"),
        ("", "no columns"),
    ],
)
def test_bad_frame_lists_are_told_by_line(text: str, sentence: str):
    with pytest.raises(InputError, match=sentence):
        read_frames_csv(text, "list.csv")


@pytest.mark.parametrize("clockwise", [True, False])
def test_scale_readings_from_any_start(clockwise: bool):
    """Read start, step and end off the head's scale (common practice, no source)."""
    support = Support(step_deg=15, scale_start_deg=100, scale_clockwise=clockwise)
    plan = make_plan(Brief(rig=Rig(focal_mm=24), target_field=TargetField(-60, 60, -10, 10, 0.3), support=support))
    readings = [plan.scale_reading(f) for f in plan.frames]
    steps = {round((b - a) % 360, 6) for a, b in zip(readings, readings[1:])}
    assert steps == ({15.0} if clockwise else {345.0})
    # whatever it reads at yaw 0, it clicks where it reads 0, 15, 30
    assert {round(r, 6) % 15 for r in readings} == {0.0}


def _card_plan(kind: str = "rows"):
    brief = kind_of(kind).start(
        Brief(
            rig=Rig(camera="Körper Ω"),
            scene=Scene(marks=(Mark("old beacon", -12, 3),)),
            site=Site("Ambrel Holm", stops=(Stop("harbour", 12, 15),)),
        )
    )
    return make_plan(brief)


@pytest.mark.parametrize("kind", [k.id for k in KINDS[::2]])
def test_the_card_is_one_or_two_pages_with_every_angle(kind: str, tmp_path: Path):
    plan = _card_plan(kind)
    path = tmp_path / "card.pdf"
    write_card(plan, path, "Evening ▲ at the pans")
    pages = pypdf.PdfReader(path).pages
    assert 1 <= len(pages) <= 2
    text = " ".join(page.extract_text() for page in pages)
    assert "Evening" in text
    assert "Exposure" in text
    assert before_first_frame(plan.brief)[0][:20] in text
    box = pages[0].mediabox
    assert (float(box.width) / 72 * 25.4, float(box.height) / 72 * 25.4) == pytest.approx(
        (210, 297), abs=0.5
    )  # ISO 216 A4
    if plan.rig.motion != "lens-shift" and len(plan.frames) <= 192:
        words = text.replace("\n", " ").split()
        for f in plan.frames[:: max(1, len(plan.frames) // 7)]:
            assert any(w.startswith(f"{abs(f.pitch_deg):.1f}"[:3]) or f"{abs(f.pitch_deg):.1f}" in w for w in words)


def test_names_in_other_letters_stand_on_the_card(tmp_path: Path):
    """Cyrillic, Greek and Latin with marks are drawn; what no shipped typeface has is a question mark, not a gap."""
    path = tmp_path / "card.pdf"
    write_card(_card_plan(), path, "\u0412\u0435\u0447\u0435\u0440 \u03a9\u03bc \u0141\u00f3d\u017a \u4e2d")
    text = pypdf.PdfReader(path).pages[0].extract_text()
    assert "\u0412\u0435\u0447\u0435\u0440 \u03a9\u03bc \u0141\u00f3d\u017a ?" in text


def test_the_text_card_holds_what_the_hand_needs(tmp_path: Path):
    plan = _card_plan()
    text = card_text(plan, "Evening")
    for wanted in ("Exposure:", "Focus:", "Sunset:", "harbour:", "old beacon", "[ ] Base level", "trained people"):
        assert wanted in text
    assert sum(line.strip()[:3].strip().isdigit() for line in text.splitlines()) >= len(plan.frames)
    write_card(plan, tmp_path / "card.txt", "Evening")
    assert (tmp_path / "card.txt").read_text(encoding="utf-8") == text


def test_a_thousand_frames_still_fit_two_pages():
    plan = make_plan(Brief(rig=Rig(focal_mm=200), target_field=TargetField(-120, 120, -24, 24), run=Run(order="snake")))
    assert len(plan.frames) > 500
    import io

    assert len(pypdf.PdfReader(io.BytesIO(card_pdf(plan))).pages) <= 2


def test_shifts_are_listed_for_a_shift_lens():
    plan = make_plan(kind_of("shift").start(Brief()))
    assert "lens right, up" in angle_list(plan)
    assert "mm" in angle_list(plan).splitlines()[1]
