"""Bringing pictures in: files, folders and cards with several runs, and copying them beside the outing."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import frames_model as model
from idle_lantern.app.widgets.basics import answered
from idle_lantern.app.widgets.runs_dialog import APART, HERE, RunLine, RunsDialog
from idle_lantern.core.base import units
from idle_lantern.core.frames.reading import SUFFIXES
from idle_lantern.core.outing.copying import copied, elsewhere
from idle_lantern.core.outing.position_edits import bring_positions, move_files

COPYING = "Copying frames into the outing"


def run_lines(brought: model.Brought) -> list[RunLine]:
    """The runs of a card as the dialog shows them."""
    return [RunLine(run.words, run.sweep, run.looks) for run in brought.runs]


class Bringing(QObject):
    """Asks for pictures over a widget and takes them into the outing that is open."""

    runs_apart = pyqtSignal(object)

    def __init__(self, context: AppContext, over: QWidget) -> None:
        super().__init__(over)
        self._context, self._state, self._over = context, context.state, over

    def _window(self) -> QWidget | None:
        return self._over.window()

    def ask_files(self) -> None:
        """Choose picture files."""
        pattern = " ".join(f"*{s} *{s.upper()}" for s in SUFFIXES)
        names, _ = QFileDialog.getOpenFileNames(self._window(), "Bring in pictures", "", f"Pictures ({pattern})")
        if names:
            self.bring([Path(n) for n in names])

    def ask_folder(self) -> None:
        """Choose a folder."""
        name = QFileDialog.getExistingDirectory(self._window(), "Bring in a folder of pictures")
        if name:
            self.bring([Path(name)])

    def bring(self, paths: list[Path]) -> None:
        """Add files, and the pictures of folders; unreadable ones are named and left."""
        place = self._state.place
        if place is None or not self._state.may_change():
            return
        self._context.ask("go.frames")

        def done(brought: model.Brought) -> None:
            if len(brought.runs) > 1 and self._state.is_open(place):
                self._ask_runs(brought)
            elif brought.runs:
                positions = [p for run in brought.runs for p in run.positions]
                self._state.apply_to(place, bring_positions(positions))
            if brought.message:
                here = "" if self._state.is_open(place) else f"{place.name}: "
                self._context.tell(here + brought.message, problem=bool(brought.faults) or not brought.runs)

        self._context.start(
            "Bringing in pictures",
            lambda task: model.bring(paths, place.folder, task),
            done,
            lambda e: self._context.tell(e.sentence),
        )

    def _ask_runs(self, brought: model.Brought) -> None:
        """Which runs come in, and where."""
        dialog = RunsDialog(run_lines(brought), brought.left, self._window())
        answer = answered(dialog)
        runs = [brought.runs[k] for k in dialog.chosen]
        if answer == HERE:
            self._state.apply(bring_positions([p for run in runs for p in run.positions]))
        elif answer == APART:
            self.runs_apart.emit(runs)

    def copy_in(self) -> None:
        """Copy frames that lie elsewhere into the outing's folder, each checked, so that the card may be taken out."""
        place, outing = self._state.place, self._state.outing
        if place is None or not self._state.may_change() or self._context.tasks.busy(COPYING):
            return
        if not elsewhere(outing, place.folder):
            self._context.tell("All frames lie in the outing's folder already.", problem=False)
            return

        def done(names: dict[str, str]) -> None:
            self._state.apply_to(place, move_files(names))
            told = f"{units.counted(len(names), 'picture')} copied into the outing, each checked. The card may be taken out."
            self._context.tell(told, problem=False)

        self._context.start(
            COPYING, lambda task: copied(outing, place.folder, task), done, lambda e: self._context.tell(e.sentence)
        )
