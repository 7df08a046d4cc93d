"""Every change of an outing: ``Outing -> Outing`` under a title that undo can name."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.grid import GridFrame


@dataclass(frozen=True)
class Edit:
    """A titled change; edits of the same ``merge`` key in a row (a drag) count as one."""

    title: str
    apply: Callable[[Outing], Outing]
    merge: str = ""


def set_part(part: str, title: str, *, merge: str = "", **changes: Any) -> Edit:
    """Change values of one part of the brief (``target_field``, ``rig``, ``support`` ...)."""

    def apply(outing: Outing) -> Outing:
        changed = replace(getattr(outing.brief, part), **changes)
        return _planned_anew(outing, replace(outing.brief, **{part: changed}))

    return Edit(title, apply, merge)


def set_target_field(title: str, *, merge: str = "", **changes: Any) -> Edit:
    """Change the wished field or overlap."""
    return set_part("target_field", title, merge=merge, **changes)


def set_rig(title: str, **changes: Any) -> Edit:
    """Change camera, lens or orientation."""
    return set_part("rig", title, **changes)


def set_brief(title: str, brief: Brief) -> Edit:
    """Take over a whole brief: a kind of picture, a thing of the gear library, a remedy, a plan from a file."""
    return Edit(title, lambda o: _planned_anew(o, brief))


def give_frames(title: str, frames: Sequence[GridFrame]) -> Edit:
    """Let frames of a list made elsewhere stand instead of planned ones."""
    return Edit(title, lambda o: replace(o, given_frames=tuple(frames), skipped=()))


def _planned_anew(outing: Outing, brief: Brief) -> Outing:
    """Positions that were skipped start anew where frames may move; a given list goes when the field changes."""
    moved = (brief.rig, brief.target_field, brief.support, brief.run.order) != (
        outing.brief.rig,
        outing.brief.target_field,
        outing.brief.support,
        outing.brief.run.order,
    )
    given = (
        () if brief.target_field != outing.brief.target_field or brief.rig != outing.brief.rig else outing.given_frames
    )
    return replace(outing, brief=brief, given_frames=given, skipped=() if moved else outing.skipped)


def add_frame(ref: FrameRef) -> Edit:
    """Log a frame just shot."""
    return Edit(
        f"Shoot frame {ref.number}",
        lambda o: replace(o, frames=(*o.frames, ref), skipped=tuple(n for n in o.skipped if n != ref.number)),
    )


def bring_frames(files: Sequence[str]) -> Edit:
    """Add pictures from elsewhere; those already there are not added twice."""

    def apply(outing: Outing) -> Outing:
        there = {ref.file for ref in outing.frames}
        new = tuple(FrameRef(f) for f in files if f not in there)
        return replace(outing, frames=outing.frames + new)

    return Edit(f"Bring in {len(files)} picture{'s' if len(files) != 1 else ''}", apply)


def remove_frames(files: Sequence[str]) -> Edit:
    """Take frames out of the outing; the files stay on disk."""
    gone = set(files)

    def apply(outing: Outing) -> Outing:
        kept = tuple(r for r in outing.frames if r.file not in gone)
        left_out = tuple(f for f in outing.choices.left_out if f not in gone)
        put_back = tuple(f for f in outing.choices.put_back if f not in gone)
        choices = replace(outing.choices, left_out=left_out, put_back=put_back)
        return replace(outing, frames=kept, choices=choices)

    return Edit(f"Remove {len(gone)} frame{'s' if len(gone) != 1 else ''} from the outing", apply)


def skip_frame(number: int, skip: bool) -> Edit:
    """Decide not to shoot a planned frame, or to shoot it after all."""

    def apply(outing: Outing) -> Outing:
        rest = tuple(n for n in outing.skipped if n != number)
        return replace(outing, skipped=(*rest, number) if skip else rest)

    return Edit(f"{'Skip' if skip else 'Take back'} frame {number}", apply)


def leave_out(file: str, out: bool) -> Edit:
    """Keep a frame out of the join, or put it back."""

    def apply(outing: Outing) -> Outing:
        rest = tuple(f for f in outing.choices.left_out if f != file)
        return replace(outing, choices=replace(outing.choices, left_out=(*rest, file) if out else rest))

    return Edit(f"{'Leave out' if out else 'Put back'} {file.rsplit('/', 1)[-1]}", apply)


def put_back(file: str, back: bool) -> Edit:
    """Use a frame that the join left out all the same, or leave that to the join again."""

    def apply(outing: Outing) -> Outing:
        rest = tuple(f for f in outing.choices.put_back if f != file)
        return replace(outing, choices=replace(outing.choices, put_back=(*rest, file) if back else rest))

    return Edit(f"{'Use' if back else 'Leave to the join'} {file.rsplit('/', 1)[-1]}", apply)


def choose(title: str, **changes: Any) -> Edit:
    """Change projection or crop."""
    return Edit(title, lambda o: replace(o, choices=replace(o.choices, **changes)))


def put_aside(key: str, aside: bool) -> Edit:
    """Put a judgement aside, or bring it back."""

    def apply(outing: Outing) -> Outing:
        rest = tuple(k for k in outing.put_aside if k != key)
        return replace(outing, put_aside=(*rest, key) if aside else rest)

    return Edit("Put a remark aside" if aside else "Bring remarks back", apply)


def bring_back_all() -> Edit:
    """Show all remarks again."""
    return Edit("Bring remarks back", lambda o: replace(o, put_aside=()))


def rename(name: str) -> Edit:
    """Give the outing another name."""
    return Edit("Rename the outing", lambda o: replace(o, name=name))
