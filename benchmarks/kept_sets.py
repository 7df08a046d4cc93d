"""What benchmarks over many simulated sets share: how many, from which seed on, and where their pictures are kept for the next run."""

from __future__ import annotations

import argparse
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def kept_sets(description: str | None) -> Iterator[tuple[range, Path]]:
    """The seeds that the command line asks for, and the folder for their pictures."""
    parser = argparse.ArgumentParser(description=description)
    parser.add_argument("--sets", type=int, default=20)
    parser.add_argument("--first", type=int, default=1, help="seed of the first set")
    parser.add_argument("--keep", type=Path, default=None, help="keep the pictures there for the next run")
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as scratch:
        folder = args.keep or Path(scratch)
        folder.mkdir(exist_ok=True)
        yield range(args.first, args.first + args.sets), folder
