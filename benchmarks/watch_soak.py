"""The watched folder and the judging of its frames over a long day: files arrive, are taken once each, and memory stays flat.

    .venv/bin/python benchmarks/watch_soak.py [--files 2000] [--every 0.6] [--width 600]

Frames of a few places round the invented island are written again and again under new names and with bytes of their own, as a camera
does; some in parts, some renamed while they are read, some twice. Told are files missed or taken twice, the seconds from complete to
judged, and the memory at each tenth of the run.
"""

from __future__ import annotations

import argparse
import gc
import os
import statistics
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))
from idle_lantern.core.base.memory import tune_allocator
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.watching.folder import Arrival, WatchedFolder
from idle_lantern.core.watching.live_check import LiveCheck
from idle_lantern.simulator.camera import SimulatedCamera
from idle_lantern.simulator.diorama import ambrel_holm


def resident_mib() -> float:
    """Memory that the process holds."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 2**20


def number_of(name: str) -> int:
    """The number in a file's name."""
    return int("".join(c for c in name if c.isdigit()))


def main() -> None:
    """Run and tell."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--files", type=int, default=2000)
    parser.add_argument("--every", type=float, default=0.6, help="seconds between two files")
    parser.add_argument("--width", type=int, default=600)
    args = parser.parse_args()
    tune_allocator()
    rng = np.random.default_rng(5)
    rig = Rig(focal_mm=24, width_px=args.width, height_px=args.width * 2 // 3, upright=False)
    plan = make_plan(Brief(rig=rig, target_field=TargetField(-180, 180, -10, 10, 0.35)))
    camera, place = SimulatedCamera(rig.lens(), 24.0, 36.0), ambrel_holm(walkers=0)
    meta = Metadata(focal_mm=24.0, sensor_width_mm=36.0, aperture=8.0, exposure_s=1 / 256, iso=100.0)
    with tempfile.TemporaryDirectory() as scratch:
        kinds = []
        for k, frame in enumerate(plan.frames):
            path = Path(scratch) / f"kind-{k}.jpg"
            write(
                camera.expose(place, frame.world_from_camera, seed=k),
                path,
                WriteOptions(jpeg_quality=92, metadata=meta),
            )
            kinds.append(path.read_bytes())
        folder = Path(scratch) / "card"
        folder.mkdir()
        watched, live_check = WatchedFolder(folder), LiveCheck(plan)
        taken: list[str] = []
        waits, held, written = [], [], {}
        begun, unplaced = time.monotonic(), 0
        arrived: list[Arrival] = []
        for n in range(args.files):
            k = n % len(kinds)
            # a comment (ISO 10918-1, B.2.4.5) makes each file one of its own
            data = kinds[k][:2] + b"\xff\xfe\x00\x06" + n.to_bytes(4, "big") + kinds[k][2:]
            target = folder / f"f{n:05d}.jpg"
            if n % 7 == 0:  # written in parts
                target.write_bytes(data[: len(data) // 2])
                arrived += watched.step()
                with target.open("ab") as file:
                    file.write(data[len(data) // 2 :])
            else:
                target.write_bytes(data)
            if n % 11 == 0:
                renamed = target.with_name(f"r{n:05d}.jpg")
                target.rename(renamed)
                target = renamed
            if n % 13 == 0:
                (folder / f"copy{n:05d}.jpg").write_bytes(data)
            written[n] = time.monotonic()
            until = begun + (n + 1) * args.every
            while True:
                arrived += watched.step()
                for arrival in arrived:
                    judged = live_check.look(arrival.path, plan.frames[k] if rng.random() < 0.5 else None)
                    taken.append(arrival.path.name)
                    waits.append(time.monotonic() - written[number_of(arrival.path.name)])
                    unplaced += judged.placed_by == "nothing"
                arrived.clear()
                if time.monotonic() >= until:
                    break
                time.sleep(0.05)
            if (n + 1) % max(1, args.files // 10) == 0:
                gc.collect()
                held.append(resident_mib())
                print(f"{n + 1} files, {time.monotonic() - begun:.0f} s: {held[-1]:.0f} MiB", flush=True)
        end = time.monotonic() + 10
        while time.monotonic() < end and len(taken) < args.files:
            taken += [a.path.name for a in watched.step()]
            time.sleep(0.1)
    numbers = [number_of(name) for name in taken]
    gone = sorted(set(range(args.files)) - set(numbers))
    print(
        f"taken {len(taken)}, missed {len(gone)} {gone[:10]}, twice {len(numbers) - len(set(numbers))}, unplaced {unplaced}"
    )
    print(f"complete to judged: median {statistics.median(waits):.2f} s, worst {max(waits):.2f}")
    print(f"memory from the first tenth to the last: {held[0]:.0f} to {held[-1]:.0f} MiB")


if __name__ == "__main__":
    main()
