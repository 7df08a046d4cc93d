"""What the window shows: the present outing, its plan, the selection, the join's results.

Widgets read from here, change only through ``apply`` and listen to ``changed``,
which names what changed.
"""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from idle_lantern.app.history import History
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.join.render.compose import Joined
from idle_lantern.core.join.solve.solve import Solution
from idle_lantern.core.outing import document
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.outing.model import FrameRef, Outing
from idle_lantern.core.plan.cost import PastJoin
from idle_lantern.core.plan.planner import Plan, make_plan
from idle_lantern.core.shoot.guide import Guide, guide

_SAVE_AFTER_MS = 400


class AppState(QObject):
    """The one place of state in the window.

    ``changed`` carries a set of topics: ``plan``, ``frames``, ``choices``, ``outing``,
    ``selection``, ``join``, ``map``.
    """

    changed = pyqtSignal(object)
    message = pyqtSignal(str, bool)  # sentence, is a problem

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.folder: Path | None = None
        self.outing = Outing("No outing", "")
        self.past: tuple[PastJoin, ...] = ()
        self.plan: Plan = self._planned(self.outing)
        self.history = History()
        self.selected: int | None = None
        self.selected_file: str | None = None
        self.at: int | None = None
        self.solution: Solution | None = None
        self.joined: Joined | None = None
        self.joined_files: tuple[str, ...] = ()
        self._dirty = False
        self._save_timer = QTimer(self)
        self._save_timer.setSingleShot(True)
        self._save_timer.setInterval(_SAVE_AFTER_MS)
        self._save_timer.timeout.connect(self.save_now)

    def _planned(self, outing: Outing) -> Plan:
        return make_plan(outing.brief, frames=outing.given_frames, past=self.past)

    def set_past(self, past: tuple[PastJoin, ...]) -> None:
        """Take over this machine's past joins: what a join costs is told by them."""
        self.past = past
        self.plan = self._planned(self.outing)
        self.changed.emit({"plan"})

    # --- document ---------------------------------------------------------------

    def open(self, folder: Path) -> None:
        """Open the outing of ``folder``; raises DocumentError and leaves all as it is otherwise."""
        self.set_outing(document.load(folder), folder)

    def set_outing(self, outing: Outing, folder: Path) -> None:
        """Take over a document; the one before is saved first."""
        self.save_now()
        plan = self._planned(outing)
        self.folder, self.outing, self.plan = folder, outing, plan
        self.history = History()
        self.selected = self.selected_file = self.at = None
        self.solution = self.joined = None
        self.joined_files = ()
        self.changed.emit({"outing", "plan", "frames", "choices", "selection", "join", "map"})

    def apply(self, edit: Edit) -> bool:
        """Make an edit; an impossible one is told and changes nothing."""
        try:
            after = edit.apply(self.outing)
            plan = self._planned(after) if _plans_differ(after, self.outing) else self.plan
        except LanternError as error:
            self.message.emit(error.sentence, True)
            return False
        if after == self.outing:
            return True
        self.history.push(edit.title, self.outing, edit.merge)
        self._take(after, plan)
        return True

    def undo(self) -> None:
        """Take the last edit back."""
        step = self.history.undo(self.outing)
        if step is not None:
            self._take(step.outing, None)
            self.message.emit(f"Taken back: {step.title}", False)

    def redo(self) -> None:
        """Make the edit taken back again."""
        step = self.history.redo(self.outing)
        if step is not None:
            self._take(step.outing, None)
            self.message.emit(f"Done again: {step.title}", False)

    def _take(self, after: Outing, plan: Plan | None) -> None:
        before = self.outing
        topics = {"outing"}
        if _plans_differ(after, before):
            self.plan = plan or self._planned(after)
            topics |= {"plan", "map"}
            if self.selected and self.plan.frame(self.selected) is None:
                self.selected = None
                topics.add("selection")
            if self.at and self.plan.frame(self.at) is None:
                self.at = None
        if after.frames != before.frames or after.skipped != before.skipped:
            topics |= {"frames", "map"}
        if after.choices != before.choices or after.put_aside != before.put_aside:
            topics.add("choices")
        self.outing = after
        self._dirty = True
        self._save_timer.start()
        self.changed.emit(topics)

    def save_now(self) -> None:
        """Write the document if it changed."""
        self._save_timer.stop()
        if not self._dirty or self.folder is None:
            return
        try:
            document.save(self.outing, self.folder)
            self._dirty = False
        except (LanternError, OSError) as error:
            text = (
                error.sentence
                if isinstance(error, LanternError)
                else f"{self.folder}: cannot be saved ({error.strerror})."
            )
            self.message.emit(text, True)

    # --- selection and view -----------------------------------------------------

    def select(self, number: int | None, file: str | None = None) -> None:
        """Select a planned frame and the file shot for it, or a file on its own."""
        if file is None and number is not None:
            planned = self.plan.frame(number)
            shot = self.outing.shot(planned) if planned else None
            file = shot.file if shot else None
        if number is None and file is not None:
            ref = next((r for r in self.outing.frames if r.file == file), None)
            planned = self.plan.frame(ref.number) if ref and ref.number else None
            number = planned.number if planned and self.outing.shot(planned) is ref else None
        if (number, file) == (self.selected, self.selected_file):
            return
        self.selected, self.selected_file = number, file
        self.changed.emit({"selection"})

    def go_to(self, number: int | None) -> None:
        """Choose by hand which frame is shot next."""
        self.at = number
        self.changed.emit({"frames"})

    @property
    def guide(self) -> Guide:
        """State of the shoot."""
        return guide(self.plan, self.outing, self.at)

    def path_of(self, ref: FrameRef) -> Path:
        """Where a frame's file lies."""
        return document.resolve(self.folder or Path(), ref)

    # --- join -------------------------------------------------------------------

    def set_joined(self, solution: Solution | None, joined: Joined | None, files: tuple[str, ...]) -> None:
        """Take over a join's results."""
        self.solution, self.joined, self.joined_files = solution, joined, files
        self.changed.emit({"join", "map"})

    @property
    def join_is_stale(self) -> bool:
        """Whether frames came or went since the join."""
        return self.joined is not None and self.joined_files != tuple(r.file for r in self.outing.frames_to_join())


def _plans_differ(a: Outing, b: Outing) -> bool:
    return a.brief != b.brief or a.given_frames != b.given_frames
