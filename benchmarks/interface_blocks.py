"""What holds the interface thread for more than 100 ms, with the place in the code, while a window is used.

    python benchmarks/interface_blocks.py [--shoot]

A simulated row is planned, shot, looked at, joined, composed; looks and sizes of text change; a sphere is planned and with
``--shoot`` shot and joined, with the map as zenith and nadir. On 2026-12-01, two cores, Xvfb: 11 blocks, five of them changes of look
or size of text (307 to 373 ms, Qt dressing all widgets anew), the others 100 to 181 ms; 9 blocks the day before.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import threading
import time
import traceback
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QTimer

from idle_lantern.app import theme
from idle_lantern.app.main import make_application
from idle_lantern.app.settings import Settings
from idle_lantern.app.window import Window
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.kinds import kind_of

#: Longer than this is felt.
FELT_S = 0.1


class Watchdog:
    """Counts how long the interface thread did not come back, and where it was meanwhile."""

    def __init__(self) -> None:
        self._beat = time.perf_counter()
        self._where: list[str] = []
        self.blocks: list[tuple[float, list[str]]] = []
        self._main = threading.main_thread().ident or 0
        self._timer = QTimer()
        self._timer.timeout.connect(self._tick)
        self._timer.start(5)
        threading.Thread(target=self._watch, daemon=True).start()

    def _tick(self) -> None:
        now = time.perf_counter()
        if now - self._beat > FELT_S:
            self.blocks.append((now - self._beat, self._where))
        self._beat, self._where = now, []

    def _watch(self) -> None:
        while True:
            time.sleep(0.01)
            if time.perf_counter() - self._beat > FELT_S and not self._where:
                stack = traceback.extract_stack(sys._current_frames()[self._main])
                self._where = [
                    f"{Path(f.filename).name}:{f.lineno} {f.name}" for f in stack if "idle_lantern" in f.filename
                ][-4:]


def main() -> None:
    """Use the window and print what was felt."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--shoot", action="store_true", help="shoot and join a sphere too")
    shoot = parser.parse_args().shoot
    with tempfile.TemporaryDirectory() as scratch:
        for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME"):
            os.environ[name] = scratch
        app = make_application()
        theme.apply(app, "dark")
        window = Window(Settings(quick=True))
        window.resize(1280, 800)
        window.show()

        def rest() -> None:
            quiet = time.perf_counter()
            while time.perf_counter() - quiet < 0.15:
                app.processEvents()
                time.sleep(0.002)
                if not (window.tasks.idle and window.plan_stage.judged):
                    quiet = time.perf_counter()

        watchdog, found = Watchdog(), []

        def act(name: str, run: Callable[[], object]) -> None:
            rest()
            watchdog.blocks.clear()
            run()
            rest()
            found.extend((took, name, where) for took, where in watchdog.blocks)

        small = edits.set_rig("Small", width_px=900, height_px=600)
        act("begin", lambda: (window.outings.begin("Row", "simulated"), window.state.apply(small)))
        act("shoot a row", lambda: (window.go("field"), window.field_stage.shoot_all()))
        act("frames", lambda: window.go("frames"))
        act("join", lambda: (window.go("join"), window.join_stage.run_join()))
        act("compose", lambda: window.trigger("compose.open"))
        act("back", lambda: window.trigger("compose.open"))
        for stage in ("plan", "field", "frames", "join", "deliver", "logbook"):
            act(f"open {stage}", lambda s=stage: window.go(s))  # type: ignore[misc]
        for look in ("light", "field", "dark"):
            act(f"{look} look", lambda name=look: window.set_look(name))  # type: ignore[misc]
        act("larger text", lambda: window.set_text_size(1))
        act("smaller text", lambda: window.set_text_size(-1))
        sphere = edits.change_brief("Sphere", kind_of("sphere").start)
        act(
            "plan a sphere",
            lambda: (
                window.outings.begin("Sphere", "simulated"),
                window.state.apply(sphere),
                window.state.apply(small),
            ),
        )
        for form in ("globe", "poles"):
            act(f"map as {form}", lambda name=form: window.map.set_form(name))  # type: ignore[misc]
        if shoot:
            act("shoot a sphere", lambda: (window.go("field"), window.field_stage.shoot_all()))
            act("join a sphere", lambda: (window.go("join"), window.join_stage.run_join()))
        window.close()
        for took, name, where in sorted(found, reverse=True)[:40]:
            print(f"{1000 * took:5.0f} ms  {name:16}  {' < '.join(reversed(where))}")
        print(
            f"{len(found)} blocks over {1000 * FELT_S:.0f} ms, {sum(took > 0.2 for took, _n, _w in found)} over 200 ms"
        )


if __name__ == "__main__":
    main()
