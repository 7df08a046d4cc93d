"""The window with a picture of 1.5 gigapixels: memory, time to the first view, frame times while panning.

    .venv/bin/python benchmarks/large_pictures.py [--gigapixels 1.5]

Writes a pyramid of noise once (kept in a cache folder), then opens it in the real window, offscreen, zooms to 100 %
and pans across it while tiles come; also tells the longest time that the interface thread was held. On 2026-11-26,
two cores:

    opened to a sharp first view: 0.01 s
    frame while panning: median 5.8 ms, worst 12.4 ms
    interface thread held at most 13 ms
    memory of the process at most 231 MiB
"""

from __future__ import annotations

import argparse
import math
import os
import statistics
import tempfile
import time
from pathlib import Path

import numpy as np

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


from idle_lantern.core.base.memory import peak_rss_mib
from idle_lantern.core.pictures.pyramid import PyramidInfo, packed, write_pyramid
from idle_lantern.core.pictures.source import TILE
from idle_lantern.core.pictures.tiled import TiledPicture


def giant(path: Path, gigapixels: float) -> None:
    """A picture of a few noisy tiles, again and again."""
    width = round(math.sqrt(gigapixels * 2e9))
    info = PyramidInfo(width, width // 2, alpha=False)
    rng = np.random.default_rng(1)
    some = [packed(rng.integers(0, 255, (TILE, TILE, 3), dtype=np.uint8) // 8 + 30 * k, None) for k in range(7)]
    write_pyramid(path, info, (some[i % 7] for i in range(info.rows * info.columns)))


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--gigapixels", type=float, default=1.5)
    args = parser.parse_args()
    path = Path(tempfile.gettempdir()) / f"idle-lantern-{args.gigapixels:g}gpx.tif"
    if not path.exists():
        giant(path, args.gigapixels)
    from PyQt6.QtCore import QPoint, Qt
    from PyQt6.QtGui import QWheelEvent

    from idle_lantern.app import theme
    from idle_lantern.app.main import make_application
    from idle_lantern.app.settings import Settings
    from idle_lantern.app.window import Window

    app = make_application()
    theme.apply(app, "dark")
    window = Window(Settings())
    window.resize(1280, 800)
    window.show()
    window.go("join")
    app.processEvents()
    view = window.join_stage.view
    longest = 0.0

    def turn() -> float:
        nonlocal longest
        began = time.perf_counter()
        app.processEvents()
        took = time.perf_counter() - began
        longest = max(longest, took)
        return took

    def painted(rest_s: float) -> float:
        """Seconds of one painting; then the window goes on for a while."""
        began = time.perf_counter()
        view.repaint()
        took = time.perf_counter() - began
        while time.perf_counter() < began + took + rest_s:
            turn()
        return took

    began = time.perf_counter()
    view.set_source(TiledPicture(path))
    while not view.ready:
        turn()
    opened = time.perf_counter() - began
    view.show_full()
    frames = []
    for step in range(200):
        u, v = view.sight.centre
        view.look_at(u + 90.0, v + 25.0)
        frames.append(painted(0.016))
        if step % 50 == 49:
            view.zoom_by(0.7)
    frames.sort()
    print(f"opened to a sharp first view: {opened:.2f} s")
    print(f"frame while panning: median {1e3 * statistics.median(frames):.1f} ms, worst {1e3 * frames[-1]:.1f} ms")
    print(f"interface thread held at most {1e3 * longest:.0f} ms")
    zooms = []
    middle = view.rect().center().toPointF()
    for notches in (*[1] * 30, *[-1] * 30, *[1] * 30, *[-1] * 30):
        turned = QPoint(0, 120 * notches)
        wheel = QWheelEvent(
            middle, view.mapToGlobal(middle), QPoint(), turned, Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
            Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        app.sendEvent(view, wheel)
        zooms.append(painted(0.03))
    over = sum(t > 0.033 for t in zooms)
    print(
        f"paint while zooming: median {1e3 * statistics.median(zooms):.1f} ms, worst {1e3 * max(zooms):.1f} ms, {over} over 33 ms"
    )
    print(f"memory of the process at most {peak_rss_mib():.0f} MiB")
    window.close()


if __name__ == "__main__":
    main()
