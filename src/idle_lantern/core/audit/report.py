"""A card looked at, as ``idle-lantern/frames-report/1`` and as text to read."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from idle_lantern.core.audit.audit import CardReport
from idle_lantern.core.base import units
from idle_lantern.core.frames.frameset import names_of

SCHEMA = "idle-lantern/frames-report/1"


def as_json(report: CardReport, paths: Sequence[Path]) -> dict[str, Any]:
    """Everything, under names."""
    names = dict(zip(paths, names_of(paths)))

    def name(path: Path) -> str:
        return names.get(path, path.name)

    return {
        "schema": SCHEMA,
        "runs": [
            {
                "name": run.name,
                "positions": [
                    {
                        "id": f"p{i:02d}",
                        "files": [name(f) for f in position.files],
                        "role": position.role,
                        "ev": list(position.ev),
                        "chosen": name(position.base.path),
                        "direction_deg": [round(a, 2) for a in run.directions_deg[position.base.path]]
                        if position.base.path in run.directions_deg
                        else None,
                    }
                    for i, position in enumerate(run.positions, 1)
                ],
                "missing": [
                    {
                        "row": m.row,
                        "column": m.column,
                        "yaw_deg": None if m.yaw_deg is None else round(m.yaw_deg, 1),
                        "pitch_deg": round(m.pitch_deg, 1),
                        "sentence": f"{m.sentence}.",
                    }
                    for m in run.missing
                ],
            }
            for run in report.runs
        ],
        "bookends": [name(look.path) for look in report.card.bookends],
        "strays": [name(path) for path in report.strays],
        "twins": [[name(a), name(b)] for a, b in report.card.twins],
        "findings": [f.as_json(name(f.path)) for f in report.findings],
    }


def as_text(report: CardReport, paths: Sequence[Path]) -> str:
    """For people: runs, then what would hurt most."""
    names = dict(zip(paths, names_of(paths)))
    lines = []
    for run in report.runs:
        roles = [p.role for p in run.positions]
        parts = [
            units.counted(roles.count(role), word)
            for role, word in (("single", "single frame"), ("bracket", "bracket"), ("repeat", "repeated position"))
            if role in roles
        ]
        first, last = run.positions[0].files[0], run.positions[-1].files[-1]
        where = [names.get(f, f.name) for f in dict.fromkeys((first, last))]
        lines.append(f"{run.name}: {', '.join(parts)}, {' to '.join(where)}")
        lines += [f"  {m.sentence}." for m in run.missing]
    if report.card.bookends:
        lines.append(f"{units.counted(len(report.card.bookends), 'bookend')}: a hand or cap before the lens")
    if report.card.twins:
        lines.append(f"{units.counted(len(report.card.twins), 'file')} beside another of the same exposure")
    lines += [
        f"{names.get(path, path.name)}: matches nothing; a snapshot, or of another place" for path in report.strays
    ]
    lines += [f"{names.get(f.path, f.path.name)}: {f.sentence}. {f.remedy}." for f in report.findings]
    return "\n".join(lines or ["Nothing to sort."]) + "\n"
