"""Edits of positions: what a card brings, and which frame stands for a place."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import PurePath

from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import CaptureGroup, FrameRef, Outing, new_id


@dataclass(frozen=True)
class BroughtPosition:
    """Files of one place as the document names them; ``chosen`` is the place of the one that stands for it."""

    files: tuple[str, ...]
    kind: str = "single"
    chosen: int = 0
    ev: tuple[float, ...] = ()


def bring_positions(positions: Sequence[BroughtPosition]) -> Edit:
    """Add what a card holds: frames, with their brackets and repeats held together; files already there are left.

    A raw file's JPEG and bookends are no positions and stay where they are.
    """
    made = [(p, tuple(FrameRef(f) for f in p.files), new_id()) for p in positions]
    count = sum(len(p.files) for p in positions)

    def apply(outing: Outing) -> Outing:
        there = {ref.file for ref in outing.frames}
        frames, groups = list(outing.frames), list(outing.groups)
        for position, refs, group in made:
            new = [ref for ref in refs if ref.file not in there]
            frames += new
            if len(refs) > 1 and len(new) == len(refs):
                ids = tuple(ref.id for ref in refs)
                ev = position.ev if position.kind == "bracket" else ()
                groups.append(CaptureGroup(group, position.kind, ids, ids[position.chosen], ev))
        return replace(outing, frames=tuple(frames), groups=tuple(groups))

    return Edit(f"Bring in {count} picture{'s' if count != 1 else ''}", apply)


def move_files(names: Mapping[str, str]) -> Edit:
    """Let frames, by id, lie in other files: copies of the same content."""

    def apply(outing: Outing) -> Outing:
        frames = tuple(replace(r, file=names[r.id]) if r.id in names else r for r in outing.frames)
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
