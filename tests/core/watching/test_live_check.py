"""Frames judged as they arrive, against the simulator's truth: place, overlap, lean, and faults that were put in."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry import rotations
from idle_lantern.core.inspection.overlaps import overlaps_of
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.planner import Plan, make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.watching import live_check as bench_module
from idle_lantern.core.watching.faults import settings_changed
from idle_lantern.core.watching.live_check import Judged, LiveCheck
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.devices import SimulatedRig
from idle_lantern.simulator.diorama import Diorama, ambrel_holm

META = Metadata(
    focal_mm=24.0, sensor_width_mm=24.0, aperture=8.0, exposure_s=1 / 256, iso=100.0, taken="2026:05:14 18:40:00"
)
LEAN = 0.8


@pytest.fixture(scope="module")
def scene() -> Diorama:
    return ambrel_holm(walkers=1)


@pytest.fixture(scope="module")
def plan() -> Plan:
    rig = Rig(focal_mm=24, width_px=900, height_px=600)
    return make_plan(Brief(rig=rig, target_field=TargetField(-70, 70, -22, 22, 1 / 3)))


class Shooting:
    """A run with the simulated camera, and the truth of each frame."""

    def __init__(self, plan: Plan, scene: Diorama, folder: Path) -> None:
        lens = plan.rig.lens()
        self.plan, self.scene, self.folder = plan, scene, folder
        self.camera = SimulatedCamera(lens, 24.0, 24.0 * lens.width / lens.focal_px)
        self.head = SimulatedHead(play_deg=0.05, base_tilt_deg=LEAN, base_tilt_toward_deg=30)
        self.poses: list[np.ndarray] = []

    def shoot(
        self, number: int, *, more_deg: float = 0.0, ev: float = 0.0, shake_px: float = 0.0, **meta: object
    ) -> Path:
        frame = self.plan.frame(number)
        assert frame is not None
        pose = self.head.pointed(frame.yaw_deg + more_deg, frame.pitch_deg, 0, shot=len(self.poses))
        camera = replace(self.camera, shake_px=(shake_px, 0.3 * shake_px)) if shake_px else self.camera
        picture = camera.expose(self.scene, pose, CameraSettings(exposure_s=2**ev / 256), seed=len(self.poses))
        path = self.folder / f"{len(self.poses):02d}.jpg"
        write(picture, path, WriteOptions(jpeg_quality=93, metadata=replace(META, **meta)))  # type: ignore[arg-type]
        self.poses.append(pose)
        return path


def _judged(live_check: LiveCheck, run: Shooting, number: int, **how: object) -> Judged:
    return live_check.look(run.shoot(number, **how), run.plan.frame(number))  # type: ignore[arg-type]


def test_frames_are_placed_and_their_overlap_told_as_they_are(plan: Plan, scene: Diorama, tmp_path: Path):
    """Against the first frame, which is where the plan says: within 0.05 degrees, overlap within one per cent."""
    run, live_check = Shooting(plan, scene, tmp_path), LiveCheck(plan)
    found = [_judged(live_check, run, n) for n in range(1, len(plan.frames) + 1)]
    assert [j.kind for j in found] == ["good"] * len(found), [j.sentence for j in found]
    assert [j.number for j in found] == [f.number for f in plan.frames]
    lens = plan.rig.lens()
    start = plan.frames[0].world_from_camera
    for k, judged in enumerate(found[1:], 1):
        assert judged.angles_deg is not None
        pose = rotations.from_yaw_pitch_roll(*np.radians(judged.angles_deg))
        assert math.degrees(float(rotations.angle_between(start.T @ pose, run.poses[0].T @ run.poses[k]))) < 0.05
        true = overlaps_of(Poses((0, 1), (lens, lens), np.stack([run.poses[k], run.poses[k - 1]])))[0].share
        assert judged.overlap == pytest.approx(true, abs=0.01)
        assert judged.neighbour == f"frame {k}"
    assert found[1].taken == META.taken
    lean = live_check.lean()
    assert lean is not None
    assert math.degrees(lean.lean_rad) == pytest.approx(LEAN, abs=0.05)
    assert live_check.holes([]) == ()


def test_faults_are_told_with_what_to_do_and_good_frames_stay_good(plan: Plan, scene: Diorama, tmp_path: Path):
    run, live_check = Shooting(plan, scene, tmp_path), LiveCheck(plan)
    assert _judged(live_check, run, 1).kind == "good"
    assert _judged(live_check, run, 2).kind == "good"
    shaken = _judged(live_check, run, 3, shake_px=4.0)
    assert (shaken.kind, shaken.faults[0].what) == ("again", "blur")
    assert _judged(live_check, run, 3).kind == "good", "shot again"
    far = _judged(live_check, run, 4, more_deg=12.0)
    assert (far.kind, far.faults[0].what) == ("again", "overlap")
    assert far.off_deg is not None
    assert far.off_deg[0] == pytest.approx(12.0, abs=0.5)
    assert "turn left by 1" in far.sentence
    assert "%" in far.sentence
    assert _judged(live_check, run, 4).kind == "good"
    brighter = _judged(live_check, run, 5, ev=0.5)
    (fault,) = [f for f in brighter.faults if f.what == "exposure"]
    assert fault.figure == pytest.approx(0.5, abs=0.12)
    other = _judged(live_check, run, 5, iso=400.0)
    assert any(f.what == "iso" and "ISO 400" in f.sentence for f in other.faults)
    assert other.kind == "again"
    back = _judged(live_check, run, 5)
    assert not [f for f in back.faults if f.what == "iso"], "what was set back is right"


def test_settings_are_compared_with_the_usual_ones():
    """By hand: of four frames three at f/8; the one at f/5.6 is told, and the one after it is not."""
    usual, wide_open = replace(META, aperture=8.0), replace(META, aperture=5.6)
    (fault,) = settings_changed([usual, usual], wide_open)
    assert (fault.what, fault.again) == ("aperture", True)
    assert "f/5.6 where the others have f/8" in fault.sentence
    assert settings_changed([usual, wide_open], usual) == []
    assert settings_changed([], usual) == []
    assert settings_changed([Metadata()] * 3, usual) == []
    # who means to change goes on with the new setting and is told no more
    assert settings_changed([usual, usual, wide_open, wide_open, wide_open], wide_open) == []


def test_a_frame_of_elsewhere_and_one_of_nothing(plan: Plan, scene: Diorama, tmp_path: Path):
    run, live_check = Shooting(plan, scene, tmp_path), LiveCheck(plan)
    for n in (1, 2):
        _judged(live_check, run, n)
    elsewhere = _judged(live_check, run, 3, more_deg=150.0)
    assert (elsewhere.kind, elsewhere.placed_by) == ("again", "plan")
    assert elsewhere.faults[0].what == "unplaced"
    path = tmp_path / "grey.png"
    write(Picture(np.full((900, 600, 3), 128, np.uint8)), path, WriteOptions())
    bare = live_check.look(path, plan.frame(4))
    assert [f.what for f in bare.faults] == ["featureless"]
    assert bare.number == 4
    # what lies behind is not placed and counts for no neighbour; the run goes on
    assert _judged(live_check, run, 3).overlap > 0.3


def test_a_run_taken_up_again_and_the_hole_that_is_left(plan: Plan, scene: Diorama, tmp_path: Path):
    """After a crash the frames of before are remembered by their files and directions."""
    run, first = Shooting(plan, scene, tmp_path), LiveCheck(plan)
    before = [_judged(first, run, n) for n in (1, 2, 3)]
    again = LiveCheck(plan)
    for judged in before:
        assert judged.angles_deg is not None
        again.remember(judged.path, judged.angles_deg, judged.number)
    after = _judged(again, run, 4)
    assert (after.kind, after.neighbour) == ("good", "frame 3")
    left = [plan.frame(n) for n in (6,)]
    holes = again.holes([f for f in left if f is not None])
    assert holes, "frame 5 is neither shot nor to come"
    five = plan.frame(5)
    assert five is not None
    assert all(abs(yaw - five.yaw_deg) < 20 for yaw, _pitch in holes)
    rest = [f for n in (5, 6) if (f := plan.frame(n)) is not None]
    assert again.holes(rest) == ()


def test_a_long_day_takes_no_more_memory_than_its_last_hour(plan: Plan, scene: Diorama, tmp_path: Path, monkeypatch):
    """What is held of a frame is let go in turn; where it lies stays, and new frames are matched against those that are near."""
    monkeypatch.setattr(bench_module, "_HELD", 1)
    monkeypatch.setattr(bench_module, "_LOOKS", 2)
    monkeypatch.setattr(bench_module, "_FEATURED", 3)
    run, live_check = Shooting(plan, scene, tmp_path), LiveCheck(plan)
    found = [_judged(live_check, run, n) for n in range(1, len(plan.frames) + 1)]
    assert [j.kind for j in found] == ["good"] * len(found)
    for part, most in (("grey", 1), ("look", 2), ("features", 3)):
        assert sum(getattr(s, part) is not None for s in live_check._seen) == most
    assert len(live_check._seen) == len(found)
    assert live_check.holes([]) == ()
    assert live_check.lean() is None, "two frames tell no axis"


def test_a_raw_frame_is_judged_as_its_jpeg_is(tmp_path: Path):
    """Developed quickly: placed alike, and good frames stay good."""
    rig = Rig(focal_mm=24, width_px=900, height_px=600, upright=False)
    plan = make_plan(Brief(rig=rig, target_field=TargetField(-50, 50, -10, 10, 0.35)))
    told = {}
    for ending in ("jpg", "dng"):
        devices, live_check = SimulatedRig(rig), LiveCheck(plan)
        for frame in plan.frames[:2]:
            devices.turn_to(frame.yaw_deg, frame.pitch_deg)
            path = tmp_path / f"{frame.number}.{ending}"
            devices.shoot(path, "2026:05:14 18:40:00")
            told[ending] = live_check.look(path, frame)
    assert told["dng"].kind == told["jpg"].kind == "good"
    assert told["dng"].placed_by == "features"
    assert told["dng"].angles_deg == pytest.approx(told["jpg"].angles_deg, abs=0.06)
