"""Files named for a join -> what stands for each place, and what each other file is for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from idle_lantern.core.base.errors import InputError, UnreadableFrame
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.frames.ahead import ReadAhead
from idle_lantern.core.frames.frameset import pictures_in, refuse_twice, refuse_unreadable
from idle_lantern.core.frames.reading import FrameInfo, TooSmall, probe
from idle_lantern.core.sorting.card import Card, is_raw_name, several_runs, sort, without_twins
from idle_lantern.core.sorting.positions import Position

_SAME_EXPOSURE_EV = 0.2
#: A picture of a few pixels takes no more than this, a camera's facts and a small preview included.
_MOST_TINY_BYTES = 100_000
#: Why a picture of a few pixels is left out.
TOO_SMALL = "Is of too few pixels to be a frame."


@dataclass(frozen=True)
class Grouped:
    """``positions`` is None where nothing was to be grouped: every file stands for itself; ``ahead`` has what was read whole."""

    files: tuple[Path, ...]
    positions: tuple[Position, ...] | None = None
    card: Card | None = None
    ahead: ReadAhead | None = None


def files_in(paths: Sequence[Path]) -> list[Path]:
    """The files named, and the pictures of the folders named.

    Raises
    ------
    InputError
        A folder holds no picture.
    """
    found: list[Path] = []
    for path in paths:
        if not path.is_dir():
            found.append(path)
            continue
        inside = pictures_in(path)
        if not inside:
            raise InputError("Holds no picture", where=str(path), remedy="Name a folder with frames")
        found += inside
    return found


def without_tiny(paths: Sequence[Path]) -> tuple[list[Path], list[Path]]:
    """The files that may be frames, and pictures so small that nothing can be matched on them; where too few are left, all.

    What cannot be read stays among the first: it may be a frame that is damaged, and who reads it says so.
    """
    tiny = [path for path in paths if _is_tiny(path)]
    return ([p for p in paths if p not in tiny], tiny) if len(paths) - len(tiny) > 1 else (list(paths), [])


def _is_tiny(path: Path) -> bool:
    try:
        if path.stat().st_size < _MOST_TINY_BYTES:
            probe(path)
    except TooSmall:
        return True
    except (OSError, UnreadableFrame):
        pass
    return False


def grouped(
    paths: Sequence[Path],
    progress: Progress = SILENT,
    *,
    prefer_raw: bool = True,
    repeats: bool = False,
    runs: bool = False,
    keep_bytes: int = 0,
) -> Grouped:
    """Group files where there is anything to group: raw, raw beside JPEG, exposures that differ or are not told.

    Repeats of one exposure are left to the join, which sees better what shows the same, unless ``repeats`` asks for them.
    Where only pauses or other gear part the files into runs, or ``runs`` asks for them, every file is a position of its own.
    A set of no more than ``keep_bytes`` is read whole, for the join that follows.

    Raises
    ------
    UnreadableFrame
        Names the files that cannot be read.
    InputError
        A file is given twice.
    """
    refuse_twice(paths)
    kept, twins = without_twins(paths, prefer_raw=prefer_raw)
    if not repeats and not twins and not any(is_raw_name(p) for p in paths):
        infos = [probe(p) for p in _readable(kept)]
        differ = _exposures_differ(infos)
        if not (differ or runs or several_runs(infos)):
            return Grouped(tuple(paths))
        ahead = ReadAhead(infos, keep_bytes)
    else:
        differ, ahead = True, None
    card = sort(paths, progress, prefer_raw=prefer_raw, ahead=ahead, group=differ)
    refuse_unreadable(card.unreadable, len(paths))
    positions = tuple(p for run in card.runs for p in run.positions)
    if len(positions) < 2 <= len(kept):  # the join says best why this makes no picture
        return Grouped(tuple(paths), ahead=ahead)
    order = {path: i for i, path in enumerate(paths)}
    positions = tuple(sorted(positions, key=lambda p: order[p.base.path]))
    return Grouped(tuple(p.base.path for p in positions), positions, card, ahead)


def _readable(paths: Sequence[Path]) -> list[Path]:
    """Files that there are; what is wrong with the others is told by who reads them."""
    return [path for path in paths if path.is_file()]


def _exposures_differ(infos: Sequence[FrameInfo]) -> bool:
    values = [info.metadata.exposure_value for info in infos]
    known = [v for v in values if v is not None]
    return len(known) < len(values) or (bool(known) and max(known) - min(known) > _SAME_EXPOSURE_EV)
