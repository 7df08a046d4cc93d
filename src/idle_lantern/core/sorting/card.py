"""A card or folder -> runs, positions, bookends, raw beside JPEG, and what cannot be read."""

from __future__ import annotations

import math
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.frames.ahead import ReadAhead
from idle_lantern.core.frames.boundary import RAW_SUFFIXES
from idle_lantern.core.frames.frameset import in_people_order
from idle_lantern.core.frames.reading import FrameInfo
from idle_lantern.core.sorting.bookends import bookends
from idle_lantern.core.sorting.positions import Position, positions_of, sharpest_chosen, singles
from idle_lantern.core.sorting.previews import FilePreview, look_at

#: A pause this long, and so many times the usual step, parts one run from the next.
_PAUSE_S, _TIMES = 45.0, 6.0
_THREADS = 2
#: Written beside a JPEG, or beside raw and JPEG, of one exposure.
_TELEPHONES = (".heic", ".heif", ".avif", ".jxl")


@dataclass(frozen=True)
class CardRun:
    """Positions of one sweep, in the order taken, and the bookends about it."""

    name: str
    positions: tuple[Position, ...]


@dataclass(frozen=True)
class Card:
    """What a card holds. ``twins`` are two files of one exposure, raw and JPEG say, the one that is used first."""

    runs: tuple[CardRun, ...] = ()
    bookends: tuple[FilePreview, ...] = ()
    twins: tuple[tuple[Path, Path], ...] = ()
    unreadable: tuple[UnreadableFrame, ...] = field(default=())


def sort(
    paths: Sequence[Path],
    progress: Progress = SILENT,
    *,
    prefer_raw: bool = True,
    ahead: ReadAhead | None = None,
    group: bool = True,
) -> Card:
    """Look at each file, small, and tell what it is for.

    Of raw, HEIC and JPEG of one name in one folder the raw is used, or the JPEG where ``prefer_raw`` is False; ``ahead`` keeps
    what is read whole for it. Without ``group`` every file is a position of its own.

    Raises
    ------
    Cancelled
        Stopped by ``progress``.
    """
    kept, twins = without_twins(paths, prefer_raw=prefer_raw)
    progress.begin("read", len(kept))
    looks: list[FilePreview] = []
    faults: list[UnreadableFrame] = []

    def one(path: Path) -> FilePreview | UnreadableFrame:
        try:
            return look_at(path, ahead)
        except UnreadableFrame as error:
            return error

    with ThreadPoolExecutor(_THREADS) as pool:
        for seen in pool.map(one, kept):
            progress.advance()
            if isinstance(seen, FilePreview):
                looks.append(seen)
            else:
                faults.append(seen)
    looks = in_order_taken(looks)
    ends = bookends(looks)
    runs = [
        CardRun(f"run {i}", tuple(sharpest_chosen(p) for p in positions_of(run)) if group else singles(run))
        for i, run in enumerate(_runs(looks, ends), 1)
    ]
    return Card(tuple(runs), tuple(look for look, end in zip(looks, ends) if end), tuple(twins), tuple(faults))


def without_twins(paths: Sequence[Path], *, prefer_raw: bool = True) -> tuple[list[Path], list[tuple[Path, Path]]]:
    """Files without those that show the exposure of another (raw, HEIC and JPEG of one name), and the pairs, the one that is
    used first; of several pairs of one the JPEG's comes first."""
    by_name: dict[tuple[Path, str], list[Path]] = {}
    for path in paths:
        by_name.setdefault((path.parent, path.stem.lower()), []).append(path)
    twins: list[tuple[Path, Path]] = []
    for files in by_name.values():
        if len(files) > 1 and any(_deepness(path) > 1 for path in files):
            used = (max if prefer_raw else min)(files, key=_deepness)
            twins += [(used, path) for path in sorted(files, key=_deepness) if path != used]
    second = {other for _used, other in twins}
    return [path for path in paths if path not in second], twins


def _deepness(path: Path) -> int:
    """What cameras write of one exposure, the deeper the higher; 1 is what only programs write beside a frame."""
    if is_raw_name(path):
        return 3
    suffix = path.suffix.lower()
    return 2 if suffix in _TELEPHONES else 0 if suffix in (".jpg", ".jpeg") else 1


def is_raw_name(path: Path) -> bool:
    """Whether a file is camera raw by its name."""
    return path.suffix.lower() in RAW_SUFFIXES


def in_order_taken(looks: Sequence[FilePreview]) -> list[FilePreview]:
    """By the camera's clock where every file tells it, else by name as people count; by name within one second."""
    by_name = in_people_order(looks, lambda look: look.path.name)
    times = [look.info.metadata.taken_s for look in by_name]
    if any(t is None for t in times):
        return by_name
    return sorted(by_name, key=lambda look: look.info.metadata.taken_s or 0.0)


def _runs(looks: Sequence[FilePreview], ends: Sequence[bool]) -> list[list[FilePreview]]:
    """Frames parted by bookends, by pauses, and by another camera, lens or size."""
    parted = _parted([look.info for look in looks], ends)
    runs: list[list[FilePreview]] = [[]]
    for i, look in enumerate(looks):
        if ends[i] or parted[i]:
            runs.append([])
        if not ends[i]:
            runs[-1].append(look)
    return [run for run in runs if run]


def several_runs(infos: Sequence[FrameInfo]) -> bool:
    """Whether pauses, or another camera, lens or size, part files into runs; the files alone tell, nothing is looked at."""
    if any(info.metadata.taken_s is None for info in infos):
        return False  # their order would be a guess
    by_clock = sorted(infos, key=lambda info: info.metadata.taken_s or 0.0)
    return any(_parted(by_clock, [False] * len(by_clock)))


def _parted(infos: Sequence[FrameInfo], ends: Sequence[bool]) -> list[bool]:
    """Before which files, in the order taken, a run ends; ``ends`` are bookends."""
    gaps = [_gap_s(a, b) for a, b in zip(infos, infos[1:])]
    known = [g for g in gaps if g > 0]
    pause = max(_PAUSE_S, _TIMES * float(np.median(known))) if known else math.inf
    return [False] + [
        gap > pause or (not end and other_gear(a, b)) for gap, end, a, b in zip(gaps, ends, infos, infos[1:])
    ]


def _gap_s(a: FrameInfo, b: FrameInfo) -> float:
    first, second = a.metadata.taken_s, b.metadata.taken_s
    if first is None or second is None:
        return 0.0
    return second - first - (a.metadata.exposure_s or 0.0)


def other_gear(a: FrameInfo, b: FrameInfo) -> bool:
    """Another camera or focal length; a frame turned upright is another run as well."""
    one, two = a.metadata, b.metadata
    if one.camera != two.camera or sorted((a.width, a.height)) != sorted((b.width, b.height)):
        return True
    focal = [m.focal_mm for m in (one, two)]
    return None not in focal and abs(math.log((focal[0] or 1) / (focal[1] or 1))) > 0.1
