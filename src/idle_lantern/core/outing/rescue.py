"""Copies of outings that could not be saved where they belong, kept elsewhere until they are safe."""

from __future__ import annotations

import contextlib
import datetime
import json
import os
from dataclasses import dataclass
from pathlib import Path

from idle_lantern.core.base.atomic import make_folder, remove_all_leftovers, write_text
from idle_lantern.core.base.errors import DocumentError, LanternError
from idle_lantern.core.base.strict_json import read_json
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import Outing

SCHEMA = "idle-lantern/rescue/1"


@dataclass(frozen=True)
class Rescued:
    """A copy: the outing with what was not saved, the folder it belongs to, and when it was kept."""

    outing: Outing
    folder: Path
    kept: str


def keep(outing: Outing, folder: Path, root: Path) -> None:
    """Keep a copy of what cannot be saved in ``folder``.

    Raises
    ------
    InputError
        It cannot be kept either.
    """
    make_folder(root)
    told = {
        "schema": SCHEMA,
        "folder": os.fsencode(folder).decode("utf-8", "replace"),
        "kept": datetime.datetime.now().isoformat("T", "minutes"),
        "outing": json.loads(document.to_text(outing)),
    }
    write_text(_path(root, outing.id), json.dumps(told, indent=1))


def kept_of(outing_id: str, root: Path) -> Rescued | None:
    """The copy of an outing, None where there is none or it cannot be read."""
    path = _path(root, outing_id)
    return _read(path) if path.is_file() else None


def all_kept(root: Path) -> list[Rescued]:
    """All copies, the newest first."""
    remove_all_leftovers(root)
    found = [_read(path) for path in root.glob("*.json")] if root.is_dir() else []
    return sorted((r for r in found if r is not None), key=lambda r: r.kept, reverse=True)


def forget(outing_id: str, root: Path) -> None:
    """Let a copy go: its outing is saved where it belongs, or it is not wanted."""
    with contextlib.suppress(OSError):
        _path(root, outing_id).unlink(missing_ok=True)


def _path(root: Path, outing_id: str) -> Path:
    return root / f"{outing_id}.json"


def _read(path: Path) -> Rescued | None:
    try:
        told = read_json(path, error=DocumentError)
        if not isinstance(told, dict) or told.get("schema") != SCHEMA:
            return None
        outing = document.from_text(json.dumps(told.get("outing")), str(path))
        return Rescued(outing, Path(str(told.get("folder", ""))), str(told.get("kept", "")))
    except LanternError:
        return None
