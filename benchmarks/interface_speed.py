"""How quickly plan edits repaint and how quickly the window opens.

    .venv/bin/python benchmarks/interface_speed.py

Prints medians over several runs. On 2026-11-23, two cores, offscreen:

    edit to painted map, 197 frames: median 42 ms, worst 56 ms
    map painted, 197 frames: median 9 ms, worst 15 ms
    window opens, warm: median 0.89 s, worst 1.07 s
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

START = """
import time; begun = time.perf_counter()
from PyQt6.QtTest import QTest
from idle_lantern.app import theme
from idle_lantern.app.main import make_application
from idle_lantern.app.settings import Settings
from idle_lantern.app.window import Window
app = make_application(); theme.apply(app, "dark")
window = Window(Settings()); window.show(); QTest.qWaitForWindowExposed(window); app.processEvents(); window.grab()
print(time.perf_counter() - begun)
window.close()
"""


def opening_s(runs: int = 5) -> list[float]:
    """Seconds from the start of the interpreter's work to the first painted window, warm."""
    values = []
    for _ in range(runs + 1):
        done = subprocess.run([sys.executable, "-c", START], check=True, capture_output=True, text=True)
        values.append(float(done.stdout))
    return values[1:]


def edits_ms() -> dict[str, list[float]]:
    """Milliseconds of one edit with all it causes: planning, proof, fields, list, map painted."""
    from idle_lantern.app import theme
    from idle_lantern.app.main import make_application
    from idle_lantern.app.settings import Settings
    from idle_lantern.app.window import Window
    from idle_lantern.core.outing import edits

    app = make_application()
    theme.apply(app, "dark")
    window = Window(Settings())
    window.resize(1280, 800)
    window.show()
    window.outings.begin("Benchmark")
    window.state.apply(edits.set_rig("x", focal_mm=55.0))
    window.state.apply(
        edits.set_target_field("x", left_deg=-180.0, right_deg=180.0, low_deg=-60.0, high_deg=60.0, overlap=0.33)
    )
    app.processEvents()
    frames = len(window.state.plan.frames)
    whole, repaint = [], []
    for i in range(20):
        began = time.perf_counter()
        window.state.apply(edits.set_target_field("x", low_deg=-60.0 + 0.1 * (i % 5), high_deg=60.0 - 0.1 * (i % 7)))
        middle = time.perf_counter()
        window.map.grab()
        end = time.perf_counter()
        whole.append(1000 * (end - began))
        repaint.append(1000 * (end - middle))
        app.processEvents()
    window.close()
    return {f"edit to painted map, {frames} frames": whole, f"map painted, {frames} frames": repaint}


def main() -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as scratch:
        for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME"):
            os.environ[name] = scratch
        for name, values in edits_ms().items():
            print(f"{name}: median {statistics.median(values):.0f} ms, worst {max(values):.0f} ms")
        opened = opening_s()
        print(f"window opens, warm: median {statistics.median(opened):.2f} s, worst {max(opened):.2f} s")


if __name__ == "__main__":
    main()
