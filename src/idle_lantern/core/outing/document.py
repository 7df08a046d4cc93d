"""An outing's folder: one JSON document, frames and assets beside it, saved whole or not at all.

``docs/formats/outing.md`` describes it. A document that is damaged or newer than
this program is told about and left untouched.
"""

from __future__ import annotations

import os
import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import msgspec

from idle_lantern.core.base.atomic import make_folder, write_text
from idle_lantern.core.base.errors import DocumentError, InputError
from idle_lantern.core.base.strict_json import read_bytes
from idle_lantern.core.finish.recipe_files import named_files
from idle_lantern.core.outing import assets, schema
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.scouting.scout_picture import ScoutPicture

DOCUMENT = "outing.json"
FRAMES = "frames"
PICTURES = "pictures"
#: The joined picture and its report, inside ``PICTURES``.
PICTURE, REPORT = "joined.tif", "joined.json"
MASK_ASSET = SCOUT_ASSET = MARK_ASSET = "png"
PROFILE_ASSET = "icc"
_HASH_DIGITS = 64


def save(outing: Outing, folder: Path) -> None:
    """Write the document into ``folder``, which is made if need be.

    Raises
    ------
    InputError
        It cannot be written; what was there stays.
    DocumentError
        It holds something that could not be read again; what was there stays.
    """
    # frames come from files and are checked where they come in; all else a person may have typed
    schema.checked(schema.plain(replace(outing, frames=())), str(folder / DOCUMENT))
    make_folder(folder)
    write_text(folder / DOCUMENT, to_text(outing))


def load(folder: Path) -> Outing:
    """Read the document of ``folder``.

    Raises
    ------
    DocumentError
        No document, damaged, or from a newer version; nothing is changed on disk.
    """
    path = folder / DOCUMENT
    if not path.exists():
        raise DocumentError("Holds no outing", where=str(folder), remedy=f"Choose a folder with a file {DOCUMENT}")
    data = read_bytes(path, error=DocumentError, remedy="The file was left as it is")
    document = schema.parsed(data, str(path))
    return _raised(document, str(path))


def to_text(outing: Outing) -> str:
    """The document as JSON text."""
    return msgspec.json.format(msgspec.json.encode(schema.plain(outing)), indent=1).decode()


def from_text(text: str, where: str = "") -> Outing:
    """An outing from JSON text; see ``load`` for errors."""
    document = schema.parsed(text.encode("utf-8", "surrogatepass"), where)
    return _raised(document, where)


def resolve(folder: Path, ref: FrameRef) -> Path:
    """Where a frame's file lies."""
    path = Path(ref.file)
    return path if path.is_absolute() else folder / path


def twin_of(folder: Path, ref: FrameRef) -> Path:
    """Where the JPEG beside a raw frame lies; the frame itself where it has none."""
    return folder / ref.twin if ref.twin else resolve(folder, ref)


def relative(folder: Path, path: Path) -> str:
    """How a frame file is named in the document: relative where it lies inside the folder.

    Raises
    ------
    InputError
        The name is no text (bytes that are not UTF-8), so no document could hold it.
    """
    try:
        name = path.resolve().relative_to(folder.resolve()).as_posix()
    except ValueError:
        name = str(path.resolve())
    try:
        name.encode()
    except UnicodeEncodeError as error:
        shown = os.fsencode(path.name).decode("utf-8", "replace")
        raise InputError(
            "Its name holds bytes that are not UTF-8", where=shown, remedy="Rename the file, then bring it in"
        ) from error
    return name


def copied(outing: Outing, folder: Path, target: Path) -> Outing:
    """The outing as it has to be in another folder: its assets go along, frames are named where they lie.

    Raises
    ------
    InputError
        ``target`` holds something already, or cannot be written.
    """
    try:
        taken = target.exists() and (not target.is_dir() or any(target.iterdir()))
    except OSError as error:
        raise InputError(
            f"Cannot be looked into ({error.strerror})", where=str(target), remedy="Choose another folder"
        ) from error
    if taken:
        what = "Is not empty" if target.is_dir() else "Is a file"
        raise InputError(what, where=str(target), remedy="Choose an empty or a new folder")
    make_folder(target)
    for name in assets_named(outing):
        for source in (folder / assets.FOLDER).glob(f"{name}.*"):
            assets.copy(source, target)
    frames = tuple(replace(ref, file=str(resolve(folder, ref).absolute())) for ref in outing.frames)
    return replace(outing, frames=frames)


def mask_file(folder: Path, outing: Outing, frame_id: str) -> Path | None:
    """The file with what is painted on a frame, None where nothing is."""
    asset = outing.choices.mask_of(frame_id)
    return None if asset is None else assets.path(folder, asset, MASK_ASSET)


def finish_file(folder: Path, name: str) -> Path:
    """Where a file lies that the recipe names: a picture of a mask, or a retouched one, which is named with its ending."""
    name, _, ending = name.partition(".")
    return assets.path(folder, name, ending or MASK_ASSET)


def assets_named(outing: Outing) -> set[str]:
    """Every asset that the document refers to."""
    named = {mask.asset for mask in outing.choices.masks} | {scout.asset for scout in outing.scouts}
    cover, profile = outing.delivery.nadir, outing.delivery.profile
    named |= {cover.mark} if cover is not None and cover.mark else set()
    named |= {name.partition(".")[0] for name in named_files(outing.finish)}
    return named | ({profile} if len(profile) == _HASH_DIGITS else set())


def scout_file(folder: Path, scout: ScoutPicture) -> Path:
    """Where the pixels of a scouting picture lie."""
    return assets.path(folder, scout.asset, SCOUT_ASSET)


def _raised(document: dict[str, Any], where: str) -> Outing:
    """A document of any version as an outing: each version after the first has its step here."""
    _version_of(document, where)
    return schema.checked(document, where)


def _version_of(document: dict[str, Any], where: str) -> int:
    name = document.get("schema")
    found = re.fullmatch(rf"{schema.PREFIX}(\d+)", name, re.ASCII) if isinstance(name, str) else None
    if found is None:
        raise DocumentError("Is no outing document", where=where, remedy="It was left as it is")
    digits = found[1][:9]
    version = int(digits)
    if version > schema.VERSION or digits != found[1]:
        raise DocumentError(
            f"Was written by a newer Idle Lantern (document version {digits}, this one reads up to {schema.VERSION})",
            where=where,
            remedy="Update Idle Lantern; the file was left as it is",
        )
    if version < 1:
        raise DocumentError(f"Has the impossible version {digits}", where=where, remedy="It was left as it is")
    return version
