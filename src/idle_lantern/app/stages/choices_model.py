"""The choices under Join that ask which files make the picture and by which lens, as plain values: no Qt, tested without a window."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.merging.recipe import Brackets, Repeats
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.outing import document
from idle_lantern.core.outing.model import Outing

if TYPE_CHECKING:
    pass


#: What becomes of the exposures of a place, in words.
BRACKET_WORDS: dict[Brackets, str] = {
    "merge": "merged to linear light",
    "fuse": "fused, the well exposed of each",
    "base": "the middle exposure only",
}


#: The choices under Join that ask which files make the picture, in words.
REPEAT_WORDS: dict[Repeats, str] = {"sharpest": "the sharpest one", "stack": "the mean of the sharp ones"}


TWIN_WORDS = {"raw": "the raw files", "jpeg": "the camera's JPEGs"}


#: Where the lens comes from that is no name of the gear library.
FOUND, DATABASE = "found by the join", "from the lens database"


def lens_names(lens: KnownLens | None, measured: Sequence[str]) -> tuple[list[str], int]:
    """What can be chosen as the lens, and which of it is."""
    names = [FOUND, DATABASE, *measured]
    if lens is None:
        return names, 0
    if lens.source == "database":
        return names, 1
    if lens.lens not in measured:  # its outing came from elsewhere, or it left the library
        names.append(lens.lens)
    return names, names.index(lens.lens)


def lens_of_set(outing: Outing, folder: Path) -> KnownLens:
    """What the lens database knows of the lens of an outing's first frame.

    Raises
    ------
    UnreadableFrame
        The frame cannot be read.
    InputError
        It tells no lens, or one that the database does not hold.
    """
    from idle_lantern.core.optics.database import lens_from_database  # a library that no start needs

    info = probe(document.resolve(folder, outing.frames_to_join()[0]))
    return lens_from_database(info.metadata, info.width, info.height)


def measured_lens(joined: JoinResult, name: str, day: str) -> KnownLens:
    """The lens of a finished join, as the gear library keeps it.

    Raises
    ------
    InputError
        The join found none: its frames are gone.
    """
    from idle_lantern.core.calibration.sweep import calibration_of

    if joined.solution is None:
        raise InputError("The frames of this join are gone", remedy="Join again")
    found = calibration_of(joined.solution, joined.report.falloff_terms)
    first = joined.solution.frames.infos[joined.solution.poses.frames[0]]
    return found.known(first.metadata, name, day)
