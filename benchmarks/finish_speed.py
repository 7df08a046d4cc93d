"""Finishing large pictures: how soon a slider is followed, how soon new tiles are there, what a render costs beside copying, and memory.

    .venv/bin/python benchmarks/finish_speed.py [--megapixels 200] [--steps]

The picture is a tiled file of a photograph's detail, 16 bit. Ten usual steps, three of them with masks in directions. *Slider*: a figure
of the last, middle or first step changes, the picture stands in a view of 1280 x 700 at fit, rough while the hand is at it, then whole.
*Pan*: a screenful of new tiles at 100 %. *Render*: all of it written, against reading and writing the same file alone, in CPU.
Figures are in the note of the change that set them; ratios are of one run.
"""

from __future__ import annotations

import argparse
import math
import resource
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import cv2
import numpy as np
from skimage import data
from threadpoolctl import threadpool_limits

from idle_lantern.core.base.memory import tune_allocator
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write_source
from idle_lantern.core.finish.finishing import Finish, KeptLooks, finished
from idle_lantern.core.finish.recipe import SCHEMA, Recipe, parsed
from idle_lantern.core.finish.registry import name_of
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.pictures.kept import KeptPicture
from idle_lantern.core.pictures.operations import OperatedPicture
from idle_lantern.core.pictures.source import PictureSource
from idle_lantern.core.pictures.tiled import open_picture

STEPS = [
    {"do": "noise", "colour": 0.4},
    {"do": "white_balance", "kelvin": 6200, "from_kelvin": 5500},
    {"do": "exposure", "ev": 0.3},
    {"do": "tones", "shadows": 0.4, "highlights": -0.4},
    {"do": "contrast", "amount": 0.2},
    {"do": "curve", "points": [[0, 0], [0.3, 0.27], [0.7, 0.75], [1, 1]],
     "mask": {"kind": "directions", "yaw_deg": [-60, 20], "feather_deg": 30}},
    {"do": "local_contrast", "amount": 0.3},
    {"do": "saturation", "factor": 1.1, "gentle": 0.2,
     "mask": {"kind": "round", "centre_deg": [0, 0], "radius_deg": 20, "feather_deg": 20}},
    {"do": "hue_band", "lightness": -0.4, "mask": {"kind": "gradient", "begin_deg": [0, 0], "end_deg": [0, 30]}},
    {"do": "sharpen", "radius_px": 1.0, "amount": 0.6},
]  # fmt: skip


class Repeated:
    """A photograph repeated over a picture of any size, 16 bit, by tile: costs nothing to make."""

    def __init__(self, width: int, height: int) -> None:
        self.sizes: tuple[tuple[int, int], ...] = ((width, height),)
        self.tile_px, self.space = 512, SRGB
        noise = np.random.default_rng(1).normal(0, 250, (512, 512, 3))
        photo = cv2.resize(data.coffee(), (512, 512)).astype(np.float64) * 257
        self._tile = np.clip(photo + noise, 0, 65535).astype(np.uint16)

    def tile(self, _level: int, row: int, column: int) -> np.ndarray:
        width, height = self.sizes[0]
        return np.roll(self._tile, (37 * row, 91 * column), (0, 1))[: height - 512 * row, : width - 512 * column]


def timed(source: PictureSource, places: list[tuple[int, int, int]]) -> float:
    """Seconds until all tiles are there, by two workers as in the window."""
    began = time.perf_counter()
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(lambda at: source.tile(*at), places))
    return time.perf_counter() - began


def level_for(source: PictureSource, width: int) -> int:
    return max(k for k, size in enumerate(source.sizes) if k == 0 or size[0] >= width)


def tiles_of(source: PictureSource, level: int) -> list[tuple[int, int, int]]:
    width, height = source.sizes[level]
    return [(level, r, c) for r in range(-(-height // 512)) for c in range(-(-width // 512))]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--megapixels", type=float, default=200)
    parser.add_argument("--steps", action="store_true", help="each step's cost alone as well")
    args = parser.parse_args()
    # as the program does
    threadpool_limits(1, user_api="blas")
    cv2.setNumThreads(1)
    tune_allocator()
    width = round(math.sqrt(args.megapixels * 1e6 * 3) / 512) * 512
    height = round(args.megapixels * 1e6 / width / 512) * 512
    recipe = parsed({"schema": SCHEMA, "steps": STEPS}, "")
    with tempfile.TemporaryDirectory() as folder:
        file, out = Path(folder) / "in.tif", Path(folder) / "out.tif"
        write_source(Repeated(width, height), file)
        canvas = Canvas(
            Projection("cylindrical"), width, height, width / math.radians(180), ((width - 1) / 2, (height - 1) / 2)
        )
        picture = KeptPicture(open_picture(file), 96e6)
        ground = Ground(picture.space, (width, height), canvas)
        print(f"{width} x {height}, {width * height / 1e6:.0f} MP, {len(picture.sizes)} levels")
        fit = level_for(picture, 1280)
        rough = min(fit + 1, len(picture.sizes) - 1)
        timed(picture, tiles_of(picture, fit) + tiles_of(picture, rough))
        for told, at in (("last", 9), ("middle", 5), ("first", 0)):
            looks, times = KeptLooks(128_000_000), {}
            for round_ in range(3):
                steps = list(recipe.steps)
                steps[at] = parsed(
                    {"schema": SCHEMA, "steps": [{**STEPS[at], "on": True, **_moved(STEPS[at], round_)}]}, ""
                ).steps[0]
                made = OperatedPicture(
                    picture, [Finish(Recipe(tuple(steps)).working, picture, ground, kept=looks, held=at)]
                )
                for name, level in (("rough", rough), ("whole", fit)):
                    times[name, round_] = timed(made, tiles_of(made, level))
            print(
                f"slider of the {told} step: "
                + ", ".join(
                    f"{n} {1000 * times[n, 2]:.0f} ms (first {1000 * times[n, 0]:.0f})" for n in ("rough", "whole")
                )
            )
        made = finished(picture, recipe, ground)
        made.tile(0, 0, 0)
        middle = (height // 1024, width // 1024)
        places = [(0, middle[0] + r, middle[1] + c) for r in range(2) for c in range(3)]
        print(f"a screenful of new tiles at 100 %: {1000 * timed(made, places):.0f} ms")
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        began = time.process_time()
        write_source(open_picture(file), out, WriteOptions())
        copied = time.process_time() - began
        began = time.process_time()
        write_source(finished(open_picture(file), recipe, ground), out, WriteOptions())
        rendered = time.process_time() - began
        after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        print(
            f"render: {rendered:.1f} s CPU, copying {copied:.1f} s: {rendered / copied:.1f} x; peak {after / 1024:.0f} MiB (before {before / 1024:.0f})"
        )
        if args.steps:
            for step in recipe.steps:
                made = finished(picture, Recipe((step,)), ground)
                made.tile(0, 0, 0)
                began = time.process_time()
                for at in places:
                    made.tile(*at)
                spent = time.process_time() - began
                print(f"  {name_of(type(step)):16} {1e9 * spent / (len(places) * 512 * 512):.0f} ns a pixel")


def _moved(step: dict[str, object], by: int) -> dict[str, float]:
    """The step's first figure moved a little: what a slider does."""
    for name, value in step.items():
        if isinstance(value, float):
            return {name: value + 0.01 * by}
    return {}


if __name__ == "__main__":
    main()
