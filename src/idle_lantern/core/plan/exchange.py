"""Briefs and plans in and out, as JSON and CSV (``docs/formats/plan.md``)."""

from __future__ import annotations

import csv
import io
import math
from dataclasses import asdict, fields, is_dataclass, replace
from typing import Any

import msgspec

from idle_lantern.core.base.errors import InputError, shortened
from idle_lantern.core.base.strict_json import parse_json, whole_numbers
from idle_lantern.core.plan.brief import Brief, Exposure, Run, Scene, Site, Support, Target
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.kinds import KINDS
from idle_lantern.core.plan.limits import LIMITS, check_limit
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.plan.target_field import TargetField
from idle_lantern.core.plan.zone import place_offset_h

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

    A ``kind`` in a specification starts from that kind's values; a place without hours from UTC has those of its zone.

    Raises
    ------
    InputError
        Not JSON, another kind of document, an unknown field or an impossible value.
    """
    document = parse_json(text.encode("utf-8", "surrogatepass"), where)
    if not isinstance(document, dict) or document.get("schema") not in (SPEC_SCHEMA, PLAN_SCHEMA):
        raise InputError(f"Is no plan specification (schema {SPEC_SCHEMA})", where=where)
    unknown = sorted(set(document) - {"schema", "kind", "wish", *PARTS})
    if document["schema"] == SPEC_SCHEMA and unknown:
        raise InputError(
            f"has an unknown part '{shortened(unknown[0], 40)}'", where=where, remedy=f"Known are {', '.join(PARTS)}"
        )
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
        # a kind may go by the lens and the scene: those first, then the kind, and over it what is told
        told = {name: _filled(getattr(start, name), document.get(name, {}), name, strict) for name in PARTS}
        start = kind.start(Brief(**told))
    parts = {name: _filled(getattr(start, name), document.get(name, {}), name, strict) for name in PARTS}
    place = document.get("site", {})
    if start_from_kind and {"latitude_deg", "longitude_deg"} & set(place) and "utc_offset_h" not in place:
        parts["site"] = replace(parts["site"], utc_offset_h=place_offset_h(parts["site"]))
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
        "joined": {
            **asdict(plan.size),
            "pixels": plan.size.pixels,
            "crop_loss": plan.crop.expected,
            "crop_loss_of_80_percent": [plan.crop.low, plan.crop.high],
        },
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


#: Nobody shoots more; every frame is planned, drawn and proved.
_MOST_FRAMES = 20_000


def read_frames_csv(text: str, where: str = "") -> tuple[GridFrame, ...]:
    """Frames in order of shooting from CSV with at least ``yaw_deg`` and ``pitch_deg``.

    Rows are told by equal pitch where the file has none.

    Raises
    ------
    InputError
        A column is missing or a line cannot be read; the sentence names the line.
    """
    reader = csv.DictReader(io.StringIO(text))
    try:
        columns = set(reader.fieldnames or ())
        records = list(reader)
    except csv.Error as error:
        raise InputError(f"Is no CSV ({error})", where=where) from error
    if len(records) > _MOST_FRAMES:
        raise InputError(f"Holds {len(records)} frames, more than {_MOST_FRAMES}", where=where)
    if not {"yaw_deg", "pitch_deg"} <= columns:
        raise InputError("Has no columns yaw_deg and pitch_deg", where=where, remedy="Name them in the first line")
    frames: list[GridFrame] = []
    rows: dict[float, int] = {}
    columns_of: dict[int, int] = {}
    for line, record in enumerate(records, 2):
        try:
            yaw, pitch, roll, right, up = (
                float(record.get(c) or 0) for c in ("yaw_deg", "pitch_deg", "roll_deg", "shift_right_mm", "shift_up_mm")
            )
            if not (math.isfinite(yaw) and abs(yaw) <= 540 and -90 <= pitch <= 90 and abs(roll) <= 180):
                raise ValueError
        except (ValueError, TypeError):
            raise InputError(
                f"Line {line} is no frame", where=where, remedy="Yaw -540 to 540, pitch -90 to 90, in degrees"
            ) from None
        row = rows.setdefault(round(pitch, 1), len(rows) + 1)
        column = columns_of[row] = columns_of.get(row, 0) + 1
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


def _filled(start: Any, row: object, name: str, strict: bool) -> Any:
    if not isinstance(row, dict):
        raise InputError("must be an object", where=name)
    kind = type(start)
    known = {f.name: str(f.type) for f in fields(kind)}
    unknown = sorted(set(row) - set(known))
    if unknown and strict:
        raise InputError(
            f"has an unknown field '{shortened(unknown[0], 40)}'",
            where=name,
            remedy=f"Known are {', '.join(known)}",
        )
    given = {key: math.inf if key in _ENDLESS and _means_endless(v) else v for key, v in row.items() if key in known}
    try:
        return _converted(start, given)
    except _REFUSED as error:
        # told is the field that cannot be by itself; where each can, they do not go together
        for key, value in given.items():
            try:
                _converted(start, {key: value})
            except _REFUSED as alone:
                if _at_odds_with_another(alone, error, key):
                    continue
                raise _named(alone, f"{name}, {key}", key, value, whole="int" in known[key]) from error
        raise _named(error, name, "", None) from error


def _means_endless(value: object) -> bool:
    return value is None or (isinstance(value, str) and value.strip().lower() in ("infinity", "inf", "∞"))


_REFUSED = (msgspec.ValidationError, InputError, TypeError, ValueError, OverflowError)


def _converted(start: Any, given: dict[str, Any]) -> Any:
    return msgspec.convert(whole_numbers({**asdict(start), **given}), type(start))


def _at_odds_with_another(alone: Exception, together: Exception, key: str) -> bool:
    """Whether a field was refused for another one that it does not go with, so that it is not told by itself."""
    if not isinstance(alone, InputError) or key not in LIMITS:
        return False
    same_place = isinstance(together, InputError) and alone.where == together.where
    return alone.where != LIMITS[key][0] or (same_place and str(alone) != str(together))


def _named(error: Exception, where: str, key: str, value: object, *, whole: bool = False) -> InputError:
    """The refusal of a part, or of one field of it, with its place in the file."""
    if isinstance(error, InputError):
        title = LIMITS[key][0] if key in LIMITS else ""
        inner = "" if error.where.lower() in (title.lower(), key.replace("_", " ").lower()) else error.where
        return InputError(f"{inner} {error.what}" if inner else error.what, where=where, remedy=error.remedy)
    if key in LIMITS:
        try:
            check_limit(key, value, whole=whole)
        except InputError as refused:
            return InputError(refused.what, where=where, remedy=refused.remedy)
    inside = str(error).partition(" - at `$.")[2].rstrip("`").removeprefix(key).lstrip(".")
    told = "" if isinstance(value, (dict, list, type(None))) else f", '{shortened(str(value), 40)}'"
    return InputError(
        f"has a value of the wrong kind{told}",
        where=f"{where}{inside}" if inside.startswith("[") else where,
        remedy="Words in quotes, true or false without, numbers without quotes, unit or percent sign",
    )
