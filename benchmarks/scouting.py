"""Scouting: from five telephone frames to a ground, and the foreseen picture while an end is dragged.

    .venv/bin/python benchmarks/scouting.py

Frames of 12 MP as telephones take them, rendered by the simulator; the plan has some 200 frames. Times are of one run on this machine.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))
from tests.helpers.sets import render

from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.scouting.foreseen import foresee
from idle_lantern.core.scouting.reprojection import read_reprojected
from idle_lantern.core.scouting.scout import scouted
from idle_lantern.simulator.diorama import ambrel_holm


def main() -> None:
    """Run and tell."""
    lens = Lens("rectilinear", 3150, 3000, 4000)
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        frames = render(folder, lens, [(-52 + 26 * i, 0, 0) for i in range(5)], scene=ambrel_holm(walkers=2))
        start = time.perf_counter()
        kept, data = scouted(frames.paths)
        print(f"five telephone frames of 12 MP to a ground: {time.perf_counter() - start:.1f} s")
        (folder / "ground.png").write_bytes(data)
        ground = read_reprojected(kept, folder / "ground.png")
    brief = Brief(rig=Rig(focal_mm=140.0), target_field=TargetField(-70, 60, -20, 20))
    times, count = [], 0
    for k in range(30):
        plan = make_plan(replace(brief, target_field=replace(brief.target_field, right_deg=60.0 + k / 2)))
        count = len(plan.frames)
        start = time.perf_counter()
        foresee(plan, [ground], most_px=200_000, costs=False)
        times.append(1000 * (time.perf_counter() - start))
    print(f"foreseen picture of {count} frames: median {statistics.median(times):.0f} ms, worst {max(times):.0f} ms")


if __name__ == "__main__":
    main()
