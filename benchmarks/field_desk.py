"""The field desk against the simulator's truth: faults put into runs and found, false alarms, poses, overlaps, time of a judgement.

    .venv/bin/python benchmarks/field_desk.py [--runs 40] [--seed 1] [--width 900]

Each run is one or two rows of an invented place by a lens of 20 to 50 mm; half of the runs have one fault: a frame with a gap, blur
of 1.5 to 3 px, a third to one EV, a changed setting; the focus ring moved from a frame on; a base that leans by one degree; a corner
that was missed. A fault of a frame counts as found when that frame is told with it before the next one is shot, a lean and a missed
corner when they are told by the end of the run, as the window tells them.
"""

from __future__ import annotations

import argparse
import math
import statistics
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))
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
from idle_lantern.core.watching.live_check import LiveCheck
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm

#: What is put in, and what the desk calls it; a lean and a corner are told of the run, not of a frame.
FAULTS = {"gap": "overlap", "blur": "blur", "exposure": "exposure", "setting": "aperture", "focus": "blur"}
OF_THE_RUN = ("lean", "corner")
#: The lean of the base put in, and that from which on the window tells of it.
LEAN_DEG, LEAN_TOLD_DEG = 1.0, 0.5


def run(rng: np.random.Generator, width: int, folder: Path, told: dict[str, list[float]]) -> None:
    """One run; what was found goes into ``told``."""
    focal, middle = float(rng.choice([20, 24, 35, 50])), float(rng.uniform(-180, 180))
    rig = Rig(focal_mm=focal, width_px=width, height_px=width * 2 // 3, upright=bool(rng.random() < 0.7))
    lens = rig.lens()
    wide = math.degrees(lens.field_rad()[0])
    fault = str(rng.choice([*FAULTS, *OF_THE_RUN])) if rng.random() < 0.5 else ""
    high = 0.7 * math.degrees(lens.field_rad()[1]) if fault == "corner" else 8
    target = TargetField(middle - 1.6 * wide, middle + 1.6 * wide, -high, high, 1 / 3)
    plan = make_plan(Brief(rig=rig, target_field=target))
    camera = SimulatedCamera(lens, 24.0, 24.0 * lens.width / lens.focal_px, defocus=fault == "focus")
    lean = LEAN_DEG if fault == "lean" else float(rng.uniform(0, 0.3))
    head = SimulatedHead(play_deg=0.15, base_tilt_deg=lean, base_tilt_toward_deg=float(rng.uniform(0, 360)))
    scene, live_check, poses = ambrel_holm(walkers=3), LiveCheck(plan), []
    at = int(rng.integers(1, len(plan.frames))) if fault in FAULTS else -1
    if fault == "corner":
        at = _corner(plan)
    meta = Metadata(
        focal_mm=24.0,
        sensor_width_mm=24.0 * max(lens.width, lens.height) / lens.focal_px,
        aperture=8.0,
        exposure_s=1 / 256,
        iso=100.0,
    )
    for k, frame in enumerate(plan.frames):
        bad = k == at
        if not poses:
            first_shot = k
        if bad and fault == "corner":
            continue
        pose = head.pointed(frame.yaw_deg + (0.55 * wide if bad and fault == "gap" else 0), frame.pitch_deg, 0, shot=k)
        ev = float(rng.uniform(0.34, 1.0)) if bad and fault == "exposure" else 0.0
        focus = _soft(camera, float(rng.uniform(6, 10))) if bad and fault == "focus" else math.inf
        settings = CameraSettings(exposure_s=2**ev / 256, focus_m=focus)
        picture = camera.expose(scene, pose, settings, seed=k, time_s=6.0 * k)
        if bad and fault == "blur":
            picture = Picture(cv2.GaussianBlur(picture.pixels, (0, 0), float(rng.uniform(1.5, 3.0))))
        path = folder / f"{k}.jpg"
        tags = replace(meta, aperture=5.6) if bad and fault == "setting" else meta
        write(picture, path, WriteOptions(jpeg_quality=93, metadata=tags))
        poses.append(pose)
        start = time.perf_counter()
        judged = live_check.look(path, frame)
        told["seconds"].append(time.perf_counter() - start)
        whats = {f.what for f in judged.faults}
        if bad:
            told[f"{fault} put in"].append(1)
            found = FAULTS[fault] in whats or (fault == "gap" and "unplaced" in whats)
            told[f"{fault} found"].append(float(found))
            if fault == "gap":  # the right one is shot after it
                live_check = _without_last(live_check)
                poses.pop()
                return
        else:
            alarms = whats - {"clipped", "tilt"}
            # the frame after one of another exposure or sharpness is compared with that one alone, and where a corner was
            # missed the next ones may show nothing that was shot before
            if not (k == at + 1 and fault in ("exposure", "blur", "focus")) and not (fault == "corner" and k > at):
                told["false alarms"].append(float(bool(alarms)))
        if len(poses) > 1 and judged.angles_deg is not None and judged.placed_by == "features":
            found_pose = rotations.from_yaw_pitch_roll(*np.radians(judged.angles_deg))
            first = plan.frames[first_shot].world_from_camera.T @ found_pose
            told["pose miss, degrees"].append(math.degrees(float(rotations.angle_between(first, poses[0].T @ pose))))
            everyone = np.stack([pose, *poses[:-1]])
            shared = [
                o.share
                for o in overlaps_of(Poses(tuple(range(len(everyone))), (lens,) * len(everyone), everyone))
                if o.i == 0
            ]
            if shared and judged.overlap:
                told["overlap miss, %"].append(100 * abs(max(shared) - judged.overlap))
    level = live_check.lean()
    leans = level is not None and math.degrees(level.lean_rad) >= LEAN_TOLD_DEG
    holes = bool(live_check.holes(()))
    if fault in OF_THE_RUN:
        told[f"{fault} put in"].append(1)
        told[f"{fault} found"].append(float(leans if fault == "lean" else holes))
    told["false lean or hole"].append(float((leans and fault != "lean") or (holes and fault not in ("corner", "gap"))))


def _corner(plan: Plan) -> int:
    """The frame at the right end of the upper row."""
    return max(range(len(plan.frames)), key=lambda i: plan.frames[i].pitch_deg * 1000 + plan.frames[i].yaw_deg)


def _soft(camera: SimulatedCamera, disc_px: float) -> float:
    """The distance that the ring must stand at so that what is far has discs of that size (thin lens)."""
    disc_m = disc_px * camera.sensor_width_mm / 1000 / camera.lens.width
    focal_m = camera.focal_mm / 1000
    return focal_m + focal_m * focal_m / CameraSettings().aperture / disc_m


def _without_last(live_check: LiveCheck) -> LiveCheck:
    return LiveCheck(live_check.plan, live_check._seen[:-1])


def main() -> None:
    """Run and tell."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--runs", type=int, default=40)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--width", type=int, default=900)
    args = parser.parse_args()
    rng = np.random.default_rng(args.seed)
    keys = ["seconds", "pose miss, degrees", "overlap miss, %", "false alarms", "false lean or hole"]
    told: dict[str, list[float]] = {k: [] for k in keys}
    for fault in (*FAULTS, *OF_THE_RUN):
        told |= {f"{fault} put in": [], f"{fault} found": []}
    for _ in range(args.runs):
        with tempfile.TemporaryDirectory() as folder:
            run(rng, args.width, Path(folder), told)
    for key in keys[:3]:
        values = told[key]
        print(f"{key}: median {statistics.median(values):.3f}, worst {max(values):.3f} of {len(values)}")
    print(f"false alarms: {sum(told['false alarms']):.0f} in {args.runs} runs, {len(told['false alarms'])} good frames")
    print(f"runs told of a lean or a hole that was not: {sum(told['false lean or hole']):.0f}")
    for fault in (*FAULTS, *OF_THE_RUN):
        print(f"{fault}: {sum(told[f'{fault} found']):.0f} of {len(told[f'{fault} put in'])} found")


if __name__ == "__main__":
    main()
