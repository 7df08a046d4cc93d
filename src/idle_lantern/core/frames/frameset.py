"""The set of frames to join: files in a stable order, each under a name of its own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from idle_lantern.core.base.errors import InputError, UnreadableFrame
from idle_lantern.core.frames.reading import SUFFIXES, FrameInfo, probe

#: Ending of the painted masks that may lie beside frames.
MASK_ENDING = ".mask.png"


@dataclass(frozen=True)
class FrameSet:
    """Frames in the order given.

    ``names`` are file names, with as much of the folder as keeps them apart.
    """

    infos: tuple[FrameInfo, ...]
    names: tuple[str, ...]

    def __len__(self) -> int:
        return len(self.infos)


def gather(paths: Sequence[Path]) -> FrameSet:
    """Probe the files of a set.

    Raises
    ------
    UnreadableFrame
        Names the first file that cannot be read.
    InputError
        No file, or one given twice.
    """
    if not paths:
        raise InputError("No frames were given", remedy="Name at least two picture files")
    infos, seen = [], set()
    for path in paths:
        real = Path(path).resolve()
        if real in seen:
            raise InputError("Is given twice", where=str(path), remedy="Name each frame once")
        seen.add(real)
        infos.append(probe(Path(path)))
    return FrameSet(tuple(infos), names_of([i.path for i in infos]))


def pictures_in(folder: Path) -> list[Path]:
    """Picture files of a folder, sorted as people count (f2 before f10)."""
    if not folder.is_dir():
        raise UnreadableFrame("Is no folder", where=str(folder))
    files = [
        p
        for p in folder.iterdir()
        if p.suffix.lower() in SUFFIXES and not p.name.startswith(".") and not p.name.endswith(MASK_ENDING)
    ]
    return sorted(files, key=lambda p: natural_key(p.name))


def natural_key(name: str) -> list[tuple[int, int, str]]:
    """Sort key under which numbers inside names count as numbers."""
    parts, digits = [], ""
    text = ""
    for c in name.lower() + "\0":
        if c.isascii() and c.isdigit():
            if text:
                parts.append((1, 0, text))
                text = ""
            digits += c
        else:
            if digits:
                parts.append((0, int(digits), ""))
                digits = ""
            text += c
    return [*parts, (1, 0, text)]


def names_of(paths: Sequence[Path]) -> tuple[str, ...]:
    """File names, with as much of the folder as keeps them apart."""
    for depth in range(1, 1 + max(len(p.resolve().parts) for p in paths)):
        names = ["/".join(p.resolve().parts[-depth:]) for p in paths]
        if len(set(names)) == len(names):
            return tuple(names)
    return tuple(str(p) for p in paths)
