"""What the directions that the field desk found save the join: solving with and without them, in turn, in one run.

.venv/bin/python benchmarks/desk_prior.py [--rows 3] [--columns 8] [--pairs 5]
"""

from __future__ import annotations

import argparse
import statistics
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))
from tests.helpers.sets import render

from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.registration.solve.solve import solve


def main() -> None:
    """Run and tell."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rows", type=int, default=3)
    parser.add_argument("--columns", type=int, default=8)
    parser.add_argument("--pairs", type=int, default=5)
    args = parser.parse_args()
    rng = np.random.default_rng(1)
    with tempfile.TemporaryDirectory() as folder:
        pitches = [26 * ((args.rows - 1) / 2 - r) for r in range(args.rows)]
        looks = [(22 * (c - (args.columns - 1) / 2), pitch, 0) for pitch in pitches for c in range(args.columns)]
        files = render(Path(folder), Lens("rectilinear", 1400, 1000, 1500), looks)
        frames = gather(files.paths)
        took: dict[str, list[float]] = {"alone": [], "desk, 0.01 degrees": [], "plan, 0.5 degrees": []}
        for _ in range(args.pairs):
            for name, miss in zip(took, (None, 0.01, 0.5)):
                prior = (
                    None
                    if miss is None
                    else [c @ rotations.from_vector(rng.normal(0, np.radians(miss), 3)) for c in files.cameras]
                )
                begun = time.process_time()
                solve(frames, prior=prior)
                took[name].append(time.process_time() - begun)
    for name, seconds in took.items():
        ratios = [a / b for a, b in zip(seconds, took["alone"])]
        print(
            f"{name}: median {statistics.median(seconds):.1f} s of CPU, {statistics.median(ratios):.2f} of alone, worst {max(seconds):.1f}"
        )


if __name__ == "__main__":
    main()
