"""A card of 24 raw files of 24 MP: thumbnails, the careful look, and merging brackets, with the memory that each takes.

    .venv/bin/python benchmarks/card_of_24.py

Frames are one large rendered picture of which each shows a part, so that neighbours overlap by a third; they are made first,
which is not timed. Each task runs in a process of its own.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import cv2
import numpy as np

from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.simulator.camera import SCENE_EV, CameraSettings, SimulatedCamera, SimulatedHead
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.raw_files import write_dng

WIDTH, HEIGHT = 6000, 4000
COUNT = 24

THUMBNAILS = """
import sys, time
from pathlib import Path
from concurrent.futures import ThreadPoolExecutor
from idle_lantern.core.frames.reading import probe, thumbnail
paths = sorted(Path(sys.argv[1]).glob("*.dng")); begun = time.perf_counter()
with ThreadPoolExecutor(2) as pool: list(pool.map(lambda p: (probe(p), thumbnail(p, 400)), paths))
"""
LOOK = """
import sys, time
from pathlib import Path
from idle_lantern.core.audit.audit import audit_card
from idle_lantern.core.sorting.card import sort
paths = sorted(Path(sys.argv[1]).glob("*.dng")); begun = time.perf_counter()
audit_card(sort(paths), prepared=Path(sys.argv[1]) / "prepared")
"""
MERGE = """
import sys, time
from pathlib import Path
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.merging.prepared import Place, prepare
from idle_lantern.core.merging.recipe import Exposure, Recipe
paths = sorted(Path(sys.argv[1]).glob("*.dng")); begun = time.perf_counter()
places = [Place(probe(b), (Exposure(d, -2.0), Exposure(l, 2.0))) for b, d, l in zip(paths[::3], paths[1::3], paths[2::3])]
prepare(places, Recipe(), Path(sys.argv[1]) / "prepared")
"""
TELL = """
peak = next(int(line.split()[1]) / 1024 for line in open("/proc/self/status") if line.startswith("VmHWM"))
print(f"{time.perf_counter() - begun:.1f} s, {peak:.0f} MiB")
"""


def make(folder: Path) -> None:
    """The files, a row of frames turned by two thirds of their field."""
    small = Lens("rectilinear", 1500, 1200, 800)
    camera = SimulatedCamera(small, 24.0, 24.0 * 1200 / 1500)
    gain = 2.0 ** (SCENE_EV - CameraSettings().exposure_value)
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 1200 / 1500, exposure_s=1 / 256, aperture=8.0, iso=100.0)
    for i in range(COUNT):
        pose = SimulatedHead(play_deg=0.2).pointed(-165.0 + 14.0 * i, 0.0, 0.0, shot=i)
        light = camera.view(ambrel_holm(walkers=0), pose).light * gain
        large = cv2.resize(light.astype(np.float32), (WIDTH, HEIGHT), interpolation=cv2.INTER_CUBIC)
        # grain, so that there is detail at the pixel
        large *= 1 + np.random.default_rng(i).normal(0, 0.01, large.shape).astype(np.float32)
        write_dng(folder / f"f{i:02d}.dng", large, meta)


def main() -> None:
    """Make, run, print."""
    with tempfile.TemporaryDirectory() as scratch:
        begun = time.perf_counter()
        make(Path(scratch))
        print(f"{COUNT} files made in {time.perf_counter() - begun:.0f} s")
        for name, code in (
            ("thumbnails", THUMBNAILS),
            ("careful look", LOOK),
            ("eight brackets of three merged", MERGE),
        ):
            done = subprocess.run(
                [sys.executable, "-c", code + TELL, scratch], capture_output=True, text=True, check=True
            )
            print(f"{name}: {done.stdout.strip()}")


if __name__ == "__main__":
    main()
