"""Plans out and wishes in, as JSON and CSV (``docs/formats/plan.md``)."""

from __future__ import annotations

import csv
import io
import json
from dataclasses import asdict
from typing import Any

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.wish import Wish

SPEC_SCHEMA = "idle-lantern/plan-spec/1"
PLAN_SCHEMA = "idle-lantern/plan/1"


def read_spec(text: str, where: str = "") -> tuple[Rig, Wish]:
    """Rig and wish from a specification; what it leaves out takes its default.

    Raises
    ------
    InputError
        Not JSON, another kind of document, an unknown field or an impossible value.
    """
    try:
        document = json.loads(text)
    except ValueError as error:
        raise InputError(f"Is not JSON (line {getattr(error, 'lineno', 0)})", where=where) from error
    if not isinstance(document, dict) or document.get("schema") != SPEC_SCHEMA:
        raise InputError(f"Is no plan specification (schema {SPEC_SCHEMA})", where=where)
    try:
        return _filled(Rig, document.get("rig", {}), "rig"), _filled(Wish, document.get("wish", {}), "wish")
    except InputError as error:
        raise InputError(error.what, where=f"{where}: {error.where}", remedy=error.remedy) from error


def plan_document(plan: Plan) -> dict[str, Any]:
    """The whole plan as plain data."""
    c = plan.coverage
    return {
        "schema": PLAN_SCHEMA,
        "rig": asdict(plan.rig),
        "wish": asdict(plan.wish),
        "frames": [asdict(f) for f in plan.frames],
        "rows": [{"row": r[0].row, "pitch_deg": r[0].pitch_deg, "frames": len(r)} for r in plan.rows],
        "coverage": {
            "complete": c.complete,
            "samples": c.samples,
            "smallest_overlap": c.smallest_overlap,
            "smallest_between": list(c.smallest_between) if c.smallest_between else None,
        },
        "joined": {**asdict(plan.size), "pixels": plan.size.pixels},
        "shoot_s": plan.shoot_s,
        "judgements": [
            {"key": j.key, "severity": j.severity.name.lower(), "sentence": j.sentence, "remedy": j.remedy}
            for j in plan.judgements
        ],
    }


def plan_csv(plan: Plan) -> str:
    """Frames in order, one line each."""
    stream = io.StringIO()
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(["number", "row", "column", "yaw_deg", "pitch_deg", "roll_deg"])
    writer.writerows([f.number, f.row, f.column, f.yaw_deg, f.pitch_deg, f.roll_deg] for f in plan.frames)
    return stream.getvalue()


def _filled(kind: Any, row: object, name: str) -> Any:
    if not isinstance(row, dict):
        raise InputError("must be an object", where=name)
    unknown = sorted(set(row) - set(kind.__dataclass_fields__))
    if unknown:
        known = ", ".join(kind.__dataclass_fields__)
        raise InputError(f"has an unknown field '{unknown[0]}'", where=name, remedy=f"Known are {known}")
    try:
        return kind(**row)
    except TypeError as error:
        raise InputError(
            "has a value of the wrong kind", where=name, remedy="Numbers without quotes, please"
        ) from error
    except InputError as error:
        raise InputError(
            error.what, where=f"{name}, {error.where}" if error.where else name, remedy=error.remedy
        ) from error
