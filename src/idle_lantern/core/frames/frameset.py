"""The set of frames to join: files in a stable order, each under a name of its own."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

from idle_lantern.core.base.errors import InputError, UnreadableFrame
from idle_lantern.core.colour.profiles import common_space
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.frames.reading import SUFFIXES, FrameInfo, probe

T = TypeVar("T")

#: Ending of the painted masks that may lie beside frames.
MASK_ENDING = ".mask.png"


@dataclass(frozen=True)
class FrameSet:
    """Frames in the order given.

    ``names`` are file names, with as much of the folder as keeps them apart; ``known_as`` the identities by which choices name
    them, empty where those are the names. ``lens_labels`` tell frames apart that were zoomed or cropped and do not say so; empty
    where none was.
    """

    infos: tuple[FrameInfo, ...]
    names: tuple[str, ...]
    known_as: tuple[str, ...] = ()
    lens_labels: tuple[int, ...] = ()

    @property
    def ids(self) -> tuple[str, ...]:
        """The identities of the frames."""
        return self.known_as or self.names

    @property
    def space(self) -> ColourSpace:
        """The colour space that they are joined in unless another one is asked for."""
        return common_space([info.space for info in self.infos])

    def places(self, ids: Iterable[str]) -> frozenset[int]:
        """Indices of those frames that are in the set."""
        wanted = set(ids)
        return frozenset(f for f, frame in enumerate(self.ids) if frame in wanted)

    def __len__(self) -> int:
        return len(self.infos)


def gather(paths: Sequence[Path], ids: Sequence[str] = ()) -> FrameSet:
    """Probe the files of a set; ``ids`` are their identities where they have others than their names.

    Raises
    ------
    UnreadableFrame
        Names the files that cannot be read, all at once.
    InputError
        No file, or one given twice.
    """
    if not paths:
        raise InputError("No frames were given", remedy="Name at least two picture files")
    refuse_twice(paths)
    infos = []
    faults: list[UnreadableFrame] = []
    for path in paths:
        try:
            infos.append(probe(Path(path)))
        except UnreadableFrame as error:
            faults.append(error)
    refuse_unreadable(faults, len(paths))
    return FrameSet(tuple(infos), names_of([i.path for i in infos]), tuple(ids))


def refuse_twice(paths: Sequence[Path]) -> None:
    """Every file counts once.

    Raises
    ------
    InputError
        Names the first that is given again, links included.
    """
    seen = set()
    for path in paths:
        real = Path(path).resolve()
        if real in seen:
            raise InputError("Is given twice", where=str(path), remedy="Name each frame once")
        seen.add(real)


def refuse_unreadable(faults: Sequence[UnreadableFrame], count: int) -> None:
    """Name all files of a set of ``count`` that cannot be read at once: one at a time would mean many tries.

    Raises
    ------
    UnreadableFrame
        There are any.
    """
    if len(faults) == 1:
        raise faults[0]
    if faults:
        others = ", ".join(Path(fault.where).name for fault in faults[1:4])
        more = f" and {len(faults) - 4} more" if len(faults) > 4 else ""
        raise UnreadableFrame(
            f"{faults[0].what}; neither can {others}{more} be read",
            where=faults[0].where,
            remedy=f"Leave these {len(faults)} of {count} frames out",
        )


def pictures_in(folder: Path) -> list[Path]:
    """Picture files of a folder, sorted as people count (f2 before f10)."""
    if not folder.is_dir():
        raise UnreadableFrame("Is no folder", where=str(folder))
    files = [
        p
        for p in folder.iterdir()
        if p.suffix.lower() in SUFFIXES and not p.name.startswith(".") and not p.name.endswith(MASK_ENDING)
    ]
    return in_people_order(files, lambda p: p.name)


def in_people_order(things: Iterable[T], name: Callable[[T], str]) -> list[T]:
    """Things by name, where numbers inside names count as numbers (f2 before f10) and case does not matter."""
    # loaded when it is needed: every join would pay for it
    from natsort import natsorted, ns

    return list(natsorted(things, key=name, alg=ns.IGNORECASE))


def names_of(paths: Sequence[Path]) -> tuple[str, ...]:
    """File names, with as much of the folder as keeps them apart."""
    parts = [p.resolve().parts for p in paths]
    for depth in range(1, 1 + max(map(len, parts))):
        names = ["/".join(each[-depth:]) for each in parts]
        if len(set(names)) == len(names):
            return tuple(names)
    return tuple(str(p) for p in paths)
