"""What it costs to open a large outing with its joined picture: 200 frames of 24 MP.

    .venv/bin/python benchmarks/reopening.py

Prints the CPU that the process takes until the picture is shown and until all is done, and what reading the result alone takes.
On 2026-11-30, two cores: 0.17 s of CPU to read the result (80 s before, when every frame was decoded), 0.96 s until the picture is
shown (1.8 before the map was drawn after it, and the plan judged when it is looked at), 1.3 s until nothing runs.
"""

from __future__ import annotations

import math
import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
from PIL import Image

from idle_lantern.core.geometry import rotations
from idle_lantern.core.join import report as told
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.pictures.pyramid import PyramidInfo, packed, write_pyramid
from idle_lantern.core.pictures.source import TILE

FRAMES, WIDTH, HEIGHT = 200, 6000, 4000
FOCAL_PX = 12_000.0
PER_ROW = 20

OPEN = """
import sys, time
from pathlib import Path
from PyQt6.QtTest import QTest
from idle_lantern.app import theme
from idle_lantern.app.main import make_application
from idle_lantern.app.settings import Settings
from idle_lantern.app.window import Window
app = make_application(); theme.apply(app, "dark")
window = Window(Settings(stage="join")); window.resize(1280, 800); window.show(); QTest.qWaitForWindowExposed(window)
cpu = time.process_time()
window.outings.open(Path(sys.argv[1]), "join")
while window.state.joined is None or not window.join_stage.view.ready:
    app.processEvents(); time.sleep(0.002)
window.grab()
shown = time.process_time() - cpu
while not window.tasks.idle:
    app.processEvents(); time.sleep(0.002)
window.grab()
print(shown, time.process_time() - cpu)
window.close()
"""
READ = """
import sys, time
from pathlib import Path
from idle_lantern.core.join.reopening import load_result
from idle_lantern.core.outing import document
folder = Path(sys.argv[1]); outing = document.load(folder)
begun = time.process_time()
files = {r.id: document.resolve(folder, r) for r in outing.frames}
found = load_result(folder / "pictures/joined.tif", folder / "pictures/joined.json", files.get)
assert found.solution is not None
print(time.process_time() - begun)
"""


def make(folder: Path) -> None:
    """An outing whose frames were joined."""
    (folder / "frames").mkdir(parents=True)
    (folder / "pictures").mkdir()
    rng = np.random.default_rng(1)
    small = rng.integers(0, 255, (HEIGHT // 8, WIDTH // 8, 3), dtype=np.uint8)
    first = folder / "frames" / "f000.jpg"
    Image.fromarray(small).resize((WIDTH, HEIGHT)).save(first, quality=92)
    refs, rows = [], []
    for i in range(FRAMES):
        name = f"f{i:03d}.jpg"
        if i:
            os.link(first, first.with_name(name))
        yaw, pitch = (i % PER_ROW - PER_ROW / 2) * 18.0, 40.0 - 9.0 * (i // PER_ROW)
        refs.append(FrameRef(f"frames/{name}", i + 1, yaw, pitch, 0.0, id=f"id{i}"))
        turn = rotations.from_yaw_pitch_roll(math.radians(yaw), math.radians(pitch), 0.0)
        matrix = tuple(tuple(map(float, row)) for row in turn)
        rows.append(
            told.FrameRow(
                file=name, used=True, width=WIDTH, height=HEIGHT, bits=8, placed_by="features",
                lens=told.LensRow("rectilinear", FOCAL_PX, 0.0, 0.0, 0.0, 0.0, 0.0),
                pose=told.PoseRow(yaw, pitch, 0.0, matrix, 0.01), shown_px=[[(0, 0), (9, 0), (9, 9)]],  # type: ignore[arg-type]
            )
        )  # fmt: skip
    width, height = 20_480, 5_120
    eye = ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))
    canvas = told.CanvasRow(
        "cylindrical", {}, width, height, width / 2 / math.pi, ((width - 1) / 2, (height - 1) / 2), eye, True
    )
    report = told.Report(
        frames=tuple(rows), canvas=canvas, frame_ids=tuple(r.id for r in refs), rms_px=0.1, suspects=(), working_mp=0.2,
        largest_rectangle=told.BoxRow(0, 0, width, height),
        links=tuple(told.LinkRow(i, i + 1, 90, 80, 0.1) for i in range(FRAMES - 1)),
    )  # fmt: skip
    (folder / "pictures" / "joined.json").write_bytes(report.to_json())
    info = PyramidInfo(width, height, alpha=False)
    tile = packed(rng.integers(0, 255, (TILE, TILE, 3), dtype=np.uint8), None)
    write_pyramid(folder / "pictures" / "joined.tif", info, (tile for _ in range(info.rows * info.columns)))
    document.save(Outing("Two hundred", "2026-05-14T18:40", frames=tuple(refs)), folder)


def measured(script: str, folder: Path, runs: int = 5) -> list[tuple[float, ...]]:
    """Seconds of CPU of each run at each point that the script tells of, after one run that is not counted."""
    values = []
    for _ in range(runs + 1):
        done = subprocess.run([sys.executable, "-c", script, str(folder)], check=True, capture_output=True, text=True)
        values.append(tuple(map(float, done.stdout.split())))
    return values[1:]


def main() -> None:
    """Measure and print."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    with tempfile.TemporaryDirectory() as scratch:
        for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"):
            os.environ[name] = scratch
        folder = Path(scratch) / "outing"
        make(folder)
        for script, points in (
            (READ, ("the result read",)),
            (OPEN, ("opened until the picture is shown", "until it lies on the map too and nothing runs")),
        ):
            for point, values in zip(points, zip(*measured(script, folder), strict=True), strict=True):
                print(f"{point}: median {statistics.median(values):.2f} s of CPU, worst {max(values):.2f}")


if __name__ == "__main__":
    main()
