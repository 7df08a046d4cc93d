"""An outing's folder: one JSON document, frames beside it, saved whole or not at all.

``docs/formats/outing.md`` describes it. A document that is damaged or newer than
this program is told about and left untouched.
"""

from __future__ import annotations

import json
from dataclasses import asdict
from functools import lru_cache
from importlib import resources
from pathlib import Path
from typing import Any

import jsonschema

from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import DocumentError, LanternError
from idle_lantern.core.outing.model import FrameRef, JoinChoices, Outing
from idle_lantern.core.plan.exchange import brief_document, read_brief
from idle_lantern.core.plan.grid import GridFrame

DOCUMENT = "outing.json"
FRAMES = "frames"
#: Folder inside an outing for painted masks.
MASKS = "masks"
PICTURES = "pictures"
_PREFIX = "idle-lantern/outing/"
VERSION = 3


def save(outing: Outing, folder: Path) -> None:
    """Write the document into ``folder``, which is made if need be."""
    folder.mkdir(parents=True, exist_ok=True)
    write_text(folder / DOCUMENT, to_text(outing))


def load(folder: Path) -> Outing:
    """Read the document of ``folder``.

    Raises
    ------
    DocumentError
        No document, damaged, or from a newer version; nothing is changed on disk.
    """
    path = folder / DOCUMENT
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError as error:
        raise DocumentError(
            "Holds no outing", where=str(folder), remedy=f"Choose a folder with a file {DOCUMENT}"
        ) from error
    except (OSError, UnicodeDecodeError) as error:
        raise DocumentError("Cannot be read", where=str(path), remedy="The file was left as it is") from error
    return from_text(text, str(path))


def to_text(outing: Outing) -> str:
    """The document as JSON text."""
    document = {**asdict(outing), "brief": brief_document(outing.brief)}
    return json.dumps({"schema": f"{_PREFIX}{VERSION}", **document}, indent=1, ensure_ascii=False)


def from_text(text: str, where: str = "") -> Outing:
    """An outing from JSON text; see ``load`` for errors."""
    try:
        document = json.loads(text)
    except ValueError as error:
        line = getattr(error, "lineno", 0)
        raise DocumentError(
            f"Is damaged at line {line}", where=where, remedy="It was left as it is; take it from a backup"
        ) from error
    schema = document.get("schema") if isinstance(document, dict) else None
    if not isinstance(schema, str) or not schema.startswith(_PREFIX):
        raise DocumentError("Is no outing document", where=where, remedy="It was left as it is")
    version = schema.removeprefix(_PREFIX)
    if not version.isdigit() or int(version) > VERSION:
        raise DocumentError(
            f"Was written by a newer Idle Lantern (document version {version}, this one reads up to {VERSION})",
            where=where,
            remedy="Update Idle Lantern; the file was left as it is",
        )
    try:
        jsonschema.validate(document, _schema(int(version)))
        return _outing(_raised(document) if version == "1" else document)
    except jsonschema.ValidationError as error:
        place = "/".join(str(p) for p in error.absolute_path) or "the top level"
        raise DocumentError(
            f"Is damaged at {place} ({error.message})", where=where, remedy="It was left as it is"
        ) from error
    except LanternError as error:
        raise DocumentError(
            f"Holds an impossible value: {error.sentence}", where=where, remedy="It was left as it is"
        ) from error


def resolve(folder: Path, ref: FrameRef) -> Path:
    """Where a frame's file lies."""
    path = Path(ref.file)
    return path if path.is_absolute() else folder / path


def relative(folder: Path, path: Path) -> str:
    """How a frame file is named in the document: relative where it lies inside the folder."""
    try:
        return path.resolve().relative_to(folder.resolve()).as_posix()
    except ValueError:
        return str(path.resolve())


def _outing(document: dict[str, Any]) -> Outing:
    choices = document.get("choices", {})
    return Outing(
        name=document["name"],
        created=document["created"],
        brief=read_brief(document["brief"], strict=False),
        given_frames=tuple(GridFrame(**_known(row, GridFrame)) for row in document.get("given_frames", ())),
        frames=tuple(FrameRef(**_known(row, FrameRef)) for row in document["frames"]),
        skipped=tuple(document.get("skipped", ())),
        choices=JoinChoices(
            choices.get("projection", "auto"),
            tuple(choices.get("left_out", ())),
            choices.get("crop", True),
            tuple(choices.get("put_back", ())),
        ),
        put_aside=tuple(document.get("put_aside", ())),
        note=document.get("note", ""),
    )


def _raised(document: dict[str, Any]) -> dict[str, Any]:
    """A document of version 1, which knew camera and field only, as one of version 2 (3 only added a choice)."""
    rest = {k: v for k, v in document.items() if k not in ("rig", "target_field")}
    return {**rest, "brief": {"rig": document["rig"], "target_field": document["target_field"]}}


def _known(row: dict[str, Any], kind: Any) -> dict[str, Any]:
    return {k: v for k, v in row.items() if k in kind.__dataclass_fields__}


@lru_cache(maxsize=3)
def _schema(version: int) -> Any:
    name = f"outing-{version}.schema.json"
    return json.loads(resources.files(__package__).joinpath(name).read_text(encoding="utf-8"))
