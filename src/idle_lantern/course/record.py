"""What was practised and how well: one JSON file of the person, every attempt a row."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

import msgspec
import platformdirs

from idle_lantern.core.base import units
from idle_lantern.core.base.atomic import make_folder, write_text
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.base.strict_json import read_json

SCHEMA = "idle-lantern/practice/1"
#: From such a grade on an exercise is passed.
PASSED = 70
#: So many attempts are kept; older ones go, the best of each exercise stays.
_MOST = 2000


@dataclass(frozen=True)
class RecordRow:
    """An attempt: which exercise and situation, when (ISO 8601), what it was worth."""

    exercise: str
    seed: int
    points: int
    when: str


def practice_file() -> Path:
    """Where attempts are kept."""
    return Path(platformdirs.user_data_dir("idle-lantern")) / "practice.json"


def read_rows(path: Path) -> tuple[RecordRow, ...]:
    """All attempts so far, the oldest first; a file that cannot be read counts as empty."""
    return _read(path) or ()


def _read(path: Path) -> tuple[RecordRow, ...] | None:
    """The attempts of a file; None where it is damaged, or of a newer program."""
    if not path.exists():
        return ()
    try:
        stored = read_json(path)
        if not isinstance(stored, dict) or stored.get("schema") != SCHEMA:
            return None
        return tuple(msgspec.convert(stored.get("attempts", []), list[RecordRow]))
    except (LanternError, msgspec.ValidationError):
        return None


def add_row(path: Path, row: RecordRow) -> tuple[RecordRow, ...]:
    """Keep one more attempt; returns all of them. A file that cannot be read is set aside under another name first.

    Raises
    ------
    InputError
        It cannot be written.
    """
    before = _read(path)
    if before is None:
        _set_aside(path)
    rows = (*(before or ()), row)
    if len(rows) > _MOST:
        tops = best(rows)
        old = [r for r in rows[:-_MOST] if tops.get(r.exercise) == r.points]
        rows = (*old[-100:], *rows[-_MOST:])
    make_folder(path.parent)
    write_text(path, json.dumps({"schema": SCHEMA, "attempts": [asdict(r) for r in rows]}, indent=1))
    return rows


def _set_aside(path: Path) -> None:
    number = 1
    while (other := path.with_name(f"{path.stem}-unread-{number}{path.suffix}")).exists():
        number += 1
    try:
        path.rename(other)
    except OSError as error:
        raise InputError("Cannot be set aside", where=path.name, remedy="Move it away by hand") from error


def best(rows: Sequence[RecordRow]) -> dict[str, int]:
    """The best of each exercise that was tried."""
    found: dict[str, int] = {}
    for row in rows:
        found[row.exercise] = max(row.points, found.get(row.exercise, 0))
    return found


def practised(rows: Sequence[RecordRow]) -> str:
    """Progress in one sentence, for the logbook."""
    if not rows:
        return "Nothing practised yet: thirteen short exercises wait in the invented place."
    tops, last = best(rows), rows[-1]
    passed = sum(points >= PASSED for points in tops.values())
    return (
        f"Practised: {units.counted(len(rows), 'attempt')} at {units.counted(len(tops), 'exercise')}, {passed} passed; "
        f"the last one {last.points} of 100 on {last.when[:10]}."
    )
