"""What is planned is what is taken: repeats and brackets, and what a plan that moved still needs."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from idle_lantern.core.base.progress import SILENT
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.plan.brief import Brief, Exposure, Run
from idle_lantern.core.plan.planner import Plan, make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.shoot.guide import guide
from idle_lantern.core.shoot.shooting import Shot, shoot
from idle_lantern.simulator.devices import SimulatedRig

SMALL = Rig(width_px=150, height_px=100)


def _shoot(plan: Plan, numbers: list[int], folder: Path) -> list[Shot]:
    shots: list[Shot] = []
    frames = [f for f in plan.frames if f.number in numbers]
    shoot(SimulatedRig(plan.rig), frames, plan, folder, [], progress=SILENT, on_shot=shots.append)
    return shots


def test_a_planned_bracket_is_shot_and_one_exposure_stands_for_it(tmp_path: Path):
    exposure = Exposure(((0.0, 14.0),), bracket_count=3, bracket_step_ev=2.0)
    plan = make_plan(Brief(rig=SMALL, exposure=exposure))
    (shot,) = _shoot(plan, [2], tmp_path)
    assert len(shot.frames) == 3
    files = [tmp_path / ref.file for ref in shot.frames]
    times = [probe(f).metadata.exposure_s for f in files]
    # steps of two stops: four times as long, and as short
    assert [round(math.log2(t / times[0])) for t in times if t and times[0]] == [0, -2, 2]
    light = [float(np.asarray(Image.open(f)).mean()) for f in files]
    assert light[1] < light[0] < light[2]
    outing = edits.add_shot(shot.frames, shot.group).apply(Outing("A", "2026", plan.brief))
    assert [r.id for r in outing.frames_to_join()] == [shot.frames[0].id]
    assert outing.shot(plan.frames[1]) == shot.frames[0]
    assert guide(plan, outing).shot == 1


def test_only_bright_positions_are_bracketed_where_the_plan_says_so(tmp_path: Path):
    exposure = Exposure(((-90.0, 11.0), (90.0, 16.0)), bracket_count=3, bracket_only_above_ev=14.5)
    plan = make_plan(Brief(rig=SMALL, exposure=exposure))
    first, last = _shoot(plan, [1, len(plan.frames)], tmp_path)
    assert (len(first.frames), len(last.frames)) == (1, 3)
    assert first.group is None


def test_repeats_are_taken_as_often_as_planned(tmp_path: Path):
    plan = make_plan(Brief(rig=SMALL, run=Run(repeats=3)))
    shots = _shoot(plan, [1, 2], tmp_path)
    assert [s.number for s in shots] == [1, 1, 1, 2, 2, 2]
    outing = Outing("A", "2026", plan.brief)
    for shot in shots:
        outing = edits.add_shot(shot.frames, shot.group).apply(outing)
    assert len(outing.frames) == 6
    assert len(outing.frames_to_join()) == 2


def _as_shot(plan: Plan) -> Outing:
    field = tuple(math.degrees(v) for v in plan.rig.lens().field_rad())
    refs = tuple(
        FrameRef(f"frames/f{f.number}.jpg", f.number, f.yaw_deg, f.pitch_deg, 0.0, field_deg=(field[0], field[1]))
        for f in plan.frames
    )
    return Outing("A", "2026", plan.brief, frames=refs)


@pytest.mark.parametrize("more_deg", [10.0, 30.0])
def test_what_was_shot_stays_shot_where_the_moved_plan_is_covered(more_deg: float):
    """The left end goes out: only what lies beyond the old picture is missing, counted by degrees on the horizon."""
    field = TargetField(-80, 80, -15, 15, 1 / 3)
    before = make_plan(Brief(rig=Rig(), target_field=field))
    after = make_plan(Brief(rig=Rig(), target_field=replace(field, left_deg=field.left_deg - more_deg)))
    outing = replace(_as_shot(before), brief=after.brief)
    half = math.degrees(Rig().lens().field_rad()[0]) / 2
    shown_from = min(f.yaw_deg for f in before.frames) - half
    found = guide(after, outing)
    wanted_from = after.target_field.left_deg
    lacking = {f.number for f in after.frames if max(f.yaw_deg - half, wanted_from) < shown_from - 0.5}
    assert set(found.missing) >= lacking
    assert found.shot >= len(after.frames) - len(lacking) - 1
    assert 1 in found.missing


def test_another_lens_covers_nothing():
    plan = make_plan(Brief(rig=Rig()))
    outing = _as_shot(plan)
    longer = make_plan(Brief(rig=Rig(focal_mm=35)))
    assert guide(longer, replace(outing, brief=longer.brief)).shot <= 1
