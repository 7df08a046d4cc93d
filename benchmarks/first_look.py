"""How soon a rough picture stands, how soon another projection, and how the cost grows with the frames.

    .venv/bin/python benchmarks/first_look.py [--runs 3] [--grid]

The 24 frames of 6 megapixels are those of ``join_vs_opencv.py``. "Rough" counts from the list of
files to the picture that the window shows first, with all directions known and with none;
"projection" is the same for solved frames. ``--grid`` renders 240 small frames of a planned grid
and compares CPU seconds a frame with those of its first 60 (ten minutes at first). Prints medians.
On 2026-11-26, two cores:

    rough picture of 24 frames of 6 MP, directions known: 1.19 to 1.39 s
    rough picture of 24 frames of 6 MP, directions unknown: 3.43 to 4.02 s
    another projection, equirectangular: 0.51 s, cylindrical 0.53, mercator 0.54, stereographic 0.63
    CPU a frame, planned grid of 240 at 0.24 MP: 60 frames 0.27 s, 240 frames 0.29 s
"""

from __future__ import annotations

import argparse
import math
import os
import statistics
import tempfile
import time
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from join_vs_opencv import make_set

from idle_lantern.core.base.errors import Cancelled
from idle_lantern.core.compositing.canvas.canvas import make_canvas
from idle_lantern.core.compositing.render.compose import rough_picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import FrameSet, gather
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.join.pipeline import join
from idle_lantern.core.registration.solve.solve import Solution, solve
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.simulator.camera import SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm

PROJECTIONS = ("equirectangular", "cylindrical", "mercator", "stereographic")


def rough_s(paths: list[Path], known: list[np.ndarray] | None) -> float:
    """Seconds from the files to the first rough picture; the join is stopped there."""
    begun = time.perf_counter()

    def first(early: Solution) -> None:
        rough_picture(early, make_canvas(early.poses, early.seen, "auto"))
        raise Cancelled

    try:
        frames = gather(paths)
        solve(frames, JoinOptions(), known, store=DecodedFrames(frames.infos), on_rough=first)
    except Cancelled:
        pass
    return time.perf_counter() - begun


def projection_s(solution: Solution, name: str) -> float:
    """Seconds to the rough picture of solved frames in another projection."""
    begun = time.perf_counter()
    rough_picture(solution, make_canvas(solution.poses, solution.seen, name))
    return time.perf_counter() - begun


def make_grid(folder: Path) -> tuple[list[Path], list[np.ndarray]]:
    """240 frames of 600 x 400 in 24 columns and 10 rows, rendered unless they are there, and where they were planned."""
    lens = Lens("rectilinear", 1650, 600, 400)
    directions = [(-165.0 + 14 * c, 45.0 - 9.5 * r) for c in range(24) for r in range(10)]
    head, scene = SimulatedHead(play_deg=0.25), ambrel_holm()
    camera = SimulatedCamera(lens, 24.0, 24.0 * 600 / 1650)
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 600 / 1650)
    folder.mkdir(parents=True, exist_ok=True)
    paths = [folder / f"f{i:03d}.jpg" for i in range(240)]
    for i, (path, direction) in enumerate(zip(paths, directions)):
        if not path.exists():
            picture = camera.expose(scene, head.pointed(*direction, shot=i), seed=i)
            write(picture, path, WriteOptions(jpeg_quality=95, metadata=meta))
    return paths, [rotations.from_yaw_pitch_roll(math.radians(y), math.radians(p), 0.0) for y, p in directions]


def cpu_per_frame_s(frames: FrameSet, known: list[np.ndarray]) -> float:
    """CPU seconds of a whole join, by frames."""
    begun = time.process_time()
    with tempfile.TemporaryDirectory() as scratch:
        join(frames, Path(scratch) / "o.jpg", JoinOptions(), known)
    return (time.process_time() - begun) / len(frames)


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--grid", action="store_true")
    parser.add_argument("--cache", type=Path, default=Path(tempfile.gettempdir()) / "idle-lantern-benchmark")
    args = parser.parse_args()
    paths, _lens, poses = make_set(args.cache / "24x6", 24, 6.0)
    for name, known in (("known", poses), ("unknown", None)):
        seconds = statistics.median(rough_s(paths, known) for _ in range(args.runs))
        print(f"rough picture of 24 frames of 6 MP, directions {name}: {seconds:.2f} s", flush=True)
    frames = gather(paths)
    solution = solve(frames, store=DecodedFrames(frames.infos))
    for name in PROJECTIONS:
        seconds = statistics.median(projection_s(solution, name) for _ in range(args.runs))
        print(f"another projection, {name}: {seconds:.2f} s", flush=True)
    if args.grid:
        grid, known = make_grid(args.cache / "240")
        few = statistics.median(cpu_per_frame_s(gather(grid[:60]), known[:60]) for _ in range(args.runs))
        many = statistics.median(cpu_per_frame_s(gather(grid), known) for _ in range(args.runs))
        print(f"CPU a frame: 60 frames {few:.2f} s, 240 frames {many:.2f} s, grown by {many / few:.2f}")


if __name__ == "__main__":
    main()
