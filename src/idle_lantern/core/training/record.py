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
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.strict_json import read_json

SCHEMA = "idle-lantern/practice/1"
#: From such a grade on an exercise is passed.
PASSED = 70
#: So many attempts are kept; older ones go, the best of each exercise stays.
_MOST = 2000


@dataclass(frozen=True)
class Row:
    """An attempt: which exercise and situation, when (ISO 8601), what it was worth."""

    exercise: str
    seed: int
    points: int
    when: str


def practice_file() -> Path:
    """Where attempts are kept."""
    return Path(platformdirs.user_data_dir("idle-lantern")) / "practice.json"


def read_rows(path: Path) -> tuple[Row, ...]:
    """All attempts so far, the oldest first; a file that cannot be read counts as empty and is left as it is."""
    try:
        stored = read_json(path)
        if not isinstance(stored, dict) or stored.get("schema") != SCHEMA:
            return ()
        return tuple(msgspec.convert(stored.get("attempts", []), list[Row]))
    except (LanternError, msgspec.ValidationError):
        return ()


def add_row(path: Path, row: Row) -> tuple[Row, ...]:
    """Keep one more attempt; returns all of them.

    Raises
    ------
    InputError
        It cannot be written.
    """
    rows = (*read_rows(path), row)
    if len(rows) > _MOST:
        tops = best(rows)
        old = [r for r in rows[:-_MOST] if tops.get(r.exercise) == r.points]
        rows = (*old[-100:], *rows[-_MOST:])
    make_folder(path.parent)
    write_text(path, json.dumps({"schema": SCHEMA, "attempts": [asdict(r) for r in rows]}, indent=1))
    return rows


def best(rows: Sequence[Row]) -> dict[str, int]:
    """The best of each exercise that was tried."""
    found: dict[str, int] = {}
    for row in rows:
        found[row.exercise] = max(row.points, found.get(row.exercise, 0))
    return found


def practised(rows: Sequence[Row]) -> str:
    """Progress in one sentence, for the logbook."""
    if not rows:
        return "Nothing practised yet: thirteen short exercises wait in the invented place."
    tops, last = best(rows), rows[-1]
    passed = sum(points >= PASSED for points in tops.values())
    return (
        f"Practised: {units.counted(len(rows), 'attempt')} at {units.counted(len(tops), 'exercise')}, {passed} passed; "
        f"the last one {last.points} of 100 on {last.when[:10]}."
    )
