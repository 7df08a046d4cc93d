"""Edits of an outing's scouting pictures and of the marks on the map."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from idle_lantern.core.outing.edits import Edit, set_part
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.plan.brief import Mark
from idle_lantern.core.scouting.scout_picture import ScoutPicture


def add_scout(picture: ScoutPicture, facing_deg: float | None = None) -> Edit:
    """Lay a scouting picture in front of all others; ``facing_deg`` is the bearing of yaw 0 where it tells that."""

    def apply(outing: Outing) -> Outing:
        brief = outing.brief
        if facing_deg is not None:
            brief = replace(brief, site=replace(brief.site, facing_deg=facing_deg))
        return replace(outing, brief=brief, scouts=(picture, *outing.scouts))

    return Edit(f"Lay the scouting picture {picture.name}", apply)


def drop_scout(picture: ScoutPicture) -> Edit:
    """Take a scouting picture off the map."""
    return Edit(
        f"Take the scouting picture {picture.name} away",
        lambda o: replace(o, scouts=tuple(p for p in o.scouts if p.id != picture.id)),
    )


def bring_to_front(picture: ScoutPicture) -> Edit:
    """Let a scouting picture lie in front, and be seen."""

    def apply(outing: Outing) -> Outing:
        others = tuple(p for p in outing.scouts if p.id != picture.id)
        found = next((p for p in outing.scouts if p.id == picture.id), None)
        return outing if found is None else replace(outing, scouts=(replace(found, shown=True), *others))

    return Edit(f"Bring the scouting picture {picture.name} to the front", apply)


def change_scout(title: str, scout_id: str, *, merge: str = "", **changes: Any) -> Edit:
    """Change how a scouting picture lies or whether it is shown."""
    return Edit(
        title,
        lambda o: replace(o, scouts=tuple(replace(p, **changes) if p.id == scout_id else p for p in o.scouts)),
        merge,
    )


def set_marks(title: str, marks: tuple[Mark, ...], *, merge: str = "") -> Edit:
    """Let other marks stand on the map."""
    return replace(set_part("scene", title, marks=marks), merge=merge)
