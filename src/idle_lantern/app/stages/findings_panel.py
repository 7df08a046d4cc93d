"""The careful look at every frame: what it found, one after the other, with what helps."""

from __future__ import annotations

import contextlib

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from idle_lantern.app import theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import frames_model as model
from idle_lantern.app.stages import look_file
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, column, label
from idle_lantern.app.widgets.finding_list import FindingList
from idle_lantern.app.widgets.flowing import FlowLayout
from idle_lantern.app.widgets.tool_palette import ToolButton
from idle_lantern.core.audit.findings import Finding
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.position_edits import choose_of_group

LOOKING = "Looking at every frame"


class FindingsPanel(QWidget):
    """Starts the look and lists what it found; ``chosen`` tells that another finding is to be shown, ``looked`` brings all of it."""

    chosen = pyqtSignal()
    looked = pyqtSignal(object)

    def __init__(self, context: AppContext) -> None:
        super().__init__()
        self._context, self._state = context, context.state
        self._looked: model.Looked | None = None
        self._frames: tuple[str, ...] = ()
        self.list = FindingList()
        self.list.chosen.connect(self._choose)
        self.list.setMinimumHeight(theme.scaled(130))
        self.list.setMaximumHeight(theme.scaled(220))
        self.told = label("", wrap=True, name="findings-told")
        self.look_button = button("Look at every frame   [L]", self.look, name="look-closely")
        self.next_button = ToolButton("frames.finding", context.ask, "Next")
        self.cure_button = button("", self.cure, name="cure")
        layout = column(self.look_button, self.told, self.list, FlowLayout(self.next_button, self.cure_button))
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)
        self._show()

    @property
    def frame(self) -> str:
        """The frame of the chosen finding, empty where none is chosen."""
        return self._finding()[0]

    @property
    def place(self) -> tuple[float, float] | None:
        """Where the chosen finding shows best, in pixels of its frame."""
        finding = self._finding()[1]
        return None if finding is None or finding.u is None or finding.v is None else (finding.u, finding.v)

    def look(self) -> None:
        """Look at every frame against its neighbours; what is found is listed, the worst first."""
        place, outing = self._state.place, self._state.outing
        if place is None or not outing.frames_to_join() or self._context.tasks.busy(LOOKING):
            return

        frames, writes = tuple(ref.id for ref in outing.frames), not self._state.reading

        def work(task: Task) -> model.Looked:
            looked = model.look_closely(outing, place.folder, task)
            if writes:
                with contextlib.suppress(LanternError):  # what was found is told all the same
                    look_file.keep(looked, frames, place.folder)
            return looked

        self._context.start(
            LOOKING,
            work,
            lambda looked: self._take(looked, frames) if self._state.is_open(place) else None,
            lambda e: self._context.tell(e.sentence),
            weights=model.LOOKING_WEIGHTS,
        )

    def _take(self, looked: model.Looked, frames: tuple[str, ...]) -> None:
        self._looked, self._frames = looked, frames
        self._show()
        self.looked.emit(looked)

    def bring_back(self) -> None:
        """What was found when the open outing was looked at last, read off the thread."""
        place = self._state.place
        if place is None:
            return

        def done(found: tuple[model.Looked, tuple[str, ...]] | None) -> None:
            if found is not None and self._looked is None and self._state.is_open(place):
                self._take(*found)

        self._context.start(
            "Reading what was found", lambda _t: look_file.kept(place.folder), done, lambda _e: None, quiet=True
        )

    def cure(self) -> None:
        """Do what helps against the chosen finding."""
        frame, finding = self._finding()
        ref = self._state.outing.frame(frame)
        if finding is None or ref is None:
            return
        repeat = model.repeat_of(self._state.outing, frame)
        if repeat is not None:
            self._state.apply(choose_of_group(repeat))
        elif finding.cure == "leave_out":
            self._state.apply(edits.leave_out(ref, True))

    def forget(self) -> None:
        """Another outing is open."""
        self._looked = None
        self._show()

    def follow(self) -> None:
        """Frames or choices changed."""
        self.look_button.setEnabled(len(self._state.outing.frames_to_join()) >= 2)
        self.told.setText(self._words())
        self._arm()

    def _finding(self) -> tuple[str, Finding | None]:
        at = self.list.currentRow()
        if self._looked is None or not 0 <= at < len(self._looked.findings):
            return "", None
        return self._looked.findings[at]

    def _words(self) -> str:
        if self._looked is None:
            return ""
        stale = self._frames != tuple(ref.id for ref in self._state.outing.frames)
        first = "Frames came or went since this look; look again." if stale else self._looked.summary
        return "\n".join((first, *self._looked.sentences))

    def _show(self) -> None:
        found = () if self._looked is None else self._looked.findings
        self.list.setVisible(bool(found))
        self.next_button.setVisible(bool(found))
        self.told.setVisible(self._looked is not None)
        self.told.setText(self._words())
        self.list.show_lines([f"{f.path.name}   {f.sentence}. {f.remedy}." for _frame, f in found])
        self._arm()

    def _choose(self, _at: int) -> None:
        self.chosen.emit()
        self._arm()

    def _arm(self) -> None:
        frame, finding = self._finding()
        words = "" if finding is None else model.cure_in_words(self._state.outing, frame, finding)
        self.cure_button.setVisible(bool(words))
        self.cure_button.setText(words)
        self.cure_button.setAccessibleName(words)
