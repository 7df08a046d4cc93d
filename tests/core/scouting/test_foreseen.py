"""The foreseen picture against the join that follows, and what scouting tells against a plan."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
from tests.helpers.sets import FrameFiles, render

from idle_lantern.cli.main import main
from idle_lantern.core.compositing.canvas.canvas import Canvas, make_canvas
from idle_lantern.core.compositing.canvas.redrawn import redrawn
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.join.report import read_report
from idle_lantern.core.join.report_reading import canvas_of
from idle_lantern.core.plan.brief import Brief, Mark, Scene
from idle_lantern.core.plan.coverage import cameras_of, shown
from idle_lantern.core.plan.kinds import KINDS
from idle_lantern.core.plan.planner import Plan, make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.registration.solve.covered_field import field_of
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.scouting.foreseen import foresee, foreseen_canvas
from idle_lantern.core.scouting.lines import bow
from idle_lantern.core.scouting.remarks import bare_frames, facts_of, judge_scouted, readings_for
from idle_lantern.core.scouting.reprojection import ReprojectedScouts, moved
from idle_lantern.core.scouting.scout_picture import ScoutPicture, ends_of, is_upright
from idle_lantern.simulator.diorama import ambrel_holm

Kept = tuple[ScoutPicture, ReprojectedScouts, bytes]


@pytest.mark.parametrize("kind", [k.id for k in KINDS])
def test_the_foreseen_canvas_is_the_one_that_the_join_makes(kind: str):
    """Told by few places of each frame it is the one that many tell."""
    plan = make_plan(next(k for k in KINDS if k.id == kind).start(Brief()))
    lenses = tuple(plan.rig.lens_of(f) for f in plan.frames)
    poses = Poses(tuple(range(len(lenses))), lenses, cameras_of(plan.frames))
    seen = field_of(poses)
    for name in ("auto", "rectilinear", "panini", "stereographic"):
        ours, theirs = foreseen_canvas(plan, name), make_canvas(poses, seen, name)
        assert ours.projection == theirs.projection
        assert ours.full_circle == theirs.full_circle
        assert np.allclose(ours.canvas_from_world, theirs.canvas_from_world, atol=2e-3)
        # where a projection ends before the frames do, few places of a frame end somewhat earlier
        ends = 0.01 if name in ("auto", "panini") else 0.08
        assert ours.width == pytest.approx(theirs.width, rel=ends, abs=2)
        assert ours.height == pytest.approx(theirs.height, rel=ends, abs=2)
        assert np.allclose(ours.centre_px, theirs.centre_px, atol=max(2, ends * theirs.width))


@pytest.mark.parametrize("kind", ["row", "sphere", "two-lens"])
def test_what_frames_show_of_it_is_what_their_lenses_see(kind: str):
    plan = make_plan(next(k for k in KINDS if k.id == kind).start(Brief()))
    seen = foresee(plan, [], most_px=12_000)
    u, v = np.meshgrid(np.arange(float(seen.canvas.width)), np.arange(float(seen.canvas.height)))
    rays = seen.canvas.directions(np.stack([u, v], -1)).reshape(-1, 3)
    known = np.isfinite(rays[:, 0])
    true = np.zeros(len(rays), bool)
    true[known] = shown(plan.rig, plan.frames, cameras_of(plan.frames), rays[known])
    assert (true == seen.covered.ravel()).mean() > 0.97
    assert seen.unscouted == 1.0
    assert 0 <= seen.loss < 0.4


def _planned(sweep: FrameFiles) -> Plan:
    """Five frames where the sweep looks, by a camera of other pixels."""
    rig = Rig(sensor_width_mm=24.0, sensor_height_mm=16.0, width_px=720, height_px=480, focal_mm=22.0)
    return make_plan(Brief(rig=rig, target_field=TargetField(-45, 45, -18, 18, 0.4)))


def test_the_foreseen_picture_is_the_later_join(kept: Kept, sweep: FrameFiles, tmp_path: Path):
    """Features of both on one canvas shift by less than half a per cent of the width; both crops lie at one place."""
    _, ground, _ = kept
    plan = _planned(sweep)
    ends = [math.degrees(math.atan2(c[0, 2], c[2, 2])) for c in (sweep.cameras[0], sweep.cameras[-1])]
    middle = sum(ends) / 2
    looks = [(f.yaw_deg + middle, f.pitch_deg, 0.0) for f in plan.frames]
    frames = render(tmp_path, plan.rig.lens(), looks, play_deg=0.1, scene=ambrel_holm(walkers=0))
    out = tmp_path / "joined.png"
    told = tmp_path / "r.json"
    assert main(["join", *map(str, frames.paths), "--out", str(out), "--crop", "none", "--report", str(told)]) == 0
    joined, made = read(out).pixels, canvas_of(read_report(told))
    full = foreseen_canvas(plan)
    assert full.width == pytest.approx(joined.shape[1], rel=0.01)
    foreseen = foresee(plan, [ground], most_px=200_000)
    assert foreseen.unscouted < 0.2
    # the same crop: the join's own canvas begins lower or higher by the lean of the head
    sheet = redrawn(joined, made, foreseen.canvas, 10**9)[..., :3]
    shifts = _shifts(foreseen.pixels[..., :3], np.ascontiguousarray(sheet))
    assert len(shifts) > 60
    assert float(np.hypot(*shifts.T).mean()) / foreseen.canvas.width < 0.005


def _shifts(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    sift = cv2.SIFT_create(800)
    (one, first), (two, second) = (sift.detectAndCompute(cv2.cvtColor(p, cv2.COLOR_RGB2GRAY), None) for p in (a, b))
    pairs = [m for m, n in cv2.BFMatcher().knnMatch(first, second, 2) if m.distance < 0.7 * n.distance]
    off = np.array([np.subtract(two[p.trainIdx].pt, one[p.queryIdx].pt) for p in pairs])
    return off[np.hypot(*off.T) < 40]


def test_costs_and_shapes_of_the_foreseen_picture(kept: Kept, sweep: FrameFiles):
    picture, ground, _ = kept
    plan = _planned(sweep)
    largest = foresee(plan, [ground], most_px=60_000)
    square = foresee(plan, [ground], most_px=60_000, ratio=1.0)
    assert abs(square.crop.width - square.crop.height) <= 2
    assert square.loss > largest.loss
    flat = foresee(plan, [ground], most_px=60_000, projection="rectilinear")
    assert flat.bow < 1e-6 < largest.bow
    assert flat.stretch > largest.stretch
    assert all(o.shape[1] == 2 for o in flat.outlines)
    # what is turned away is no longer scouted
    away = moved(ground, replace(picture, turn_deg=(180.0, 0.0, 0.0)))
    assert foresee(plan, [away], most_px=60_000).unscouted > 0.9


def _with_sky(details: dict[float, float]) -> ScoutPicture:
    """A picture of which each altitude has a share of detail, over 10 degrees about it."""
    cells = [
        (a * 5.0 + 2.5, altitude + half, share)
        for a in range(-18, 18)
        for altitude, share in details.items()
        for half in (-2.5, 2.5)
    ]
    identity = ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))
    readings = tuple((a * 10.0 + 5, 11.0 + a / 10, "at least" if a > 7 else "ok") for a in range(-9, 9))
    return ScoutPicture(
        "p",
        "p",
        "0" * 64,
        "cylindrical",
        100,
        100,
        30.0,
        (50.0, 50.0),
        identity,
        details=tuple(cells),
        readings=readings,
    )


def test_bare_frames_are_told_with_the_way_down(kept: Kept):
    """A sky without detail over land: the upper row holds nothing, and comes down until a third of it shows land."""
    rig = Rig(focal_mm=50.0, upright=False)
    plan = make_plan(Brief(rig=rig, target_field=TargetField(-30, 30, -15, 40, 0.3)))
    picture = _with_sky({-25.0: 0.8, -15.0: 0.8, -5.0: 0.8, 5.0: 0.0, 15.0: 0.0, 25.0: 0.0, 35.0: 0.0, 45.0: 0.0})
    facts = facts_of(plan, [picture])
    bare = facts.bare
    assert bare == bare_frames(plan, [picture])
    assert bare
    assert {d.frame.pitch_deg for d in bare} == {f.pitch_deg for f in plan.frames if f.pitch_deg > 12}
    down = facts.lowered_deg
    assert down is not None
    (told,) = [j for j in judge_scouted(plan, [picture], facts) if j.key == "bare-frames"]
    assert f"{down:.0f}°" in told.remedy
    assert str(bare[0].frame.number) in told.sentence
    # allowed to be bare, or hidden: nothing is said
    marks = tuple(Mark("sky", d.frame.yaw_deg, d.frame.pitch_deg, role="bare") for d in bare)
    allowed = make_plan(replace(plan.brief, scene=Scene(marks=marks)))
    assert not bare_frames(allowed, [picture])
    hidden = [replace(picture, shown=False)]
    assert facts_of(plan, hidden).bare == ()
    assert not [j for j in judge_scouted(plan, hidden, facts_of(plan, hidden)) if j.key == "bare-frames"]
    # all bare: no way down helps
    assert facts_of(plan, [_with_sky(dict.fromkeys(range(-85, 95, 10), 0.0))]).lowered_deg is None


def test_readings_towards_the_field_are_taken_and_told(kept: Kept):
    plan = make_plan(Brief(target_field=TargetField(-60, 20, -20, 20)))
    picture = _with_sky({-5.0: 0.5})
    found = readings_for(plan, [picture])
    assert [round(a) for a, _, _ in found] == list(range(-65, 26, 10))
    (told,) = [j for j in judge_scouted(plan, [picture], facts_of(plan, [picture])) if j.key == "readings-scouted"]
    assert "10.3 to 11.2 EV" in told.sentence
    assert "13.5 to 14.5 EV" in told.sentence
    readings = tuple((a, ev) for a, ev, _ in found)
    same = replace(plan.brief, exposure=replace(plan.brief.exposure, readings=readings))
    assert not [
        j for j in judge_scouted(make_plan(same), [picture], facts_of(plan, [picture])) if j.key == "readings-scouted"
    ]


def test_straight_things_are_found_and_bow_as_their_projection_says(kept: Kept):
    """The beacon's post, the tower's edges and eaves of the simulated place are straight: a flat canvas keeps them so."""
    picture, ground, _ = kept
    assert len(picture.lines) >= 5
    assert 2 <= sum(is_upright(line) for line in picture.lines) < len(picture.lines)
    flat = Canvas(Projection("rectilinear"), 900, 700, 400.0, (449.5, 349.5), ground.canvas.canvas_from_world)
    whole = 0
    for line in picture.lines:
        ends = flat.pixels(ends_of(line))
        if np.isfinite(ends).all() and (ends >= 0).all() and (ends < (900, 700)).all():
            whole += 1
            assert bow(line, flat, np.eye(3)) < 1e-6
    assert whole >= 3
    # by hand: a level line 20 degrees up, from -40 to 40 degrees: on the sphere unrolled its middle rises to
    # atan(tan 20 / cos 40) = 25.41 degrees, over 80 degrees of length
    sphere = Canvas(Projection("equirectangular"), 3600, 1800, 1800 / math.pi, (1799.5, 899.5))
    assert bow((-40.0, 20.0, 40.0, 20.0), sphere, np.eye(3)) == pytest.approx((25.41 - 20) / 80, abs=2e-4)
    upright = (10.0, -20.0, 10.0, 30.0)
    assert is_upright(upright)
    assert bow(upright, sphere, np.eye(3)) < 1e-9
    assert bow((-179.0, 5.0, 179.0, 5.0), flat, np.eye(3)) == 0.0, "behind the canvas"
