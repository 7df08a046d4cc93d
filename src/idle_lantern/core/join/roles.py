"""What each file of a join was for: positions and roles in the report, and the files beside those that stand for a place."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from msgspec.structs import replace

from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.frames.frameset import names_of
from idle_lantern.core.join.report import FrameRow, Report, Role
from idle_lantern.core.join.request import JoinRequest
from idle_lantern.core.sorting.bookends import bookends
from idle_lantern.core.sorting.previews import look_at

_WORDS = {"merge": "merged into", "fuse": "fused into", "base": "not used; for its place stands"}


def files_of(request: JoinRequest) -> list[Path]:
    """Every picture file that a request names."""
    beside = [p for f in request.frames for p in (e.path for e in f.others)]
    return [*(f.path for f in request.frames), *beside, *(a.path for a in request.asides)]


def with_roles(report: Report, request: JoinRequest) -> Report:
    """The report with ``position``, ``role`` and ``ev`` of each frame, and a row for each file beside them.

    Rows of other files come after those of the frames, so that numbers in ``links`` stay; they name the frame that
    stands for them as ``stands``.
    """
    names = dict(zip(files_of(request), names_of(files_of(request))))
    rows: list[FrameRow] = []
    more: list[FrameRow] = []
    strange = _bookends_left_out(report.frames, request)
    for i, (row, frame) in enumerate(zip(report.frames, request.frames), 1):
        role: Role = "base" if frame.others else "single"
        if not row.used:
            role = "bookend" if frame.path in strange else _role_of_left_out(row)
        row = replace(row, position=f"p{i:02d}", role=role, ev=0.0)
        rows.append(row)
        for exposure in frame.others:
            used = row.used and bool(request.options.recipe.used([exposure]))
            beside = replace(row, file=names[exposure.path], used=used, stands=row.file, reason=None)
            if exposure.kind == "sensor-shift":
                more.append(replace(beside, role="sensor-shift", used=row.used))
                continue
            why = f"taken again: {row.file} is the sharpest" if exposure.again else f"{_WORDS['base']} {row.file}"
            kind: Role = "repeat" if exposure.again else "bracket"
            more.append(replace(beside, role=kind, ev=exposure.ev, reason=None if used else why))
    more += [
        FrameRow(file=names[a.path], used=False, reason=a.reason, position=None, role=a.role, ev=0.0)
        for a in request.asides
    ]
    runs: dict[str, list[str]] = {}
    for aside in request.asides:
        if aside.run:
            runs.setdefault(aside.run, []).append(names[aside.path])
    return replace(report, frames=(*rows, *more), groups=[*report.groups, *runs.values()])


def _role_of_left_out(row: FrameRow) -> Role:
    """Frames that show the same as another are repeats, foreign ones strays; the reasons are those of ``solve``."""
    reason = row.reason or ""
    return (
        "repeat"
        if reason.startswith("Shows the same")
        else "stray"
        if reason.startswith("Matches no other")
        else "single"
    )


def _bookends_left_out(rows: Sequence[FrameRow], request: JoinRequest) -> set[Path]:
    """Which of the frames left out are hands before the lens."""
    if all(row.used for row in rows):
        return set()
    try:
        looks = [look_at(frame.path) for frame in request.frames]
    except LanternError:
        return set()
    return {look.path for look, row, end in zip(looks, rows, bookends(looks)) if end and not row.used}
