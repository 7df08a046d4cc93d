"""A watched folder in Field: what arrives is judged, told and taken in."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QLabel, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.settings import shown
from idle_lantern.app.sounds import can_sound, play
from idle_lantern.app.stages import field_model as model
from idle_lantern.app.watcher import ToldFrame
from idle_lantern.app.widgets.basics import button, label
from idle_lantern.app.widgets.verdict_list import VerdictList
from idle_lantern.core.outing import edits


class Watching(QObject):
    """Its lines and button, which Field lays out: ``verdict`` on the frame that arrived, what else is ``told``, and ``button``."""

    changed = pyqtSignal()

    def __init__(self, context: AppContext, over: QWidget) -> None:
        super().__init__(over)
        self._context, self._state, self._over = context, context.state, over
        self.verdict = label("", "head", wrap=True, name="field-verdict")
        self.told = label("", "dim", wrap=True, name="field-told")
        #: All frames that arrived since the outing was opened, the last on top.
        self.list = VerdictList()
        self.list.chosen.connect(lambda frame: context.state.select(None, frame))
        for line in (self.verdict, self.told, self.list):
            line.hide()
        self.button = button("Watch a folder …   [W]", self.toggle, name="field-watch")
        context.watcher.told.connect(self._arrived)
        context.watcher.trouble.connect(lambda sentence: context.tell(sentence) if sentence else None)
        context.watcher.changed.connect(self._show)
        context.state.changed.connect(self._follow)
        self._of_outing = ""

    def toggle(self) -> None:
        """Ask for the folder that the camera writes into and watch it, or watch no longer."""
        if self._context.watcher.active:
            self._context.watcher.stop()
            return
        if self._state.place is None or not self._state.may_change():
            return
        name = QFileDialog.getExistingDirectory(self._over, "Folder that the camera writes its frames into")
        if name:
            self.watch(Path(name))

    def watch(self, folder: Path) -> None:
        """Judge each frame that arrives in a folder, and take it into the outing."""
        if self._state.place is not None:
            say(self.verdict, "")
            self._context.watcher.start(folder, self._state.place)

    def toggle_tones(self) -> None:
        """Sound a tone for each frame that arrives, or none."""
        on = not self._context.settings.tones
        self._context.keep(replace(self._context.settings, tones=on))
        if on:
            play("good")
        heard = "" if not on or can_sound() else " This computer has no sound device."
        self._context.tell(
            f"Tones are {'on: one is good, two take care, three falling shoot again' if on else 'off'}.{heard}",
            problem=False,
        )

    def _arrived(self, told: ToldFrame) -> None:
        """Take a judged frame into its outing and say what was found."""
        ref = model.as_frame(told, self._state.outing.rig)
        here = self._state.is_open(told.place)
        if not self._state.apply_to(told.place, edits.add_shot([ref])) or not here:
            return
        judged = told.judged
        # a frame that must be shot again stays the next one
        self._state.go_to(judged.number if judged.kind == "again" and judged.number else None)
        self._state.select(judged.number, ref.id)
        if self._context.settings.tones:
            play(judged.kind)
        self.list.add(ref.id, told.look, model.verdict(told), again=judged.kind == "again")
        say(self.verdict, model.verdict(told))
        say(self.told, model.also_told(told, self._state.plan, self._state.guide))

    def _follow(self, topics: set[str]) -> None:
        """What was said of a frame belongs to its outing."""
        if "outing" in topics and self._of_outing != self._state.outing.id:
            self._of_outing = self._state.outing.id
            say(self.verdict, "")
            say(self.told, "")
            self.list.forget()

    def _show(self) -> None:
        """What the button does now, and where frames come from."""
        folder = self._context.watcher.folder
        self.button.setText("Watch no longer   [W]" if folder else "Watch a folder …   [W]")
        say(self.told, f"Watching {shown(folder)}: frames that arrive there are judged at once." if folder else "")
        self.changed.emit()


def say(line: QLabel, text: str) -> None:
    """Show a sentence; a line without one takes no room."""
    line.setText(text)
    line.setVisible(bool(text))
