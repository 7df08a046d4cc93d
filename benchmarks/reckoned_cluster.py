"""The way to 100 gigapixels, reckoned: a join by workers as a simulation of who waits for whom, tile by tile.

    .venv/bin/python benchmarks/reckoned_cluster.py [--gigapixels 1 10 100] [--workers 2 8 32 128] [--measure]

A tile is asked for by the command (few ahead), passes the scheduler, waits for a worker, is made from frames that the worker reads from
shared storage, comes back over the network of the command's machine, and is written there with its share of the reduced levels. Scheduler,
storage, network and the command's machine do one thing at a time; workers are cores. ``--measure`` takes the costs of a tile from a join
on this machine instead of those noted below.
"""

from __future__ import annotations

import argparse
import heapq
import json
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

TILE = 512


@dataclass(frozen=True)
class Costs:
    """Seconds and bytes, of a tile where nothing else is said.

    The first four were measured on 2026-12-02 (two cores at 2.5 GHz, rows of 12 MP frames); the scheduler's share is what Dask's
    documentation names (a task costs it from 0.2 to 1 ms); networks and storage are usual ones.
    """

    made_s: float = 0.029
    packed_bytes: float = 420_000.0
    written_s: float = 0.006
    solved_s_per_1000_frames: float = 60.0
    scheduled_s: float = 0.0005
    frame_bytes: float = 6e6
    frame_decoded_s: float = 0.12
    frame_mp: float = 12.0
    #: Frames that a worker reads for a tile that it would not have kept from its last ones.
    frames_read: float = 0.05
    network_bytes_s: float = 118e6
    storage_bytes_s: float = 500e6
    plan_bytes_per_frame: float = 20_000.0


@dataclass(frozen=True)
class Reckoned:
    """What a join takes: hours of wall time and of all cores, bytes moved, the share of time each part is busy."""

    hours: float
    core_hours: float
    moved_gb: float
    busy: dict[str, float]

    @property
    def breaks_first(self) -> str:
        """What is busiest."""
        return max(self.busy, key=lambda name: self.busy[name])


class Queue:
    """Something that does one thing at a time."""

    def __init__(self) -> None:
        self.free_s = self.busy_s = 0.0

    def take(self, ready_s: float, seconds: float) -> float:
        """When something that is ready then, and takes so long, is done."""
        self.free_s = max(ready_s, self.free_s) + seconds
        self.busy_s += seconds
        return self.free_s


def joined(gigapixels: float, workers: int, costs: Costs, ahead: int = 4) -> Reckoned:
    """A join of so large a picture by so many cores; ``ahead`` tiles for each may be under way."""
    tiles = int(gigapixels * 1e9 / TILE**2)
    frames = gigapixels * 1e3 / (costs.frame_mp * 0.5)  # half of each frame is overlap
    # dense parts grow faster than the frames: 1.3 is what 250 to 1 000 frames took
    solving = costs.solved_s_per_1000_frames * (frames / 1000) ** 1.3 + frames * costs.frame_decoded_s
    scheduler, storage, network, command = Queue(), Queue(), Queue(), Queue()
    network.take(0, workers * frames * costs.plan_bytes_per_frame / costs.network_bytes_s)
    cores = [0.0] * workers
    busy_cores = 0.0
    written: list[float] = []
    now = 0.0
    for number in range(tiles):
        if number >= workers * ahead:  # the next is asked for when one has been written
            now = max(now, written[number - workers * ahead])
        given = scheduler.take(now, costs.scheduled_s)
        read = storage.take(given, costs.frames_read * costs.frame_bytes / costs.storage_bytes_s)
        work = costs.made_s + costs.frames_read * costs.frame_decoded_s
        done = max(heapq.heappop(cores), read) + work
        heapq.heappush(cores, done)
        busy_cores += work
        back = network.take(done, costs.packed_bytes / costs.network_bytes_s)
        written.append(command.take(back, costs.written_s))
    whole = solving + written[-1]
    parts = {"scheduler": scheduler, "storage": storage, "network": network, "command": command}
    busy = {name: part.busy_s / written[-1] for name, part in parts.items()} | {
        "workers": busy_cores / workers / written[-1]
    }
    moved = tiles * costs.packed_bytes + workers * frames * costs.plan_bytes_per_frame
    return Reckoned(whole / 3600, (solving + busy_cores + command.busy_s) / 3600, moved / 1e9, busy)


def measured(costs: Costs) -> Costs:
    """The costs of a tile as a join on this machine has them."""
    from tests.reference.photographs import cut

    from idle_lantern.core.geometry.lenses import Lens
    from idle_lantern.core.pictures.packing import packed_tile
    from idle_lantern.core.pictures.pyramid import _half_of
    from idle_lantern.core.pictures.tiled import TiledPicture

    with tempfile.TemporaryDirectory() as folder:
        lens = Lens("rectilinear", 5900, 4243, 2828)
        paths, _cameras = cut(Path(folder), lens, [(8.0 * i, 0.0, 0.0) for i in range(5)])
        out, report = Path(folder) / "o.tif", Path(folder) / "r.json"
        command = [sys.executable, "-m", "idle_lantern.cli.main", "join", *map(str, paths), "--out", str(out)]
        subprocess.run([*command, "--report", str(report)], check=True, stderr=subprocess.DEVNULL)
        seconds = json.loads(report.read_text())["timings_s"]
        picture = TiledPicture(out)
        tiles = [picture.tile(0, r, c) for r in range(1, 4) for c in range(1, 8)]
        count = picture.sizes[0][0] * picture.sizes[0][1] / TILE**2
        began = time.process_time()
        for tile in tiles:
            _half_of(tile)
        halved = (time.process_time() - began) / len(tiles)
        began = time.process_time()
        sizes = [len(packed_tile(tile)) for tile in tiles]
        packing = (time.process_time() - began) / len(tiles)
    # two threads made them; a third of the reduced levels' tiles are packed by the command
    return replace(
        costs,
        made_s=2 * seconds["blend"] / count,
        packed_bytes=float(np.mean(sizes)),
        written_s=halved / 3 + packing / 3 + 0.001,
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--gigapixels", type=float, nargs="+", default=[1, 10, 100])
    parser.add_argument("--workers", type=int, nargs="+", default=[2, 8, 32, 128])
    parser.add_argument("--measure", action="store_true")
    args = parser.parse_args()
    costs = measured(Costs()) if args.measure else Costs()
    print(costs)
    for size in args.gigapixels:
        for workers in args.workers:
            told = joined(size, workers, costs)
            busy = ", ".join(f"{name} {share:.0%}" for name, share in told.busy.items())
            print(
                f"{size:g} Gpx, {workers} cores: {told.hours:.2f} h, {told.core_hours:.1f} core hours, {told.moved_gb:.0f} GB; "
                f"{busy}; first {told.breaks_first}"
            )


if __name__ == "__main__":
    main()
