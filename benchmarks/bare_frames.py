"""Frames that a scouting picture calls bare beside those that the engine then could not match.

    .venv/bin/python benchmarks/bare_frames.py [--places 14] [--seed 2]

Ten telephone frames of an invented place under a clear or clouded sky are the scouting picture; a plan of several rows that
reaches into the sky is judged by it, then rendered and joined by its features alone. Frames whose share is not known (beyond what
was scouted) do not count.
"""

from __future__ import annotations

import argparse
import math
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))
from tests.helpers.sets import render

from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.registration.solve.solve import solve
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.core.scouting.remarks import details_of
from idle_lantern.core.scouting.scout import scouted
from idle_lantern.core.scouting.scout_picture import BARE
from idle_lantern.simulator.diorama import ambrel_holm

TELEPHONE = Lens("rectilinear", 560, 480, 640)
MOST_FRAMES = 26


def place(rng: np.random.Generator, folder: Path) -> list[tuple[bool, bool]]:
    """For each frame whose share is known: called bare, and left without a match."""
    scene = ambrel_holm(walkers=0, clouds=float(rng.choice([0.0, 0.0, 0.15, 0.5])))
    yaw = float(rng.uniform(-180, 180))
    rig = Rig(focal_mm=float(rng.choice([28, 35, 50])), width_px=900, height_px=600, upright=bool(rng.random() < 0.5))
    plan = make_plan(
        Brief(rig=rig, target_field=TargetField(yaw - 35, yaw + 35, -20, float(rng.uniform(20, 65)), 1 / 3))
    )
    if len(plan.frames) > MOST_FRAMES:
        return []
    for name in ("a", "b"):
        (folder / name).mkdir()
    looks = [(yaw - 50 + 25 * i, pitch, 0.0) for pitch in (2.0, 38.0) for i in range(5)]
    kept, _ = scouted(render(folder / "a", TELEPHONE, looks, scene=scene).paths)
    kept = replace(kept, turn_deg=(yaw, 0.0, 0.0))
    frames = render(folder / "b", plan.rig.lens(), [(f.yaw_deg, f.pitch_deg, 0.0) for f in plan.frames], scene=scene)
    solved = solve(gather(frames.paths), JoinOptions(refine=False), None)
    used = {
        f for f, how in solved.placed_by.items() if how == "features"
    }  # what the grid's regularity places shows nothing
    return [(d.share < BARE, i not in used) for i, d in enumerate(details_of(plan, [kept])) if not math.isnan(d.share)]


def main() -> None:
    """Run and tell."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--places", type=int, default=14)
    parser.add_argument("--seed", type=int, default=2)
    args = parser.parse_args()
    rng = np.random.default_rng(args.seed)
    rows: list[tuple[bool, bool]] = []
    for _ in range(args.places):
        with tempfile.TemporaryDirectory() as scratch:
            rows += place(rng, Path(scratch))
        right = sum(told == true for told, true in rows)
        print(f"{right} of {len(rows)} frames told rightly; bare {sum(t for _, t in rows)}, missed "
              f"{sum(t and not b for b, t in rows)}, called bare in vain {sum(b and not t for b, t in rows)}", flush=True)  # fmt: skip


if __name__ == "__main__":
    main()
