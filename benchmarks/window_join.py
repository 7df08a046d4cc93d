"""A large join from the window: memory of the process, and how long the interface thread was ever held.

    .venv/bin/python benchmarks/window_join.py [--megapixels 12] [--columns 15] [--rows 4]

Frames are those of ``natural_scenes.py``; they are brought in and joined in the real window, offscreen, which shows
the rough picture and then the tiles, while this turns the interface over as a person's computer does.
"""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_CACHE_HOME"] = os.environ["XDG_DATA_HOME"] = os.environ["XDG_CONFIG_HOME"] = tempfile.mkdtemp()

from natural_scenes import Set, make_set

from idle_lantern.core.base.memory import peak_rss_mib


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--megapixels", type=float, default=12.0)
    parser.add_argument("--columns", type=int, default=15)
    parser.add_argument("--rows", type=int, default=4)
    parser.add_argument("--make", action="store_true", help="only make the frames: that takes more memory")
    args = parser.parse_args()
    what = Set(args.columns, args.rows, args.megapixels, step_deg=22.0, seed=6)
    name = f"window-{args.columns}x{args.rows}x{args.megapixels:g}MP"
    paths, _lens, _poses = make_set(Path(tempfile.gettempdir()) / "idle-lantern-natural" / name, what)
    if args.make:
        return

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
    held: dict[str, list[float]] = {}

    def turn_until_idle(what_runs: str) -> None:
        began = time.perf_counter()
        times = held.setdefault(what_runs, [])
        while True:
            at = time.perf_counter()
            app.processEvents()
            times.append(time.perf_counter() - at)
            if window.tasks.idle and window.state.judgements is not None:
                break
            time.sleep(0.004)
        times.sort()
        print(
            f"{what_runs}: {time.perf_counter() - began:.0f} s, interface thread held at most {1e3 * times[-1]:.0f} ms"
            f" (next {1e3 * times[-2]:.0f}, {1e3 * times[-3]:.0f}), memory {peak_rss_mib():.0f} MiB",
            flush=True,
        )

    window.frames_stage.bring(list(paths))
    turn_until_idle("bringing in and reading")
    window.go("join")
    window.join_stage.run_join()
    turn_until_idle("joining")
    joined = window.state.joined
    assert joined is not None
    print(f"{len(paths)} frames of {args.megapixels:g} MP")
    window.close()


if __name__ == "__main__":
    main()
