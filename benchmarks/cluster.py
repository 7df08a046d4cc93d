"""A join by the workers of a Dask scheduler against the same join by threads: CPU of all processes, wall time, and whether the bytes agree.

    .venv/bin/python benchmarks/cluster.py [--frames 20] [--megapixels 12] [--workers 2]

Frames are parts of a photograph, drawn larger. The workers are processes of one thread each on this machine; their start and that of
the scheduler are counted apart. On 2026-12-02, two cores, 20 frames of 12 MP:

    threads of one process: 46.5 s, CPU 58.3 s
    2 workers: 62.4 s, CPU 92.0 s (44.4 here), 1.58 x; their start 4.1 s
    same bytes
"""

from __future__ import annotations

import argparse
import json
import math
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.reference.photographs import cut

from idle_lantern.core.geometry.lenses import Lens

DASK = str(Path(sys.executable).with_name("dask"))
QUIET = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}


def children_s() -> float:
    """CPU of all processes that were begun here and have ended."""
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    return used.ru_utime + used.ru_stime


def joined(paths: list[Path], out: Path, *more: str) -> tuple[float, float]:
    """Wall and CPU seconds of a join by the command line."""
    before, start = children_s(), time.perf_counter()
    command = [sys.executable, "-m", "idle_lantern.cli.main", "join", *map(str, paths), "--out", str(out), "--fresh"]
    subprocess.run([*command, *more], check=True, **QUIET)
    return time.perf_counter() - start, children_s() - before


def cluster(folder: Path, workers: int) -> tuple[str, list[subprocess.Popen[bytes]]]:
    """A scheduler and its workers; its address, and their processes."""
    told = folder / "scheduler.json"
    begun = [
        subprocess.Popen(
            [DASK, "scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard", "--scheduler-file", told],
            **QUIET,
        )
    ]
    while not told.exists():
        time.sleep(0.1)
    worker = [DASK, "worker", "--scheduler-file", told, "--nthreads", "1", "--no-dashboard", "--no-nanny"]
    begun += [subprocess.Popen(worker, **QUIET) for _ in range(workers)]
    time.sleep(5)
    return json.loads(told.read_text())["address"], begun


def ended(begun: list[subprocess.Popen[bytes]]) -> float:
    """End the processes; the CPU that they took."""
    before = children_s()
    for process in begun[1:] + begun[:1]:
        process.terminate()
        process.wait()
    return children_s() - before


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--frames", type=int, default=20)
    parser.add_argument("--megapixels", type=float, default=12.0)
    parser.add_argument("--workers", type=int, default=2)
    args = parser.parse_args()
    width = round(math.sqrt(args.megapixels * 1e6 * 1.5))
    lens = Lens("rectilinear", width * 1.9, width, round(width / 1.5))
    columns = math.ceil(args.frames / 2)
    looks = [(-5.0 * columns + 10.0 * c, p, 0.0) for p in (6.5, -6.5) for c in range(columns)][: args.frames]
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        paths, _cameras = cut(folder, lens, looks)
        alone = joined(paths, folder / "alone.tif")
        print(f"threads of one process: {alone[0]:.1f} s, CPU {alone[1]:.1f} s")
        _address, begun = cluster(folder, args.workers)
        idle = ended(begun)
        (folder / "scheduler.json").unlink(missing_ok=True)
        address, begun = cluster(folder, args.workers)
        there = joined(paths, folder / "there.tif", "--scheduler", address)
        work = ended(begun) - idle
        cpu = there[1] + work
        print(
            f"{args.workers} workers: {there[0]:.1f} s, CPU {cpu:.1f} s ({there[1]:.1f} here), {cpu / alone[1]:.2f} x; their start {idle:.1f} s"
        )
        print(
            "same bytes"
            if (folder / "alone.tif").read_bytes() == (folder / "there.tif").read_bytes()
            else "OTHER BYTES"
        )


if __name__ == "__main__":
    main()
