"""A gigapixel joined, then changed: seconds to the first new picture at screen size and to the finished one, and memory.

    .venv/bin/python benchmarks/giant_rework.py [--gigapixels 1.0]

The 24 natural frames of 3 MP of ``natural_scenes.py`` on a canvas that is made so wide that the picture has that many pixels. Then a
corner of a frame is hidden, the picture turned, and another projection chosen, each as the window asks for it: from the same solution,
with what of the earlier picture stays the same taken over.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
from natural_scenes import SETS, make_set

sys.path.insert(0, str(Path(__file__).parents[1]))
from idle_lantern.core.base.memory import forget_peak, peak_rss_mib, tune_allocator
from idle_lantern.core.frames.masks import Mask, mask_bytes
from idle_lantern.core.join.request import Event, Finished, JoinFrame, JoinRequest, RoughReady
from idle_lantern.core.join.service import run
from idle_lantern.core.request.options import JoinOptions


def told(title: str, request: JoinRequest) -> Finished:
    """Carry a request out and print what it took."""
    forget_peak()
    begun, rough, last = time.perf_counter(), 0.0, None

    def sink(event: Event) -> None:
        nonlocal rough, last
        if isinstance(event, RoughReady):
            rough = time.perf_counter() - begun
        last = event

    run(request, sink)
    assert isinstance(last, Finished), last
    tiles = last.result.report.tiles
    print(
        f"{title}: first picture {rough:.2f} s, finished {time.perf_counter() - begun:.1f} s, "
        f"{tiles['made']} of {tiles['of']} tiles made, memory {peak_rss_mib():.0f} MiB",
        flush=True,
    )
    return last


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--gigapixels", type=float, default=1.0)
    args = parser.parse_args()
    tune_allocator()
    cache = Path(tempfile.gettempdir()) / "idle-lantern-natural"
    paths, _lens, _poses = make_set(cache / "24x3MP", SETS["24 x 3 MP"])
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        frames = tuple(JoinFrame(p, str(i)) for i, p in enumerate(paths))
        options = JoinOptions(projection="cylindrical")
        request = JoinRequest(frames, folder / "o.tif", options, report=folder / "o.json", rough=True)
        small = told("as large as its frames", request).result
        wide = round(small.canvas.width * (args.gigapixels * 1e9 / (small.canvas.width * small.canvas.height)) ** 0.5)
        giant = replace(
            request, options=replace(options, width_px=wide), earlier=folder / "o.tif", solution=small.solution
        )
        first = told(f"{args.gigapixels:g} gigapixels", giant).result
        print(f"  {first.canvas.width} x {first.canvas.height}, {(folder / 'o.tif').stat().st_size / 2**30:.2f} GiB")
        hide = np.zeros((150, 100), np.uint8)
        hide[:20, :15] = 255
        (folder / "m.png").write_bytes(mask_bytes(Mask(hide, np.zeros_like(hide))))
        middle = len(frames) // 2
        painted = (*frames[:middle], replace(frames[middle], mask=folder / "m.png"), *frames[middle + 1 :])
        told("a corner hidden", replace(giant, frames=painted))
        told("turned", replace(giant, frames=painted, options=replace(giant.options, turn_deg=(0.0, 0.5, 0.3))))
        told("another projection", replace(giant, options=replace(giant.options, projection="mercator")))


if __name__ == "__main__":
    main()
