"""Files that arrive in a watched folder as slow cameras, cards and networks write them: how many are taken exactly once.

    .venv/bin/python benchmarks/watched_arrivals.py [--files 60] [--seed 1]

Each file arrives in one of six ways: in parts with pauses up to ten seconds, stalled for two minutes, preallocated with zeros, written under
another name and renamed, written anew with another picture after it was taken, or at once; JPEG, PNG, HEIC and raw, some of them
raw beside JPEG. The clock is turned by the program, so that an hour takes a few seconds. On 2026-12-01: 60 of 60, and 300 of 300.
"""

from __future__ import annotations

import argparse
import io
import tempfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pillow_heif
from PIL import Image

from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.watching.folder import WatchedFolder
from idle_lantern.simulator.raw_files import write_dng

WAYS = ("parts", "stalled", "preallocated", "renamed", "rewritten", "at once")
#: Seconds between two looks at the folder.
STEP_S = 0.5


@dataclass
class Clock:
    """The steady clock of the watched folder."""

    s: float = 0.0

    def __call__(self) -> float:
        return self.s


def encoded(kind: str, rng: np.random.Generator) -> bytes:
    """A picture of its own as the bytes of a file."""
    pixels = rng.integers(0, 255, (96, 144, 3), dtype=np.uint8)
    if kind == "dng":
        with tempfile.TemporaryDirectory() as scratch:
            path = Path(scratch) / "a.dng"
            write_dng(path, (pixels / 255).astype(np.float32), Metadata())
            return path.read_bytes()
    stream = io.BytesIO()
    if kind == "heic":
        pillow_heif.from_pillow(Image.fromarray(pixels)).save(stream)
    else:
        Image.fromarray(pixels).save(stream, {"jpg": "JPEG", "png": "PNG"}[kind], quality=90)
    return stream.getvalue()


def arrival(path: Path, way: str, rng: np.random.Generator) -> Iterator[float]:
    """Write a file in a way; yields the seconds until the next thing happens to it."""
    kind = path.suffix[1:]
    data = encoded(kind, rng)
    if way == "rewritten":
        path.write_bytes(data)
        yield 30.0
        data = encoded(kind, rng)
    if way == "renamed":
        other = path.with_name(f".{path.name}.part")
        other.write_bytes(data)
        yield 3.0
        other.rename(path)
        return
    if way in ("parts", "stalled", "preallocated"):
        cuts = sorted(rng.uniform(0.05, 0.95, 3)) if way == "parts" else [0.5]
        for cut in cuts:
            part = data[: int(cut * len(data))]
            path.write_bytes(part + bytes(len(data) - len(part)) if way == "preallocated" else part)
            yield {"parts": float(rng.uniform(1, 10)), "stalled": 120.0, "preallocated": 4.0}[way]
    path.write_bytes(data)


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=60)
    parser.add_argument("--seed", type=int, default=1)
    args = parser.parse_args()
    rng = np.random.default_rng(args.seed)
    clock, wanted = Clock(), Counter[str]()
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        watch = WatchedFolder(folder, now=clock)
        due: list[tuple[float, Iterator[float]]] = []
        for k in range(args.files):
            way, kind = WAYS[k % len(WAYS)], ("jpg", "png", "heic", "dng")[int(rng.integers(4))]
            path = folder / f"f{k:03d}.{kind}"
            due.append((float(rng.uniform(0, 600)), arrival(path, way, rng)))
            wanted[path.name] = 2 if way == "rewritten" else 1
        taken: Counter[str] = Counter()
        end = 1500.0
        while clock.s < end:
            for at, writing in [d for d in due if d[0] <= clock.s]:
                due.remove((at, writing))
                pause = next(writing, None)
                if pause is not None:
                    due.append((clock.s + pause, writing))
            taken.update(found.path.name for found in watch.step() if not found.trouble)
            clock.s += STEP_S
    right = sum(taken[name] == count for name, count in wanted.items())
    print(f"{right} of {args.files} taken exactly as often as they were written")
    for name, count in wanted.items():
        if taken[name] != count:
            print(f"    {name}: {taken[name]} of {count}")


if __name__ == "__main__":
    main()
