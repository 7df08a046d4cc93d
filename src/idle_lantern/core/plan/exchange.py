"""Briefs and plans in and out, as JSON and CSV (``docs/formats/plan.md``)."""

from __future__ import annotations

import csv
import io
import json
import math
from dataclasses import asdict, fields, is_dataclass
from typing import Any

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.plan.brief import Brief, Exposure, Mark, Run, Scene, Site, Stop, Support, Target
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.kinds import KINDS
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField

SPEC_SCHEMA = "idle-lantern/plan-spec/1"
PLAN_SCHEMA = "idle-lantern/plan/1"

PARTS: dict[str, Any] = {
    "rig": Rig,
    "target_field": TargetField,
    "support": Support,
    "scene": Scene,
    "exposure": Exposure,
    "site": Site,
    "run": Run,
    "target": Target,
}
_COLUMNS = ("number", "row", "column", "yaw_deg", "pitch_deg", "roll_deg", "role", "shift_right_mm", "shift_up_mm")


def read_spec(text: str, where: str = "") -> Brief:
    """A brief from a specification or from a whole plan; what it leaves out takes its default.

    A ``kind`` in a specification starts from that kind's values.

    Raises
    ------
    InputError
        Not JSON, another kind of document, an unknown field or an impossible value.
    """
    try:
        document = json.loads(text)
    except ValueError as error:
        raise InputError(f"Is not JSON (line {getattr(error, 'lineno', 0)})", where=where) from error
    if not isinstance(document, dict) or document.get("schema") not in (SPEC_SCHEMA, PLAN_SCHEMA):
        raise InputError(f"Is no plan specification (schema {SPEC_SCHEMA})", where=where)
    try:
        return read_brief(document, start_from_kind=document["schema"] == SPEC_SCHEMA)
    except InputError as error:
        raise InputError(error.what, where=f"{where}: {error.where}", remedy=error.remedy) from error


def read_brief(document: dict[str, Any], *, start_from_kind: bool = False, strict: bool = True) -> Brief:
    """A brief from the parts of a document; ``strict`` refuses unknown fields."""
    document = _in_present_words(document)
    kind_id = document.get("kind", "row")
    start = Brief(kind=str(kind_id))
    if start_from_kind and "kind" in document:
        kind = next((k for k in KINDS if k.id == kind_id), None)
        if kind is None:
            raise InputError(
                f"'{kind_id}' is no kind of picture",
                where="kind",
                remedy=f"Use one of {', '.join(k.id for k in KINDS)}",
            )
        start = kind.start(start)
    parts = {name: _filled(getattr(start, name), document.get(name, {}), name, strict) for name in PARTS}
    return Brief(**parts, kind=start.kind)


def _in_present_words(document: dict[str, Any]) -> dict[str, Any]:
    """Files written before document version 4 call the target field ``wish``."""
    if "wish" not in document or "target_field" in document:
        return document
    return {("target_field" if name == "wish" else name): part for name, part in document.items()}


def brief_document(brief: Brief) -> dict[str, Any]:
    """The brief as plain data that JSON can hold: infinity is written as null."""
    return {"kind": brief.kind, **{name: _plain(getattr(brief, name)) for name in PARTS}}


def plan_document(plan: Plan) -> dict[str, Any]:
    """The whole plan as plain data."""
    c, s, sharp = plan.coverage, plan.setting, plan.sharpness
    return {
        "schema": PLAN_SCHEMA,
        **brief_document(plan.brief),
        "frames": [{**asdict(f), "scale_deg": round(plan.scale_reading(f), 2)} for f in plan.frames],
        "rows": [{"row": r[0].row, "pitch_deg": r[0].pitch_deg, "frames": len(r)} for r in plan.rows],
        "coverage": {
            "complete": c.complete,
            "samples": c.samples,
            "smallest_overlap": c.smallest_overlap,
            "smallest_between": list(c.smallest_between) if c.smallest_between else None,
        },
        "joined": {**asdict(plan.size), "pixels": plan.size.pixels, "crop_loss": plan.crop.expected},
        "shoot_s": plan.shoot_s,
        "exposures": plan.time.exposures,
        "turning_deg": plan.time.turning_deg,
        "setting": {"ev": s.ev, "time_s": s.time_s, "aperture": s.aperture, "iso": s.iso, "bracket_s": list(s.times_s)},
        "sharpness": _plain(sharp),
        "pupil": _plain(plan.pupil),
        "sun": asdict(plan.sun),
        "cost": asdict(plan.cost),
        "judgements": [
            {"key": j.key, "severity": j.severity.name.lower(), "sentence": j.sentence, "remedy": j.remedy}
            for j in judge(plan)
        ],
    }


def plan_csv(plan: Plan) -> str:
    """Frames in order, one line each."""
    stream = io.StringIO()
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(_COLUMNS)
    writer.writerows([getattr(f, c) for c in _COLUMNS] for f in plan.frames)
    return stream.getvalue()


def read_frames_csv(text: str, where: str = "") -> tuple[GridFrame, ...]:
    """Frames in order of shooting from CSV with at least ``yaw_deg`` and ``pitch_deg``.

    Rows are told by equal pitch where the file has none.

    Raises
    ------
    InputError
        A column is missing or a line cannot be read; the sentence names the line.
    """
    reader = csv.DictReader(io.StringIO(text))
    columns = set(reader.fieldnames or ())
    if not {"yaw_deg", "pitch_deg"} <= columns:
        raise InputError("Has no columns yaw_deg and pitch_deg", where=where, remedy="Name them in the first line")
    frames: list[GridFrame] = []
    rows: dict[float, int] = {}
    for line, record in enumerate(reader, 2):
        try:
            yaw, pitch, roll, right, up = (
                float(record.get(c) or 0) for c in ("yaw_deg", "pitch_deg", "roll_deg", "shift_right_mm", "shift_up_mm")
            )
            if not (math.isfinite(yaw) and abs(yaw) <= 540 and -90 <= pitch <= 90 and abs(roll) <= 180):
                raise ValueError
        except ValueError:
            raise InputError(
                f"Line {line} is no frame", where=where, remedy="Yaw -540 to 540, pitch -90 to 90, in degrees"
            ) from None
        row = rows.setdefault(round(pitch, 1), len(rows) + 1)
        column = 1 + sum(f.row == row for f in frames)
        role = record.get("role") or "field"
        frames.append(GridFrame(len(frames) + 1, row, column, (yaw + 180) % 360 - 180, pitch, roll, role, right, up))
    if not frames:
        raise InputError("Holds no frames", where=where)
    return tuple(frames)


def _plain(value: Any) -> Any:
    if is_dataclass(value) and not isinstance(value, type):
        return {f.name: _plain(getattr(value, f.name)) for f in fields(value)}
    if isinstance(value, (tuple, list)):
        return [_plain(v) for v in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value


#: Fields in which null stands for infinity.
_ENDLESS = {"far_m", "background_m"}
_LISTS = {"marks": Mark, "stops": Stop}


def _filled(start: Any, row: object, name: str, strict: bool) -> Any:
    if not isinstance(row, dict):
        raise InputError("must be an object", where=name)
    kind = type(start)
    unknown = sorted(set(row) - set(kind.__dataclass_fields__))
    if unknown and strict:
        known = ", ".join(kind.__dataclass_fields__)
        raise InputError(f"has an unknown field '{unknown[0]}'", where=name, remedy=f"Known are {known}")
    values = {f.name: getattr(start, f.name) for f in fields(start)}
    try:
        for key, value in row.items():
            if key not in values:
                continue
            if key in _ENDLESS and value is None:
                value = math.inf
            elif key in _LISTS:
                value = tuple(_LISTS[key](**v) for v in value)
            elif key == "readings":
                value = tuple((float(a), float(ev)) for a, ev in value)
            elif isinstance(values[key], (bool, str)) and not isinstance(value, type(values[key])):
                raise InputError(
                    "has a value of the wrong kind",
                    where=f"{name}, {key}",
                    remedy="Words in quotes, true or false without",
                )
            elif isinstance(values[key], int) and isinstance(value, float) and value == int(value):
                value = int(value)
            values[key] = value
        return kind(**values)
    except (TypeError, ValueError) as error:
        raise InputError(
            "has a value of the wrong kind", where=name, remedy="Numbers without quotes, please"
        ) from error
    except InputError as error:
        inner = error.where if error.where.startswith(name) else f"{name}, {error.where}" if error.where else name
        raise InputError(error.what, where=inner, remedy=error.remedy) from error
