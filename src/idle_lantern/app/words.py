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
def meanings() -> dict[str, str]:
    """What each term on the screen means, by the term."""
    table = resources.files("idle_lantern.app").joinpath("resources/words.md").read_text("utf-8")
    rows = [
        [cell.strip() for cell in line.strip("| \n").split("|")] for line in table.splitlines() if line.startswith("| ")
    ]
    return {row[0]: row[1] for row in rows if len(row) >= 2 and row[0] not in ("term", "---")}


@cache
def replaced() -> dict[str, str]:
    """Words that are no longer used, each with the term that took their place."""
    table = resources.files("idle_lantern.app").joinpath("resources/words.md").read_text("utf-8")
    rows = [
        [cell.strip() for cell in line.strip("| \n").split("|")] for line in table.splitlines() if line.startswith("| ")
    ]
    return {
        old.strip(): row[0]
        for row in rows
        if len(row) > 2
        for old in row[2].split(";")
        if old.strip() not in ("", "was", "---")
    }


def meaning(term: str) -> str:
    """What a term means; empty where the table does not tell."""
    return meanings().get(term, "")
