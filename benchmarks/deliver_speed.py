"""Delivering large pictures: CPU against libvips doing the same from the same file, memory, looking around, and pages.

    .venv/bin/python benchmarks/deliver_speed.py [--megapixels 200] [--vips PYTHON]

The store is a tiled pyramid of a photograph's detail, 16 bit. *Kinds*: pyramid TIFF (deflate), JPEG, tiles for a page, each in a
process of its own, in CPU seconds and peak memory, against pyvips in the Python that is named (no dependency of the program:
``python -m venv v && v/bin/pip install pyvips pyvips-binary``). *Look around*: views a second at 1600 x 900 of a sphere of 10 000 x
5 000. *Page*: size of a sphere's page of 50 MP.
"""

from __future__ import annotations

import argparse
import json
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import cv2
import numpy as np
from finish_speed import Repeated
from skimage import data

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.deliver.ball import Ball, WholeSphere
from idle_lantern.core.deliver.delivery import Delivery
from idle_lantern.core.deliver.job import DeliverJob
from idle_lantern.core.deliver.look_around import HeldSphere
from idle_lantern.core.deliver.look_page import PagePlace, write_look_page
from idle_lantern.core.deliver.service import deliver
from idle_lantern.core.deliver.sight import Sight
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write_source
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import HeldPicture
from idle_lantern.core.pictures.tiled import open_picture

KINDS = {"tiff": "o.tif", "jpeg": "o.jpg", "tiles": "o.xml"}
#: The same by libvips: 16 bit kept in the TIFF, 8 bit elsewhere; tiles of the same size and quality.
VIPS = """
import json, resource, sys, time, pyvips
kind, source, target = sys.argv[1:]
image = pyvips.Image.new_from_file(source, access="sequential")
if kind == "tiff":
    image.tiffsave(target, tile=True, pyramid=True, tile_width=512, tile_height=512, compression="deflate", predictor="horizontal", bigtiff=True)
else:
    image = image.colourspace("srgb")
    if kind == "jpeg":
        image.jpegsave(target, Q=92)
    else:
        image.dzsave(target, tile_size=512, overlap=0, suffix=".jpg[Q=92]")
used = resource.getrusage(resource.RUSAGE_SELF)
print(json.dumps([used.ru_utime + used.ru_stime, used.ru_maxrss / 1024]))
"""


def own(kind: str, source: Path, target: Path) -> None:
    """One delivery, as the command line does it; prints its CPU and memory."""
    picture = open_picture(source)
    deliver(Delivery(DeliverJob(kind), picture), target, Rectangle(0, 0, *picture.sizes[0]))  # type: ignore[arg-type]
    used = resource.getrusage(resource.RUSAGE_SELF)
    print(json.dumps([used.ru_utime + used.ru_stime, used.ru_maxrss / 1024]))


def measured(command: list[str]) -> tuple[float, float]:
    """CPU seconds and peak MiB that a process told of itself."""
    done = subprocess.run(command, check=True, capture_output=True, text=True)
    cpu, memory = json.loads(done.stdout.splitlines()[-1])
    return cpu, memory


def kinds(megapixels: float, vips: str) -> None:
    with tempfile.TemporaryDirectory() as folder:
        store = Path(folder) / "store.tif"
        width = round((megapixels * 2e6) ** 0.5)
        write_source(Repeated(width, width // 2), store)
        for kind, name in KINDS.items():
            cpu, memory = measured([sys.executable, __file__, "--own", kind, str(store), str(Path(folder) / name)])
            told = f"{kind:6}{cpu:8.1f} s CPU {memory:7.0f} MiB"
            if vips:
                target = Path(folder) / ("v.xml" if kind == "tiles" else f"v{Path(name).suffix}")
                theirs, their_memory = measured([vips, "-c", VIPS, kind, str(store), str(target)])
                told += f"; libvips {theirs:8.1f} s {their_memory:7.0f} MiB; {cpu / theirs:.2f} x"
            print(told, flush=True)


def sphere(width: int) -> Ball:
    photograph = data.astronaut()
    tiled = np.tile(photograph, (-(-width // 1024), -(-width // 512), 1))[: width // 2, :width]
    return Ball(HeldPicture(Picture(np.ascontiguousarray(tiled))), WholeSphere.of((width, width // 2)))


def looking() -> None:
    begun = time.perf_counter()
    held = HeldSphere(sphere(10_000), SRGB)
    print(f"look around: ready in {time.perf_counter() - begun:.1f} s", end="")
    for field in (60, 75, 110):
        begun = time.perf_counter()
        for k in range(40):
            held.quick(Sight(4.0 * k, 20 - k, field), (1600, 900))
        print(f"; {40 / (time.perf_counter() - begun):.0f} a second at {field} degrees", end="")
    print(flush=True)


def page() -> None:
    photograph = cv2.resize(data.retina()[200:1200, 200:1200, :3], (5000, 5000), interpolation=cv2.INTER_CUBIC)
    noisy = np.clip(np.tile(photograph, (1, 2, 1)) + np.random.default_rng(1).normal(0, 2, (5000, 10_000, 1)), 0, 255)
    ball = Ball(HeldPicture(Picture(noisy.astype(np.uint8))), WholeSphere.of((10_000, 5_000)))
    with tempfile.TemporaryDirectory() as folder:
        target = Path(folder) / "page.html"
        for quality in (85, 92):
            begun = time.process_time()
            write_look_page([PagePlace(ball, "Page")], target, WriteOptions(quality))
            print(
                f"page of 50 MP, quality {quality}: {target.stat().st_size / 1e6:.1f} MB, {time.process_time() - begun:.0f} s CPU"
            )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--megapixels", type=float, default=200)
    parser.add_argument("--vips", default="", metavar="PYTHON", help="a Python that has pyvips")
    parser.add_argument("--own", nargs=3, metavar=("KIND", "SOURCE", "TARGET"), help=argparse.SUPPRESS)
    args = parser.parse_args()
    if args.own:
        own(args.own[0], Path(args.own[1]), Path(args.own[2]))
        return
    kinds(args.megapixels, args.vips)  # first: a process that is begun later would tell this one's memory as its own
    looking()
    page()


if __name__ == "__main__":
    main()
