"""Many folders one after another, by the batch command in a process of its own: begun, followed and stopped. No Qt."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from idle_lantern.core.base.errors import Cancelled, InputError
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.outing.batch_rows import Row, kept_rows

#: How often it is asked how far the command is, and how long it may take to stop, in seconds.
_ASKED_S, _STOPS_S = 0.2, 30
#: What the command says when it begins a folder.
_BEGUN = re.compile(r"^(\d+) of (\d+): (.+)$", re.M)
#: States of a picture, as people see them.
STATES = {"delivered": "✓ delivered", "doubtful": "◐ look at it", "failed": "✗ not joined"}


@dataclass(frozen=True)
class Queue:
    """Folders in their order, how each is delivered, and where to."""

    folders: tuple[Path, ...]
    preset: str
    out: Path


def moved(folders: Sequence[Path], at: int, by: int) -> tuple[Path, ...]:
    """The folders with one of them earlier or later; as they are where it cannot be."""
    made = list(folders)
    if 0 <= at < len(made) and 0 <= at + by < len(made):
        made.insert(at + by, made.pop(at))
    return tuple(made)


def rows_of(queue: Queue) -> list[Row]:
    """What is known of the queue's folders by now, in their order."""
    rows = kept_rows(queue.out)
    return [row for folder in queue.folders for row in rows if _is_of(row, folder)]


def _is_of(row: Row, folder: Path) -> bool:
    there = Path(row.folder).absolute()
    return there == folder.absolute() or folder.absolute() in there.parents


def run(queue: Queue, progress: Progress, show: Callable[[list[Row]], None]) -> list[Row]:
    """Join and deliver the folders; ``show`` is handed what is done by now.

    Raises
    ------
    InputError
        The command could not begin.
    Cancelled
        Stopped; what was delivered is there.
    """
    command = [sys.executable, "-m", "idle_lantern.cli.main", "batch", *map(str, queue.folders)]
    command += ["--preset", queue.preset, "--out", str(queue.out)]
    with tempfile.TemporaryFile() as words:
        process = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=words, start_new_session=True
        )
        begun = 0
        try:
            while process.poll() is None:
                time.sleep(_ASKED_S)
                folders = _BEGUN.findall(_said(words))
                if folders and begun == 0:
                    progress.begin("batch", int(folders[-1][1]))
                    begun = 1
                for _ in range(begun, len(folders)):
                    progress.advance()
                    # rows of folders that are still to come may be of another preset
                    done = {path for _number, _count, path in folders[:-1]}
                    show([row for row in rows_of(queue) if row.folder in done])
                begun = max(begun, len(folders))
                progress.advance(0)
        except BaseException:
            process.terminate()
            try:
                process.wait(_STOPS_S)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
            raise
        lines = [line.strip() for line in _said(words).replace("\r", "\n").splitlines() if line.strip()]
    if process.returncode == 130:
        raise Cancelled
    rows = rows_of(queue)
    if process.returncode not in (0, 1) or not rows:
        raise InputError((lines[-1] if lines else f"It ended with {process.returncode}").rstrip("."))
    return rows


def _said(words: IO[bytes]) -> str:
    """What the command has said by now, read by place: the command goes on writing where it was."""
    said = os.pread(words.fileno(), os.fstat(words.fileno()).st_size, 0)
    return said.decode("utf-8", "replace")


def summed_up(rows: Sequence[Row]) -> str:
    """What came out, in a line."""
    counts = {state: sum(row.state == state for row in rows) for state in STATES}
    told = [f"{counts['delivered']} delivered"] if counts["delivered"] else []
    told += [f"{counts['doubtful']} to look at"] if counts["doubtful"] else []
    told += [f"{counts['failed']} not joined"] if counts["failed"] else []
    return ", ".join(told) or "nothing yet"


def named(row: Row) -> str:
    """A picture by its folder and run."""
    name = Path(row.folder).name
    return f"{name}, {row.run}" if row.run else name
