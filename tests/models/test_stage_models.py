"""What the stages show and may do, without a window and without Qt."""

from __future__ import annotations

import math
import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from msgspec import structs
from PIL import Image
from tests.helpers.outings import bring_frames

from idle_lantern.app.stages import (
    deliver_model,
    field_model,
    frames_model,
    join_model,
    join_request_model,
    plan_model,
    window_model,
)
from idle_lantern.app.widgets.map_shapes import outlines
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import SILENT
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.known import share_within
from idle_lantern.core.frames.content import sha256_of
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.report import FrameRow, Report
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.outing import edits, joining
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.outing.position_edits import BroughtPosition, bring_positions
from idle_lantern.core.plan.brief import Brief, Exposure, Scene
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.registration.match.by_hand import HandTie
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.solve.parallax import Parallax
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.request.choices import JoinChoices, MaskRef, TiePoint
from idle_lantern.core.shoot.guide import guide

MODELS = (
    "choices_model",
    "deliver_model",
    "development_model",
    "field_model",
    "frames_model",
    "hands_model",
    "join_model",
    "join_request_model",
    "placing_model",
    "plan_model",
    "shown_model",
    "walk_model",
    "window_model",
)


@pytest.mark.parametrize("name", MODELS)
def test_models_load_where_qt_cannot(name: str):
    code = f"import sys; sys.modules['PyQt6'] = None; import idle_lantern.app.stages.{name}"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr


def _outing(count: int = 3, **more: Any) -> Outing:
    refs = tuple(FrameRef(f"frames/f{i}.jpg", i + 1, 20.0 * i, 0.0, 0.0, id=f"id{i}") for i in range(count))
    return Outing("Evening", "2026", frames=refs, **more)


def _result(outing: Outing, rail_mm: float | None = None, **asked: Any) -> JoinResult:
    """A finished join of all frames, cylindrical, 5000 x 1500 with a crop of 4000 x 1200."""
    canvas = Canvas(Projection("cylindrical", {}), 5000, 1500, 1000.0, (2499.5, 749.5), reason="One band.")
    report = Report(asked=JoinChoices(**asked), frames=(FrameRow(file="a.jpg", used=True, bits=8),), rail_mm=rail_mm)
    ids = tuple(r.id for r in outing.frames_to_join())
    return JoinResult(Path("joined.tif"), canvas, Rectangle(400, 100, 4000, 1200), ids, 12.0, 300.0, report)


def _solved(result: JoinResult, **more: Any) -> JoinResult:
    """The same with a solution: three frames 20 degrees apart, the last placed by the grid."""
    lens = Lens("rectilinear", 1000.0, 800, 1200)
    turned = np.stack([rotations.from_yaw_pitch_roll(np.radians(20.0 * i), 0.0, 0.0) for i in range(3)])
    poses = Poses((0, 1, 2), (lens,) * 3, turned, 0.07, 1e-4, np.radians([0.01, 0.01, 0.2]))
    points = np.zeros((40, 2))
    links = (
        Link(0, 1, points, points, np.eye(3), np.ones(40, bool)),
        Link(1, 2, points, points, np.eye(3), np.arange(40) < 10),
    )
    frames = SimpleNamespace(names=("a.jpg", "b.jpg", "c.jpg", "d.jpg"), __len__=lambda: 4)
    solution = SimpleNamespace(
        poses=poses,
        links=links,
        frames=type("F", (), {"names": frames.names, "__len__": lambda _s: 4})(),
        reasons={3: "Matches no other frame."},
        placed_by={0: "features", 1: "features", 2: "grid"},
        parallax=None,
        level=None,
        ties=(),
        **more,
    )
    return replace(result, solution=solution)  # type: ignore[arg-type]


# --- join ------------------------------------------------------------------------------------


def test_a_request_carries_all_that_the_outing_chose(tmp_path: Path):
    outing = _outing(choices=edits.choose("x", projection="panini").apply(_outing()).choices)
    outing = edits.paint("id1", "f1.jpg", "a" * 64).apply(outing)
    outing = edits.put_back(outing.frames[2], True).apply(outing)
    request = joining.request_for(outing, tmp_path)
    assert [f.id for f in request.frames] == ["id0", "id1", "id2"]
    assert [f.path for f in request.frames] == [tmp_path / "frames" / f"f{i}.jpg" for i in range(3)]
    assert [f.mask for f in request.frames] == [None, tmp_path / "assets" / f"{'a' * 64}.png", None]
    assert request.options.projection == "panini"
    assert request.options.put_back == ("id2",)
    assert request.options.masks == (MaskRef("id1", "a" * 64),)
    assert request.document_id == outing.id
    assert request.target == tmp_path / "pictures" / "joined.tif"
    assert request.frames[1].prior is not None
    np.testing.assert_allclose(
        np.degrees(rotations.to_yaw_pitch_roll(request.frames[1].prior)), (20.0, 0.0, 0.0), atol=1e-9
    )
    assert joining.request_for(outing, tmp_path).request_id != request.request_id


def test_directions_count_only_when_all_are_known(tmp_path: Path):
    outing = bring_frames(["/elsewhere/x.jpg"]).apply(_outing())
    request = joining.request_for(outing, tmp_path)
    assert [f.prior for f in request.frames] == [None] * 4


def test_it_is_told_when_the_picture_is_not_what_is_chosen():
    outing = _outing()
    joined = _result(outing)
    assert join_request_model.differs(outing, None) == ""
    assert join_request_model.differs(outing, joined) == ""
    other = edits.choose("x", projection="mercator").apply(outing)
    assert join_request_model.differs(other, joined) == "choices"
    painted = edits.paint("id0", "f0.jpg", "b" * 64).apply(outing)
    assert join_request_model.differs(painted, joined) == "choices"
    assert join_request_model.differs(painted, _result(outing, masks=(MaskRef("id0", "b" * 64),))) == ""
    fewer = edits.leave_out(outing.frames[0], True).apply(outing)
    assert join_request_model.differs(fewer, joined) == "frames"
    assert join_request_model.differs(other, replace(joined, report=Report())) == "", "an old report does not tell"


def test_the_status_says_what_is_lacking():
    outing = _outing()
    joined = _result(outing)

    def status(o: Outing, j: JoinResult | None, running: str = "", *, elsewhere: bool = False) -> str:
        return join_model.status(o, j, running=running, elsewhere=elsewhere)

    assert status(outing, joined, "12%: matching") == "12%: matching"
    assert "Another outing" in status(outing, None, elsewhere=True)
    assert status(outing, joined).startswith("Joined,")
    assert "other choices" in status(edits.choose("x", projection="mercator").apply(outing), joined)
    assert "came or went" in status(edits.leave_out(outing.frames[0], True).apply(outing), joined)
    assert status(outing, None) == "3 frames are ready to be joined."
    assert "Two frames at least" in status(_outing(1), None)


def test_figures_of_a_picture():
    shown = join_model.facts(None)
    assert set(shown.values()) == {join_model.NOTHING}
    joined = _result(_outing())
    shown = join_model.facts(joined)
    assert shown["size"].replace("\u202f", " ") == "5 000 × 1 500 px"
    assert shown["crop"].replace("\u202f", " ") == "4 000 × 1 200 px"
    assert (shown["frames"], shown["fit"]) == ("3", join_model.NOTHING)
    shown = join_model.facts(_solved(joined))
    assert (shown["frames"], shown["fit"]) == ("3 of 4", "0.07 px")
    assert shown["lens"].startswith("rectilinear, 30.0\u00a0mm full frame (1000.0")


def test_a_lens_that_the_frames_contradict_is_told():
    lens = KnownLens(800, 1200, 1000.0, k1=0.1)
    asked = Report(asked=JoinChoices(lens=lens), known_lens=None)
    assert "found anew" in join_model.lens_refused(SimpleNamespace(report=asked))
    assert join_model.lens_refused(SimpleNamespace(report=structs.replace(asked, known_lens=lens))) == ""
    assert join_model.lens_refused(SimpleNamespace(report=Report(asked=JoinChoices()))) == ""
    assert join_model.lens_refused(None) == ""


def test_frames_left_out_are_told_with_what_can_be_done():
    outing = _outing()
    joined = replace(_solved(_result(outing)), frame_ids=("id0", "id1", "id2", "id3"))
    (row,) = join_model.left_out(outing, joined)
    assert (row.sentence, row.action, row.frame_id) == ("d.jpg: Matches no other frame.", "use", "id3")
    back = replace(outing, choices=replace(outing.choices, put_back=("id1",)))
    actions = {r.frame_id: r.action for r in join_model.left_out(back, joined)}
    assert actions == {"id3": "use", "id1": "leave"}
    assert join_model.left_out(outing, None) == []


def test_the_rail_is_corrected_by_what_the_join_found_and_only_once(tmp_path: Path):
    """By hand: an offset of 0.4 % of 3 m is 12 mm; the pupil stood before the axis, so the camera slides back by 0.98 of that."""
    brief = Brief(rig=Rig(rail_mm=62.0), scene=Scene(near_m=3.0))
    outing = _outing(brief=brief)
    result = _solved(_result(outing, rail_mm=62.0))
    found = Parallax((0.0, math.sqrt(1 - 0.98**2), 0.98), 0.05, 0.004, 0.0005, 4.0)
    result = replace(result, solution=SimpleNamespace(**{**vars(result.solution), "parallax": found}))
    setting, doubt = join_model.rail_correction(outing, result) or (0.0, 0.0)
    assert setting == pytest.approx(62 - 0.98 * 12)
    assert doubt == pytest.approx(1.5)
    assert "12 mm as they stand 3 m off" in join_model.findings(result, 3.0)
    # once the plan has another setting, or where nothing is known, nothing is offered
    corrected = replace(outing, brief=replace(brief, rig=replace(brief.rig, rail_mm=50.2)))
    assert join_model.rail_correction(corrected, result) is None
    assert join_model.rail_correction(outing, _solved(_result(outing, rail_mm=62.0))) is None
    assert join_model.rail_correction(outing, None) is None
    sideways = replace(found, direction=(0.9, 0.0, math.sqrt(1 - 0.81)))
    aside = replace(result, solution=SimpleNamespace(**{**vars(result.solution), "parallax": sideways}))
    assert join_model.rail_correction(outing, aside) is None, "the rail cannot mend what stands beside"
    # a picture made anew after the correction is still of frames that were shot with the old setting
    assert joining.request_for(corrected, tmp_path, None, result).rail_mm == 62.0
    assert joining.request_for(corrected, tmp_path).rail_mm == 50.2


def test_findings_name_what_nothing_ties():
    told = join_model.findings(_solved(_result(_outing())))
    assert "c.jpg" in told
    assert "0.2°" in told
    assert join_model.findings(None) == ""


def test_findings_tell_of_ties_and_of_a_vertical_that_is_not_known():
    result = _solved(_result(_outing()))
    point = TiePoint("id0", (1.0, 2.0), "id1", (3.0, 4.0))
    ties = (
        HandTie(point, 0.3, True),
        HandTie(point, 40.0, True, "It misses by 40 px."),
        HandTie(point, 9.0, False, "No."),
    )
    solution = SimpleNamespace(**{**vars(result.solution), "ties": ties, "reasons": {2: "No."}})
    told = join_model.findings(replace(result, solution=solution))
    assert "It misses by 40 px." in told
    assert "No." not in told, "the frame's own line says so"
    assert "vertical" not in told
    report = structs.replace(result.report, level_doubt="Nothing tells the vertical.")
    told = join_model.findings(replace(result, report=report))
    assert "Nothing tells the vertical. Compose turns it." in told


def test_a_join_lies_on_the_map_where_its_frames_point():
    joined = _solved(_result(_outing()))
    drawn = join_model.on_map(joined, ["id0"])
    assert [(round(a[0]), round(b[0]), q) for a, b, q in drawn.links] == [(0, 20, 1.0), (20, 40, 0.25)]
    assert [round(frame.yaw_deg) for _lens, frame in drawn.tied] == [20], "planned cells are drawn by the plan"
    assert [round(frame.yaw_deg) for _lens, frame in drawn.loose] == [40]
    assert join_model.on_map(None, []).links == ()


# --- frames ----------------------------------------------------------------------------------


def _jpeg(path: Path) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    Image.fromarray(np.full((40, 60, 3), 99, np.uint8)).save(path)
    return path


def test_bringing_in_names_what_is_left(tmp_path: Path):
    good = [_jpeg(tmp_path / "in" / f"p{i}.jpg") for i in (1, 10, 2)]
    (tmp_path / "in" / "broken.jpg").write_bytes(b"no")
    outside = _jpeg(tmp_path / "out" / "q.jpg")
    brought = frames_model.bring([tmp_path / "in", outside, tmp_path / "nowhere.jpg"], tmp_path / "in", SILENT)
    files = [f for run in brought.runs for position in run.positions for f in position.files]
    assert files == ["p1.jpg", "p2.jpg", "p10.jpg", str(outside)]
    assert len(brought.faults) == 2
    assert "broken.jpg" in brought.message
    assert brought.message.endswith("(1 more could not be read)")
    assert frames_model.bring([good[0]], tmp_path, SILENT).message == ""
    (tmp_path / "empty").mkdir()
    assert "no picture" in frames_model.bring([tmp_path / "empty"], tmp_path, SILENT).message


def test_a_file_with_two_circles_comes_in_as_two_frames(tmp_path: Path):
    v, u = np.mgrid[:200, :400]
    lit = np.hypot(u % 200 - 99.5, v - 99.5) < 94
    pixels = np.where(lit[..., None], np.random.default_rng(2).integers(60, 220, (200, 400, 3)), 0).astype(np.uint8)
    (tmp_path / "in").mkdir()
    Image.fromarray(pixels).save(tmp_path / "in" / "both.png")
    brought = frames_model.bring([tmp_path / "in"], tmp_path, SILENT)
    assert "two circles" in brought.message
    files = [tmp_path / f for run in brought.runs for p in run.positions for f in p.files]
    assert len(files) == 2
    halves = [probe(f) for f in files]
    assert all(h.width == h.height and h.width >= 188 for h in halves)


def test_contents_are_read_once_and_lost_files_left(tmp_path: Path):
    path = _jpeg(tmp_path / "frames" / "f0.jpg")
    outing = _outing(2)
    found = frames_model.contents(outing, tmp_path, SILENT)
    assert found == {"id0": sha256_of(path)}
    known = edits.know_contents(found).apply(outing)
    assert frames_model.contents(known, tmp_path, SILENT) == {}


def test_facts_of_a_frame(tmp_path: Path):
    outing, info = _outing(), probe(_jpeg(tmp_path / "a.jpg"))
    ref = outing.frames[1]
    shown = frames_model.facts(outing, ref, info, "")
    assert shown["size"].startswith("60 × 40 px")
    assert (shown["exposure"], shown["taken"]) == ("not told", "not told")
    assert shown["direction"] == "yaw 20.0°, pitch 0.0°, told by the head"
    assert shown["state"] == "yes"
    assert frames_model.facts(edits.leave_out(ref, True).apply(outing), ref, info, "")["state"] == "left out by you"
    assert frames_model.facts(outing, ref, None, "It is missing.")["size"] == "It is missing."
    again = edits.add_frame(replace(ref, id="again", file="frames/f1-2.jpg")).apply(outing)
    assert frames_model.facts(again, ref, info, "")["state"] == "no: shot again later"
    assert set(frames_model.facts(outing, None, None, "").values()) == {""}
    assert frames_model.summary(again) == "4 frames, 3 of them for the join"
    assert frames_model.summary(_outing(0)) == ""
    assert frames_model.caption(outing, ref, joined=False) == "⊘ f1.jpg\nframe 2"


def test_brackets_are_told_as_stacks_and_none_of_them_as_left_out():
    """Six files of two brackets were "6 files, 2 of them for the join", the others crossed out."""
    positions = [
        BroughtPosition(tuple(f"{p}{e}.jpg" for e in "abc"), "bracket", 1, (-2.0, 0.0, 2.0)) for p in ("one", "two")
    ]
    outing = bring_positions(positions).apply(Outing("Brackets", "2026-05-14"))
    assert frames_model.summary(outing) == "6 files at 2 positions, 2 of them for the join"
    order = frames_model.in_stacks(outing)
    assert [r.file for r in order] == ["oneb.jpg", "onea.jpg", "onec.jpg", "twob.jpg", "twoa.jpg", "twoc.jpg"]
    captions = [frames_model.caption(outing, r, joined=r in outing.frames_to_join()) for r in order[:3]]
    assert captions == ["oneb.jpg\nbracket of 3", "▤ onea.jpg\n−2 EV", "▤ onec.jpg\n+2 EV"]
    state = frames_model.facts(outing, order[1], None, "")["state"]
    assert state == "yes, merged with oneb.jpg"
    base = edits.choose("Base", brackets="base").apply(outing)
    assert frames_model.facts(base, order[1], None, "")["state"] == "no: oneb.jpg alone stands for its bracket"


def test_repeats_are_told_as_they_are_used():
    taken = [BroughtPosition(("one.jpg", "two.jpg"), "repeat", 1)]
    outing = bring_positions(taken).apply(Outing("Repeats", "2026-05-14"))
    other = outing.frames[0]
    assert frames_model.facts(outing, other, None, "")["state"] == "no: two.jpg stands for the frames taken here"
    averaged = edits.choose("Stack", repeats="stack").apply(outing)
    assert frames_model.facts(averaged, other, None, "")["state"] == "yes, averaged with two.jpg"
    assert frames_model.caption(outing, outing.frames[1], joined=True) == "two.jpg\ntaken 2 times"


# --- field, plan, deliver, line of stages ------------------------------------------------------


def test_field_tells_what_is_next_and_what_is_missing():
    outing = Outing("A", "2026")
    plan = make_plan(outing.brief)
    view = field_model.field_view(plan, outing, guide(plan, outing))
    assert (view.number, view.progress, view.finished) == ("1/7", "0 of 7 shot", False)
    assert view.turn.startswith("Start at")
    assert view.missing.startswith("Missing: 1, 2, 3, 4, 5, 6, 7.")
    assert view.missing.endswith("Begin with a hand before the lens.")
    for frame in plan.frames[:-1]:
        outing = edits.add_frame(FrameRef(f"{frame.number}.jpg", frame.number, frame.yaw_deg, frame.pitch_deg)).apply(
            outing
        )
    view = field_model.field_view(plan, outing, guide(plan, outing))
    assert view.turn == f"Turn right {plan.frames[6].yaw_deg - plan.frames[5].yaw_deg:.1f}°"
    assert field_model.last_shot(outing) == 6
    outing = edits.skip_frame(7, True).apply(outing)
    view = field_model.field_view(plan, outing, guide(plan, outing))
    assert (view.frame, view.number, view.finished) == (None, "✓", True)
    assert view.missing == (
        "Nothing is missing, 1 skipped. The frames can be looked at and joined. Close the run with a hand before the lens."
    )


def test_plan_in_words():
    plan = make_plan(Brief())
    assert plan_model.count(plan) == "7 frames in one row"
    bracketed = make_plan(Brief(exposure=Exposure(bracket_count=3)))
    assert plan_model.rows(bracketed).startswith("7 at 0.0°. 21 exposures.")
    assert plan_model.rows(plan) == "7 at 0.0°. Cylindrical."
    facts = plan_model.facts(plan)
    assert "frames" in facts["overlap"]
    assert facts["time"].endswith(f"until {plan.end:%H:%M}")
    many = make_plan(Brief(target_field=TargetField(-180, 180, -90, 90)))
    assert "rows" in plan_model.count(many)


def test_deliver_tells_what_would_be_written():
    outing = _outing()
    joined = _result(outing)
    assert deliver_model.box(outing, joined) == joined.crop
    whole = edits.compose("x", crop=False).apply(outing)
    assert deliver_model.box(whole, joined) == Rectangle(0, 0, 5000, 1500)
    shown = deliver_model.facts(outing, joined, imperial=False)
    assert shown["pixels"] == "4.8 MP"
    assert shown["print"] == "33.9 × 10.2 cm"
    smaller = edits.deliver_as("x", long_side_px=2500).apply(whole)
    assert deliver_model.facts(smaller, joined, imperial=False)["pixels"] == "1.9 MP"
    assert set(deliver_model.facts(outing, None, imperial=False).values()) == {"–"}
    wide = replace(joined, crop=Rectangle(0, 0, 70_000, 100))
    assert "65" in deliver_model.limit(edits.deliver_as("x", format="jpeg").apply(outing), wide)
    assert "takes too much memory" in deliver_model.limit(
        edits.deliver_as("x", format="webp").apply(edits.compose("x", crop=False).apply(outing)),
        replace(wide, canvas=replace(wide.canvas, width=15_000, height=15_000)),
    )
    assert deliver_model.limit(outing, wide) == ""
    assert deliver_model.quality("92") == 92
    assert deliver_model.dpi("240 dpi") == 240
    for read, text in ((deliver_model.quality, "300"), (deliver_model.dpi, "5"), (deliver_model.dpi, "many")):
        with pytest.raises(InputError):
            read(text)


def test_the_line_of_stages_tells_what_each_lacks():
    outing = _outing()
    plan = make_plan(outing.brief)
    state = guide(plan, outing)
    lacks = window_model.lacks(plan, outing, state, None)
    assert lacks["plan"] == "7 frames"
    assert lacks["frames"] == "3 files"
    assert (lacks["join"], lacks["deliver"]) == ("not joined yet", "waits for the join")
    joined = _result(outing)
    assert window_model.lacks(plan, outing, state, joined)["deliver"] == "4.8 MP"
    other = edits.choose("x", projection="mercator").apply(outing)
    assert window_model.lacks(plan, other, state, joined)["join"] == "choices changed since"


def test_a_lens_that_sees_less_than_its_frame_is_drawn_by_what_it_sees():
    """An orthographic fisheye ends at 90 degrees; a frame whose whole rim lies beyond that has no rim to be drawn by."""
    (shape,) = outlines(Lens("orthographic", 300, 1200, 900), [GridFrame(1, 1, 1, 20.0, 0.0)])
    azimuths = [p.x() for p in shape]
    assert len(azimuths) > 20
    assert all(-180 <= a <= 180 for a in azimuths)


def test_of_an_area_that_a_crop_cuts_as_much_counts_as_it_leaves():
    """By hand: half of 100 x 40 lies in a crop of 200 x 50, of whose pixels 3000 are invented: 1500 of 10 000."""
    area, crop = Rectangle(50, 10, 100, 40), Rectangle(100, 0, 200, 50)
    assert share_within(area, 3000, crop) == pytest.approx(0.15)
    assert share_within(area, 3000, Rectangle(150, 0, 200, 50)) == 0.0
    assert share_within(area, 4000, area) == 1.0
