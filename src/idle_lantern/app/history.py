"""Undo and redo: titled values of the whole document, drags merged into one step."""

from __future__ import annotations

from dataclasses import dataclass, fields

from idle_lantern.core.outing.model import Outing

_MOST = 200


@dataclass(frozen=True)
class Step:
    """A document before an edit, and the edit's title."""

    title: str
    outing: Outing
    merge: str = ""


#: Where each part of the document is seen; what is not named here is seen everywhere.
_SEEN_IN = {
    "brief": ("plan",),
    "given_frames": ("plan",),
    "plan_made": ("plan", "field"),
    "put_aside": ("plan",),
    "scouts": ("plan", "field"),
    "skipped": ("field", "plan"),
    "logged": ("field",),
    "note": ("field", "logbook"),
    "checked": ("field", "plan"),
    "groups": ("frames",),
    "composition": ("join", "deliver"),
    "finish": ("finish", "deliver"),
    "delivery": ("deliver",),
    "verdicts": ("join",),
}
#: Of the choices of the join those that are seen elsewhere too.
_CHOICES_SEEN_IN = {"left_out": ("frames", "join"), "development": ("frames", "join")}


def seen_in(one: Outing, other: Outing) -> tuple[str, ...]:
    """The stages that show how two states of the document differ, the likeliest first; empty where all do."""
    stages: list[str] = []
    if one.frames != other.frames:
        apart = {r.id for r in one.frames} ^ {r.id for r in other.frames}
        shot = any(r.number is not None for o in (one, other) for r in o.frames if r.id in apart)
        stages += ["field", "frames"] if shot else ["frames"]
    for part, where in _SEEN_IN.items():
        if getattr(one, part) != getattr(other, part):
            stages += where
    for choice in fields(one.choices):
        if getattr(one.choices, choice.name) != getattr(other.choices, choice.name):
            stages += _CHOICES_SEEN_IN.get(choice.name, ("join",))
    return tuple(dict.fromkeys(stages))


class History:
    """Two stacks of steps."""

    def __init__(self) -> None:
        self._undo: list[Step] = []
        self._redo: list[Step] = []

    def push(self, title: str, before: Outing, merge: str = "") -> None:
        """Remember the document as it was before an edit."""
        self._redo.clear()
        if merge and self._undo and self._undo[-1].merge == merge:
            return
        self._undo.append(Step(title, before, merge))
        del self._undo[:-_MOST]

    def seal(self) -> None:
        """End a drag: the next edit of the same kind is a step of its own."""
        if self._undo and self._undo[-1].merge:
            last = self._undo[-1]
            self._undo[-1] = Step(last.title, last.outing)

    def undo(self, present: Outing) -> Step | None:
        """The step to go back to, or None."""
        if not self._undo:
            return None
        step = self._undo.pop()
        self._redo.append(Step(step.title, present))
        return step

    def redo(self, present: Outing) -> Step | None:
        """The step to go forward to, or None."""
        if not self._redo:
            return None
        step = self._redo.pop()
        self._undo.append(Step(step.title, present))
        return step

    @property
    def next_undo(self) -> Step | None:
        """The step that undo would take back."""
        return self._undo[-1] if self._undo else None

    @property
    def next_redo(self) -> Step | None:
        """The step that redo would bring back."""
        return self._redo[-1] if self._redo else None

    @property
    def undo_title(self) -> str:
        """What undo would take back, empty if nothing."""
        return self._undo[-1].title if self._undo else ""

    @property
    def redo_title(self) -> str:
        """What redo would bring back, empty if nothing."""
        return self._redo[-1].title if self._redo else ""
