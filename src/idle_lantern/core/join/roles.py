"""What each file of a join was for: positions and roles in the report, and the files beside those that stand for a place."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.frames.frameset import names_of
from idle_lantern.core.join.request import JoinRequest
from idle_lantern.core.sorting.bookends import bookends
from idle_lantern.core.sorting.previews import look_at

_WORDS = {"merge": "merged into", "fuse": "fused into", "base": "not used; for its place stands"}


def files_of(request: JoinRequest) -> list[Path]:
    """Every picture file that a request names."""
    beside = [p for f in request.frames for p in (e.path for e in f.others)]
    return [*(f.path for f in request.frames), *beside, *(a.path for a in request.asides)]


def with_roles(report: dict[str, Any], request: JoinRequest) -> dict[str, Any]:
    """The report with ``position``, ``role`` and ``ev`` of each frame, and a row for each file beside them.

    Rows of other files come after those of the frames, so that numbers in ``links`` stay; they name the frame that
    stands for them as ``stands``.
    """
    rows: list[dict[str, Any]] = report["frames"]
    names = dict(zip(files_of(request), names_of(files_of(request))))
    more: list[dict[str, Any]] = []
    strange = _bookends_left_out(rows, request)
    for i, (row, frame) in enumerate(zip(rows, request.frames), 1):
        row["position"] = f"p{i:02d}"
        row["role"] = "base" if frame.others else "single"
        if not row["used"]:
            row["role"] = "bookend" if frame.path in strange else _role_of_left_out(row)
        row["ev"] = 0.0
        for exposure in frame.others:
            used = row["used"] and bool(request.recipe.used([exposure]))
            if exposure.kind == "sensor-shift":
                more.append(_beside(row, names[exposure.path], "sensor-shift", 0.0, reason=None, used=row["used"]))
                continue
            why = f"taken again: {row['file']} is the sharpest" if exposure.again else f"{_WORDS['base']} {row['file']}"
            role = "repeat" if exposure.again else "bracket"
            more.append(_beside(row, names[exposure.path], role, exposure.ev, reason=None if used else why, used=used))
    for aside in request.asides:
        empty = dict.fromkeys(("width", "height", "lens", "pose", "placed_by", "position"))
        more.append(
            {
                "file": names[aside.path],
                "used": False,
                "reason": aside.reason,
                **empty,
                "gain": [1, 1, 1],
                "role": aside.role,
                "ev": 0.0,
            }
        )
    report["frames"] = [*rows, *more]
    return report


def _beside(row: dict[str, Any], name: str, role: str, ev: float, *, reason: str | None, used: bool) -> dict[str, Any]:
    return {**row, "file": name, "role": role, "ev": ev, "used": used, "reason": reason, "stands": row["file"]}


def _role_of_left_out(row: dict[str, Any]) -> str:
    """Frames that show the same as another are repeats, foreign ones strays; the reasons are those of ``solve``."""
    reason = row["reason"] or ""
    return (
        "repeat"
        if reason.startswith("Shows the same")
        else "stray"
        if reason.startswith("Matches no other")
        else "single"
    )


def _bookends_left_out(rows: Sequence[dict[str, Any]], request: JoinRequest) -> set[Path]:
    """Which of the frames left out are hands before the lens."""
    if all(row["used"] for row in rows):
        return set()
    try:
        looks = [look_at(frame.path) for frame in request.frames]
    except LanternError:
        return set()
    return {look.path for look, row, end in zip(looks, rows, bookends(looks)) if end and not row["used"]}
