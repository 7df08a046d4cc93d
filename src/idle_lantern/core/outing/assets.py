"""Larger data of an outing, each a file named by the SHA-256 of its bytes: written once, never changed."""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import shutil
import time
from collections.abc import Iterable
from pathlib import Path

from idle_lantern.core.base.atomic import make_folder, replacing, write_bytes
from idle_lantern.core.base.errors import InputError

FOLDER = "assets"
_NAME = re.compile(r"[0-9a-f]{64}\.[a-z0-9]{1,5}")
#: Assets that no document names any more are removed after so long: undo of a running window may still ask for them.
_KEEP_S = 14 * 86400


def put(folder: Path, data: bytes, ending: str) -> str:
    """Keep bytes as an asset of the outing in ``folder``; returns its name without the ending.

    Raises
    ------
    InputError
        It cannot be written.
    """
    name = hashlib.sha256(data).hexdigest()
    target = path(folder, name, ending)
    if not target.is_file():
        make_folder(target.parent, inside=folder)
        write_bytes(target, data)
    return name


def copy(source: Path, folder: Path) -> None:
    """Bring an asset, of any size, into the outing in another folder.

    Raises
    ------
    InputError
        It cannot be read or written.
    """
    target = folder / FOLDER / source.name
    if target.is_file():
        return
    make_folder(target.parent, inside=folder)
    try:
        with replacing(target) as part:
            shutil.copyfile(source, part)
    except OSError as error:
        raise InputError(f"Cannot be copied ({error.strerror})", where=str(source), remedy="Free some space") from error


def path(folder: Path, name: str, ending: str) -> Path:
    """Where an asset lies."""
    return folder / FOLDER / f"{name}.{ending}"


def sweep(folder: Path, named: Iterable[str]) -> None:
    """Remove old assets that the document does not name; what cannot be removed stays."""
    keep = set(named)
    with contextlib.suppress(OSError):
        for entry in os.scandir(folder / FOLDER):
            if _NAME.fullmatch(entry.name) and entry.name.partition(".")[0] not in keep:
                with contextlib.suppress(OSError):
                    if time.time() - entry.stat().st_mtime > _KEEP_S:
                        os.unlink(entry.path)
