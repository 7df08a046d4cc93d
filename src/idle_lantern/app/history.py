"""Undo and redo: titled values of the whole document, drags merged into one step."""

from __future__ import annotations

from dataclasses import dataclass

from idle_lantern.core.outing.model import Outing

_MOST = 200


@dataclass(frozen=True)
class Step:
    """A document before an edit, and the edit's title."""

    title: str
    outing: Outing
    merge: str = ""


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
    def undo_title(self) -> str:
        """What undo would take back, empty if nothing."""
        return self._undo[-1].title if self._undo else ""

    @property
    def redo_title(self) -> str:
        """What redo would bring back, empty if nothing."""
        return self._redo[-1].title if self._redo else ""
