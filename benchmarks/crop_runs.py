"""What the crop really loses: runs shot in the simulated place as their support points, joined, against what the plan told.

    python benchmarks/crop_runs.py [--sets 20] [--first 1]

Four kinds of plans in turn. Told are the share of the canvas outside the largest rectangle of each joined picture, and
how many lie in the interval that four runs in five should.
"""

from __future__ import annotations

import json
import math
import sys
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
from kept_sets import kept_sets
from tests.helpers.commands import run_command

from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry import rotations
from idle_lantern.core.plan.brief import Brief, Support
from idle_lantern.core.plan.coverage import cameras_of
from idle_lantern.core.plan.planner import Plan, make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.simulator.camera import CameraSettings, SimulatedCamera
from idle_lantern.simulator.diorama import ambrel_holm

_FRAME_PX = 400_000
BRIEFS = {
    "row of 20 mm by hand": Brief(rig=Rig(focal_mm=20), support=Support("hand")),
    "row of 35 mm on a tripod": Brief(
        rig=Rig(focal_mm=35), target_field=TargetField(-80, 80, -15, 15), support=Support("tripod")
    ),
    "rows of 24 mm on a tripod": Brief(
        rig=Rig(focal_mm=24, upright=False),
        target_field=TargetField(-70, 70, -32, 30, 1 / 3, 0.4),
        support=Support("tripod"),
    ),
    "row of 24 mm by hand": Brief(
        rig=Rig(focal_mm=24), target_field=TargetField(-80, 80, -20, 20), support=Support("hand")
    ),
}


def shot(plan: Plan, seed: int, folder: Path) -> None:
    """A run of the plan: base and frames as its support holds them, drawn by NumPy and nothing of the planner's."""
    rng, support, rig = np.random.default_rng([380, seed]), plan.brief.support.as_used(), plan.rig
    lens = rig.lens()
    lens = lens.scaled(min(1.0, math.sqrt(_FRAME_PX / (lens.width * lens.height))))
    side_mm = rig.sensor_height_mm if rig.upright else rig.sensor_width_mm
    body = SimulatedCamera(lens, rig.focal_mm, side_mm)
    rolls = 1.0 if support.kind == "hand" else 0.4
    lean, scene = rotations.about_z(math.radians(support.base_tilt_deg)), ambrel_holm()
    for i, camera in enumerate(cameras_of(plan.frames)):
        yaw, pitch, roll = np.radians(rng.normal(0, support.pointing, 3))
        pose = lean @ camera @ rotations.from_yaw_pitch_roll(yaw, pitch, rolls * roll)
        picture = body.expose(scene, pose, CameraSettings(), seed=i)
        meta = Metadata(focal_mm=rig.focal_mm, sensor_width_mm=side_mm)
        write(picture, folder / f"f{i:02d}.jpg", WriteOptions(jpeg_quality=94, metadata=meta))


def main() -> None:
    within, names = [], list(BRIEFS)
    with kept_sets(__doc__) as (seeds, kept):
        for seed in seeds:
            name = names[seed % len(names)]
            plan, folder = make_plan(BRIEFS[name]), kept / f"{seed:03d}"
            if not folder.exists():
                folder.mkdir()
                shot(plan, seed, folder)
            done = run_command(
                "join", folder, "--out", kept / f"{seed:03d}.png", "--report", kept / f"{seed:03d}.json",
                "--projection", plan.size.projection, "--no-groups",
            )  # fmt: skip
            if done.returncode:
                print(f"{seed} {name}: {done.stderr.splitlines()[-1]}")
                continue
            report = json.loads((kept / f"{seed:03d}.json").read_text())
            box, canvas = report["largest_rectangle"], report["canvas"]
            lost = 1 - box["width"] * box["height"] / (canvas["width"] * canvas["height"])
            crop = plan.crop
            within.append(crop.low <= lost <= crop.high)
            used = sum(f["used"] for f in report["frames"])
            print(
                f"{seed} {name}: {lost:.3f} lost, told {crop.expected:.3f} ({crop.low:.3f} to {crop.high:.3f}), "
                f"{used} of {len(plan.frames)} frames" + ("" if within[-1] else "  OUTSIDE"),
                flush=True,
            )
    print(f"{sum(within)} of {len(within)} within what four runs in five should lie in")


if __name__ == "__main__":
    main()
