"""Edits of positions: what a card brings, and which frame stands for a place."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import PurePath

from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import CaptureGroup, FrameRef, Outing, new_id


@dataclass(frozen=True)
class BroughtPosition:
    """Files of one place as the document names them; ``chosen`` is the place of the one that stands for it.

    ``twins`` are the JPEGs beside raw files, None where there is none.
    """

    files: tuple[str, ...]
    kind: str = "single"
    chosen: int = 0
    ev: tuple[float, ...] = ()
    twins: tuple[str | None, ...] = ()


def bring_positions(positions: Sequence[BroughtPosition]) -> Edit:
    """Add what a card holds: frames, with their brackets and repeats held together; files already there are left.

    Bookends are no positions and stay where they are. An outing for which nothing was planned is one from photographs from
    then on. Where as many positions come as were logged, they are taken for those, in order.
    """
    made = [
        (p, tuple(FrameRef(f, twin=t) for f, t in zip(p.files, p.twins or (None,) * len(p.files))), new_id())
        for p in positions
    ]
    count = sum(len(p.files) for p in positions)

    def apply(outing: Outing) -> Outing:
        there = {ref.file for ref in outing.frames}
        frames, groups = list(outing.frames), list(outing.groups)
        in_log = outing.logged if len(outing.logged) == len(made) and not outing.frames else ()
        for place, (position, refs, group) in enumerate(made):
            number = in_log[place].number if in_log else None
            new = [replace(ref, number=number) for ref in refs if ref.file not in there]
            frames += new
            if len(refs) > 1 and len(new) == len(refs):
                ids = tuple(ref.id for ref in refs)
                ev = position.ev if position.kind == "bracket" else ()
                groups.append(CaptureGroup(group, position.kind, ids, ids[position.chosen], ev))
        planless = outing.origin == "planned" and not outing.plan_made and not outing.logged and not outing.frames
        origin = "photographs" if planless else outing.origin
        return replace(outing, frames=tuple(frames), groups=tuple(groups), origin=origin)

    return Edit(f"Bring in {count} picture{'s' if count != 1 else ''}", apply)


#: After the id of a frame: the JPEG beside it.
TWIN = "/twin"


def move_files(names: Mapping[str, str]) -> Edit:
    """Let frames, by id, lie in other files: copies of the same content; ``ID/twin`` is the JPEG beside a raw frame."""

    def apply(outing: Outing) -> Outing:
        frames = tuple(
            replace(r, file=names.get(r.id, r.file), twin=names.get(r.id + TWIN, r.twin)) for r in outing.frames
        )
        return replace(outing, frames=frames)

    return Edit(f"Copy {len(names)} picture{'s' if len(names) != 1 else ''} into the outing", apply)


def choose_of_group(ref: FrameRef) -> Edit:
    """Let another frame of its bracket or repeats stand for the place."""

    def apply(outing: Outing) -> Outing:
        return replace(
            outing, groups=tuple(_with_chosen(g, ref.id) if ref.id in g.frames else g for g in outing.groups)
        )

    return Edit(f"Use {PurePath(ref.file).name} for its place", apply)


def _with_chosen(group: CaptureGroup, chosen: str) -> CaptureGroup:
    at = group.frames.index(chosen)
    ev = tuple(e - group.ev[at] for e in group.ev) if len(group.ev) == len(group.frames) else ()
    return replace(group, chosen=chosen, ev=ev)
