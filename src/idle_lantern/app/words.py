"""The words of the window in one place: what things are called, and what each term means (``resources/words.md``)."""

from __future__ import annotations

from functools import cache
from importlib import resources

#: Forms of a picture, by the names of the join contract.
PROJECTIONS = {
    "rectilinear": "Flat", "cylindrical": "Cylinder", "equirectangular": "Sphere", "panini": "Panini", "mercator": "Mercator",
    "stereographic": "Stereographic",
}  # fmt: skip
#: Kinds of lenses, by the names of the join contract.
LENSES = {
    "rectilinear": "rectilinear", "equisolid": "fisheye, equisolid", "equidistant": "fisheye, equidistant",
    "stereographic": "fisheye, stereographic", "orthographic": "fisheye, orthographic",
}  # fmt: skip


@cache
def _rows() -> tuple[tuple[str, str, str], ...]:
    """Rows of the table: term, meaning, and what the term replaced."""
    table = resources.files("idle_lantern.app").joinpath("resources/words.md").read_text("utf-8")
    cells = (line.strip("| \n").split(" | ") for line in table.splitlines() if line.startswith("| "))
    rows = ([cell.strip(" |") for cell in row] for row in cells)
    return tuple((row[0], row[1], row[2] if len(row) > 2 else "") for row in rows if row[0] != "term")


@cache
def meanings() -> dict[str, str]:
    """What each term on the screen means, by the term."""
    return {term: told for term, told, _was in _rows()}


@cache
def replaced() -> dict[str, str]:
    """Words that are no longer used, each with the term that took their place."""
    return {was: term for term, _told, was in _rows() if was}


def meaning(term: str) -> str:
    """What a term means; empty where the table does not tell."""
    return meanings().get(term, "")
