"""The joining engine beside OpenCV's stitching class: CPU time, exactness, memory, and the floor.

    .venv/bin/python benchmarks/join_vs_opencv.py [--frames 8 24] [--megapixels 6] [--runs 3]

Renders rows and grids of the simulated island once (kept in a cache folder), then runs both on
the same JPEG files, each as a process of its own that reads JPEG and writes its full-size JPEG.
OpenCV runs at full compositing resolution with its confidence threshold lowered to 0.3, since at
its default it keeps only part of the frames. The floor is decode + one cubic warp of the canvas
area + compress, no more. Prints medians over the runs. On 2026-11-26, two cores, three runs (the machine's
own noise is a fifth):

    | set | used | RMS px | max px | CPU s | OpenCV s | ratio | to floor | wall s | peak MiB |
    | 8 x 6 MP | 8 | 0.0112 | 0.035 | 6.4 | 47.0 | 0.14 | 2.07 | 4.3 | 372 |
    | 24 x 6 MP | 24 | 0.0090 | 0.032 | 13.2 | 38.1 | 0.35 | 2.31 | 8.8 | 716 |

60 x 12 MP by the command with ``--width 28284`` (0.4 Gpx TIFF): 60 used, 0.0079 / 0.034 px, 159 s of CPU, peak
943 MiB; OpenCV was stopped at 1 333 s of CPU, not done.
"""

from __future__ import annotations

import argparse
import json
import math
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.simulator.camera import SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.truth import registration_error_px

OPENCV = """
import sys, cv2
frames = [cv2.imread(f) for f in sys.argv[2:]]
stitcher = cv2.Stitcher.create(cv2.Stitcher_PANORAMA)
stitcher.setPanoConfidenceThresh(0.3); stitcher.setCompositingResol(-1)
status, picture = stitcher.stitch(frames)
if status == 0: cv2.imwrite(sys.argv[1], picture)
print(status, "" if picture is None else picture.shape[1], "" if picture is None else picture.shape[0])
"""
FLOOR = """
import sys, cv2, numpy as np
width, height = int(sys.argv[2]), int(sys.argv[3])
frames = [cv2.imread(f) for f in sys.argv[4:]]
canvas = np.zeros((height, width, 3), np.uint8)
strip = -(-width // len(frames))
for i, frame in enumerate(frames):
    part = canvas[:, i * strip : (i + 1) * strip]
    v, u = np.mgrid[: part.shape[0], : part.shape[1]].astype(np.float32)
    part[...] = cv2.remap(frame, u * (frame.shape[1] / part.shape[1]) + 0.3, v * (frame.shape[0] / part.shape[0]) + 0.3, cv2.INTER_CUBIC)
cv2.imwrite(sys.argv[1], canvas)
"""


def make_set(folder: Path, count: int, megapixels: float) -> tuple[list[Path], Lens, list[np.ndarray]]:
    """``count`` upright frames in rows of eight, rendered unless they are there already."""
    height = round(math.sqrt(megapixels * 1.5e6))
    width = round(height / 1.5)
    lens = Lens("rectilinear", 1.17 * width, width, height)
    rows = -(-count // 8)
    pitches = [0.0] if rows == 1 else np.linspace(22 * (rows - 1) / 2, -22 * (rows - 1) / 2, rows).tolist()
    directions = [(-108.0 + 31 * c, p) for p in pitches for c in range(8)][:count]
    head = SimulatedHead(play_deg=0.25, base_tilt_deg=0.5, base_tilt_toward_deg=30)
    poses = [head.pointed(y, p, shot=i) for i, (y, p) in enumerate(directions)]
    paths = [folder / f"f{i:03d}.jpg" for i in range(count)]
    scene, camera = ambrel_holm(), SimulatedCamera(lens, 24.0, 24.0 * width / lens.focal_px)
    folder.mkdir(parents=True, exist_ok=True)
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * height / lens.focal_px)
    for i, (path, pose) in enumerate(zip(paths, poses)):
        if not path.exists():
            write(
                camera.expose(scene, pose, time_s=2.0 * i, seed=i), path, WriteOptions(jpeg_quality=95, metadata=meta)
            )
    return paths, lens, poses


def measured(command: list[str]) -> tuple[float, float, str]:
    """CPU seconds, wall seconds and standard output of a command."""
    before, start = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    cpu = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return cpu, time.perf_counter() - start, done.stdout


def measured_join(paths: Sequence[Path], scratch: Path, *more: str) -> tuple[float, float, dict[str, Any]]:
    """CPU seconds, wall seconds and report of our command, which writes its picture into ``scratch``."""
    told = scratch / "report.json"
    command = [sys.executable, "-m", "idle_lantern.cli.main", "join", *map(str, paths), "--fresh"]
    cpu, wall, _text = measured([*command, "--out", str(scratch / "ours.jpg"), "--report", str(told), *more])
    return cpu, wall, json.loads(told.read_text())


def compare(folder: Path, count: int, megapixels: float, runs: int) -> str:
    """One row of the table."""
    paths, lens, poses = make_set(folder, count, megapixels)
    names = [str(p) for p in paths]
    ours, theirs, floors, walls = [], [], [], []
    with tempfile.TemporaryDirectory() as scratch:
        out = f"{scratch}/o.jpg"
        for _ in range(runs):
            cpu, wall, report = measured_join(paths, Path(scratch))
            ours.append(cpu)
            walls.append(wall)
            size = [str(report["canvas"]["width"]), str(report["canvas"]["height"])]
            theirs.append(measured([sys.executable, "-c", OPENCV, out, *names])[0])
            floors.append(measured([sys.executable, "-c", FLOOR, out, *size, *names])[0])
    used = [i for i, f in enumerate(report["frames"]) if f["used"]]
    solved = [Lens(**report["frames"][i]["lens"], width=lens.width, height=lens.height) for i in used]
    rotations = [np.array(report["frames"][i]["pose"]["rotation"]) for i in used]
    error = registration_error_px(lens, [poses[i] for i in used], solved, rotations)
    mine, other, floor = (statistics.median(v) for v in (ours, theirs, floors))
    return (
        f"| {count} x {megapixels:g} MP | {len(used)} | {math.sqrt((error**2).mean()):.4f} | {error.max():.3f} | "
        f"{mine:.1f} | {other:.1f} | {mine / other:.2f} | {mine / floor:.2f} | {statistics.median(walls):.1f} | "
        f"{report['peak_rss_mib']:.0f} |"
    )


def main() -> None:
    """Measure and print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--frames", type=int, nargs="+", default=[8, 24])
    parser.add_argument("--megapixels", type=float, default=6.0)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--cache", type=Path, default=Path(tempfile.gettempdir()) / "idle-lantern-benchmark")
    args = parser.parse_args()
    print("| set | used | RMS px | max px | CPU s | OpenCV s | ratio | to floor | wall s | peak MiB |")
    print("|---|---|---|---|---|---|---|---|---|---|")
    for count in args.frames:
        print(compare(args.cache / f"{count}x{args.megapixels:g}", count, args.megapixels, args.runs), flush=True)


if __name__ == "__main__":
    main()
