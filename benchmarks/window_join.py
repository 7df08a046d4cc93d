"""A large join from the window: memory of the process, and how long the interface thread was ever held.

    .venv/bin/python benchmarks/window_join.py [--columns 15] [--rows 4] [--make]

Frames of 12 MP: those of ``natural_scenes.py`` at 3 MP, doubled each way with noise of their own. They are brought in
and joined in the real window, offscreen, which shows the rough picture and then the tiles, while this turns the
interface over as a person's computer does. On 2026-11-28, two cores, 60 frames:

    bringing in and reading: 10 s, interface thread held at most 21 ms, memory 216 MiB, at one time together 215 MiB
    joining: 99 s, interface thread held at most 46 ms, memory 354 MiB, its join's process 882 MiB, at one time together 1083 MiB
"""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_CACHE_HOME"] = os.environ["XDG_DATA_HOME"] = os.environ["XDG_CONFIG_HOME"] = tempfile.mkdtemp()

import cv2
import numpy as np
from natural_scenes import Set, make_set

from idle_lantern.core.base.memory import peak_rss_mib, tune_allocator
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import read


def make_frames(columns: int, rows: int) -> list[Path]:
    """Files of the frames, made unless they are there."""
    cache = Path(tempfile.gettempdir()) / "idle-lantern-natural"
    small, lens, _poses = make_set(
        cache / f"window-{columns}x{rows}x3MP", Set(columns, rows, 3.0, step_deg=22.0, seed=6)
    )
    folder = cache / f"window-{columns}x{rows}x12MP"
    folder.mkdir(exist_ok=True)
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * max(lens.width, lens.height) / lens.focal_px)
    rng = np.random.default_rng(5)
    paths = []
    for path in small:
        paths.append(folder / path.name)
        if not paths[-1].exists():
            large = cv2.resize(read(path).pixels, None, fx=2, fy=2, interpolation=cv2.INTER_CUBIC)
            noise = rng.normal(0, 6, large.shape[:2]).astype(np.float32)[..., None]
            pixels = np.clip(large + noise, 0, 255).astype(np.uint8)
            write(Picture(pixels), paths[-1], WriteOptions(jpeg_quality=93, metadata=meta))
    return paths


def memory_mib() -> float:
    """What this process and those it started hold now; pages that they share count once."""
    total = 0
    for status in Path("/proc").glob("[0-9]*/status"):
        try:
            told = status.read_text()
            if status.parent.name == str(os.getpid()) or f"PPid:\t{os.getpid()}\n" in told:
                rollup = (status.parent / "smaps_rollup").read_text()
                total += next(int(line.split()[1]) for line in rollup.splitlines() if line.startswith("Pss:"))
        except OSError:  # it has ended
            continue
    return total / 1024


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--columns", type=int, default=15)
    parser.add_argument("--rows", type=int, default=4)
    parser.add_argument("--make", action="store_true", help="only make the frames, which takes more memory")
    args = parser.parse_args()
    paths = make_frames(args.columns, args.rows)
    if args.make:
        return
    tune_allocator()  # as the program does

    from idle_lantern.app import theme
    from idle_lantern.app.main import make_application
    from idle_lantern.app.settings import Settings
    from idle_lantern.app.window import Window

    app = make_application()
    theme.apply(app, "dark")
    window = Window(Settings())
    window.resize(1280, 800)
    window.show()
    window.outings.begin("Large")
    app.processEvents()

    def turn_until_idle(what: str) -> None:
        began, longest, together, looked = time.perf_counter(), 0.0, 0.0, 0.0
        while True:
            at = time.perf_counter()
            app.processEvents()
            longest = max(longest, time.perf_counter() - at)
            if at > looked + 0.3:
                together, looked = max(together, memory_mib()), at
            if window.tasks.idle and window.state.judgements is not None:
                break
            time.sleep(0.004)
        made = window.state.joined
        apart = "" if made is None else f", its join's process {made.peak_mib:.0f} MiB"
        print(
            f"{what}: {time.perf_counter() - began:.0f} s, interface thread held at most {1e3 * longest:.0f} ms, "
            f"memory {peak_rss_mib():.0f} MiB{apart}, at one time together {together:.0f} MiB",
            flush=True,
        )

    window.frames_stage.bringing.bring(paths)
    turn_until_idle("bringing in and reading")
    window.go("join")
    window.join_stage.run_join()
    turn_until_idle("joining")
    joined = window.state.joined
    assert joined is not None, "it could not be joined"
    used = sum(f.used for f in joined.report.frames)
    print(f"{used} of {len(paths)} frames used, {joined.canvas.width} x {joined.canvas.height} pixels")
    window.close()


if __name__ == "__main__":
    main()
