"""``./lantern test --campaign N``: N damaged pictures and documents, and kills, full disks, signals and clicks in proportion."""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from random import Random

from campaign import documents, pictures
from campaign.breaks import BREAKS, Ground, may_mount, mounted_full, prepare
from campaign.watch import HEADING, Tally, random_of, watched
from idle_lantern.core.base.memory import tune_allocator

#: Cases of each kind for one damaged picture; a click is a step in the window.
SHARES = {
    "pictures": 1.0, "documents": 1.0, "kills": 0.1, "full disks": 0.02, "signals": 0.02, "memory": 0.005, "streams": 0.002,
    "clicks": 0.3,
}  # fmt: skip


_STEPS_TO_JUDGE = 3000


def main() -> int:
    """Run it and print a table; 1 where anything went wrong."""
    parser = argparse.ArgumentParser(prog="./lantern test --campaign", description=__doc__)
    parser.add_argument("cases", type=int, help="damaged pictures; everything else in proportion")
    parser.add_argument("--only", choices=SHARES, action="append", help="only this kind; may be given again")
    parser.add_argument("--first", type=int, default=0, help="first seed")
    args = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="lantern-campaign-") as scratch:
        use_folders_in(Path(scratch))
        print(HEADING)
        faults: list[str] = []
        for kind in args.only or SHARES:
            begun = time.monotonic()
            count = max(1, round(args.cases * SHARES[kind]))
            tally = run(kind, range(args.first, args.first + count), Path(scratch))
            print(f"{tally.row(kind)}   {time.monotonic() - begun:.0f} s", flush=True)
            faults += [f"{kind} {fault}" for fault in tally.faults]
        for fault in faults:
            print(fault)
    return 1 if faults else 0


def use_folders_in(root: Path) -> None:
    """Nothing touches the person's own folders."""
    for name in ("CONFIG", "DATA", "STATE", "CACHE"):
        os.environ[f"XDG_{name}_HOME"] = str(root / name.lower())
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    # as the program does at its start
    os.environ["OPENBLAS_NUM_THREADS"] = "1"
    tune_allocator()


def run(kind: str, seeds: range, folder: Path) -> Tally:
    """All cases of one kind."""
    if kind in ("pictures", "documents"):
        return watched(case_of(kind, folder), seeds, lambda told: print(f"  {kind}: {told}", file=sys.stderr))
    ground = ground_in(folder)
    if kind == "clicks":
        return clicks(len(seeds), Random(f"clicks {seeds.start}"), folder, ground)
    tally = Tally()
    ways = (*BREAKS[kind], mounted_full) if kind == "full disks" and may_mount(ground.folder) else BREAKS[kind]
    for seed in seeds:
        way = ways[seed % len(ways)]
        begun = time.monotonic()
        try:
            way(ground, random_of(seed))
            tally.sound += 1
        except Exception as error:  # a fault of this seed; the others go on
            tally.faults.append(f"{seed} {way.__name__}: {type(error).__name__}: {error}")
        tally.cases += 1
        tally.longest_s = max(tally.longest_s, time.monotonic() - begun)
    return tally


def case_of(kind: str, folder: Path) -> Callable[[int], None]:
    """What a seed of damaged files does."""
    names = sorted(pictures.sound_pictures() if kind == "pictures" else documents.sound_documents())

    def picture(seed: int) -> None:
        name = names[seed % len(names)]
        path = folder / f"damaged{Path(name).suffix}"
        path.write_bytes(pictures.mutated(pictures.sound_pictures()[name], random_of(seed)))
        pictures.look_all_ways(path)

    def text(seed: int) -> None:
        name = names[seed % len(names)]
        documents.read_as(name, documents.mutated(name, random_of(seed)), folder)

    return picture if kind == "pictures" else text


@lru_cache(maxsize=1)
def ground_in(folder: Path) -> Ground:
    """The frames that all kinds work on, made once."""
    (folder / "ground").mkdir()
    return prepare(folder / "ground")


def clicks(steps: int, rng: Random, folder: Path, ground: Ground) -> Tally:
    """Random clicking as a kind of its own."""
    from campaign.clicking import click
    from idle_lantern.app import theme
    from idle_lantern.app.main import make_application

    app = make_application()
    theme.apply(app, "dark")
    place = folder / "clicks"
    place.mkdir()
    done = click(steps, rng, list(ground.frames), place)
    tally = Tally(cases=done.steps, sound=done.compared, faults=done.faults, most_mib=max(done.rss_mib, default=0.0))
    # before everything was used once, memory grows by what is loaded
    if done.steps >= _STEPS_TO_JUDGE and done.growth > 0.05:
        tally.faults.append(f"memory grew by {done.growth:.0%}: {[round(m) for m in done.rss_mib]}")
    return tally


if __name__ == "__main__":
    sys.exit(main())
