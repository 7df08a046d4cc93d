"""Frames that lie elsewhere (a card, a folder) copied into the outing, each checked against what was read."""

from __future__ import annotations

import hashlib
import shutil
from pathlib import Path

from idle_lantern.core.base.atomic import make_folder, replacing
from idle_lantern.core.base.errors import InputError, UnreadableFrame
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.units import file_size
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.outing.position_edits import TWIN

_PIECE_BYTES = 1 << 20


def elsewhere(outing: Outing, folder: Path) -> dict[str, Path]:
    """Files of frames that lie outside of the outing's folder, by id; a raw's JPEG goes by ``ID/twin``."""
    root = folder.resolve()
    found = {ref.id: document.resolve(folder, ref) for ref in outing.frames}
    found |= {ref.id + TWIN: document.twin_of(folder, ref) for ref in outing.frames if ref.twin}
    return {frame: path for frame, path in found.items() if not path.resolve().is_relative_to(root)}


def copied(outing: Outing, folder: Path, progress: Progress = SILENT) -> dict[str, str]:
    """Copy what lies elsewhere; the new names by frame id, as the document has them. Originals are only read.

    A copy counts when it was read back and its SHA-256 is that of the original.

    Raises
    ------
    UnreadableFrame
        A file is gone, or its copy differs: what was copied so far stays and is taken up next time.
    InputError
        The disk is full or may not be written.
    Cancelled
        Stopped by ``progress``.
    """
    wanted = elsewhere(outing, folder)
    target = folder / document.FRAMES
    make_folder(target, inside=folder)
    needed = sum(path.stat().st_size for path in wanted.values() if path.is_file())
    if needed > shutil.disk_usage(target).free:
        raise InputError(
            f"Has no room for {file_size(needed)} of frames",
            where=str(target),
            remedy="Make room, or leave them where they are",
        )
    names: dict[str, str] = {}
    progress.begin("work", len(wanted))
    for frame, path in wanted.items():
        names[frame] = document.relative(folder, _copy(path, target, progress))
        progress.advance()
    return names


def _copy(path: Path, folder: Path, progress: Progress) -> Path:
    """One file under a name that is free, or that holds the same already."""
    try:
        content = _hash(path, progress)
    except OSError as error:
        raise UnreadableFrame(
            f"Cannot be read ({error.strerror})", where=str(path), remedy="Put the card back in"
        ) from error
    for again in range(1, 10_000):
        name = path.name if again == 1 else f"{path.stem}-{again}{path.suffix}"
        to = folder / name
        if not to.exists():
            break
        if to.stat().st_size == path.stat().st_size and _hash(to, progress) == content:
            return to
    with replacing(to) as part:
        try:
            with open(path, "rb") as source, open(part, "wb") as stream:
                while piece := source.read(_PIECE_BYTES):
                    progress.advance(0)
                    stream.write(piece)
        except FileNotFoundError as error:
            raise UnreadableFrame(
                "Went away while it was copied", where=str(path), remedy="Put the card back in"
            ) from error
        shutil.copystat(path, part)
        if _hash(part, progress) != content:
            raise UnreadableFrame(
                "Could not be copied faithfully", where=str(path), remedy="Copy it again; the card may be failing"
            )
    return to


def _hash(path: Path, progress: Progress) -> str:
    digest = hashlib.sha256()
    with open(path, "rb") as stream:
        while piece := stream.read(_PIECE_BYTES):
            progress.advance(0)
            digest.update(piece)
    return digest.hexdigest()
