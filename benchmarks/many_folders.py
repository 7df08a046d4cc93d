"""A batch of forty folders, six of which cannot be joined, one of them a damaged card: what comes out, and what a second run costs.

    .venv/bin/python benchmarks/many_folders.py [--megapixels 1.5]

Frames are parts of photographs, five to a folder. On 2026-12-02, two cores, by frames of 1.5 MP: 34 delivered, 6 told why, exit 1; 227 s,
CPU 268 s; again 1.0 s of CPU, 0.4 %.
"""

from __future__ import annotations

import argparse
import json
import math
import resource
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.reference.photographs import cut

from idle_lantern.core.geometry.lenses import Lens

GOOD, STEP_DEG = 34, 8.0


def season(root: Path, megapixels: float) -> None:
    """Folders that join, and one each: far apart, one picture, none, damaged files, two pictures of other places, no pictures but words."""
    wide = round(math.sqrt(megapixels * 1.5e6))
    lens = Lens("rectilinear", 1.4 * wide, wide, round(wide / 1.5))
    for k in range(GOOD):
        first = -42.0 + k
        cut(_folder(root, f"place {k + 1:02}"), lens, [(first + STEP_DEG * i, 0.0, 0.0) for i in range(5)])
    cut(_folder(root, "far apart"), lens, [(-50.0, 0.0, 0.0), (50.0, 0.0, 0.0)])
    cut(_folder(root, "one picture"), lens, [(0.0, 0.0, 0.0)])
    _folder(root, "none")
    (_folder(root, "words") / "notes.txt").write_text("nothing to join")
    for k, folder in enumerate((_folder(root, "damaged card"), _folder(root, "cut off"))):
        for number, path in enumerate(cut(folder, lens, [(STEP_DEG * i, 0.0, 0.0) for i in range(4)])[0]):
            whole = path.read_bytes()
            path.write_bytes(bytes(len(whole)) if k == 0 else whole[: 200 + number])


def _folder(root: Path, name: str) -> Path:
    folder = root / name
    folder.mkdir(parents=True)
    return folder


def batch(root: Path, out: Path) -> tuple[int, list[dict[str, str]], float, float]:
    """Exit code, rows, wall and CPU seconds."""
    before, start = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    table = out.parent / "table.json"
    command = [sys.executable, "-m", "idle_lantern.cli.main", "batch", str(root), "--preset", "web", "--out", str(out)]
    done = subprocess.run([*command, "--json", str(table)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    used = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return done.returncode, json.loads(table.read_text())["rows"], time.perf_counter() - start, used


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--megapixels", type=float, default=1.5)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        root, out = Path(folder) / "season", Path(folder) / "out"
        season(root, args.megapixels)
        code, rows, wall, first = batch(root, out)
        states = Counter(row["state"] for row in rows)
        print(f"exit {code}; {dict(states)}; {wall:.0f} s, CPU {first:.0f} s")
        for row in rows:
            if row["state"] != "delivered":
                print(f"  {Path(row['folder']).name}: {row['state']}, {row['why']}")
        code, again, wall, second = batch(root, out)
        print(
            f"again: exit {code}, the same rows: {again == rows}; {wall:.1f} s, CPU {second:.2f} s, {second / first:.2%}"
        )


if __name__ == "__main__":
    main()
