"""Presets of a delivery: taken, kept, forgotten, and several of them written in one go."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QDialog,
    QFileDialog,
    QInputDialog,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QMessageBox,
    QWidget,
)

from idle_lantern.app.context import AppContext
from idle_lantern.app.widgets.basics import asked, button, column, label, row
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.deliver.job import DeliverJob
from idle_lantern.core.deliver.kinds import kind_named
from idle_lantern.core.deliver.presets import Preset, applied, keep_preset, presets, presets_folder, remove_preset
from idle_lantern.core.outing import edits

_KEEP, _FORGET = "keep these choices …", "forget one of mine …"


class PresetChooser(Chooser):
    """The preset that the choices below are those of; another one sets them all."""

    def __init__(self, context: AppContext, write_several: Callable[[], object]) -> None:
        super().__init__()
        self._context, self._state, self._write_several = context, context.state, write_several
        self.setObjectName("preset")
        self.setAccessibleName("Preset")
        self._known: tuple[Preset, ...] = ()
        self.activated.connect(self._chosen)
        self._fill()

    def _fill(self) -> None:
        self._known = presets(presets_folder())
        self.clear()
        self.addItem("as chosen below")
        self.addItems([preset.name for preset in self._known])
        self.addItems([_KEEP, _FORGET, "write several …"])

    def show_choices(self) -> None:
        """Show which preset the outing's choices are."""
        job = self._state.outing.delivery
        same = [k for k, preset in enumerate(self._known, 1) if applied(preset, job) == job]
        self.setCurrentIndex(same[0] if same else 0)

    def _chosen(self, index: int) -> None:
        if 1 <= index <= len(self._known):
            preset = self._known[index - 1]
            job = applied(preset, self._state.outing.delivery)
            changes = {f.name: getattr(job, f.name) for f in fields(DeliverJob)}
            self._state.apply(edits.deliver_as(f"Preset: {preset.name}", **changes))
        elif self.itemText(index) == _KEEP:
            self._keep()
        elif self.itemText(index) == _FORGET:
            self._forget()
        elif index > len(self._known):
            self._write_several()
        self.show_choices()

    def _keep(self) -> None:
        name, yes = QInputDialog.getText(self, "Keep these choices", "Name of the preset:")
        if not yes:
            return
        own = {preset.name for preset in self._known if preset.own}
        if name.strip() in own and not _sure(self, f"Keep these choices in place of your preset '{name.strip()}'?"):
            return
        try:
            kept = keep_preset(name, self._state.outing.delivery, presets_folder())
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self._fill()
        self._context.tell(f"Kept as '{kept.name}'.", problem=False)

    def _forget(self) -> None:
        own = [preset.name for preset in self._known if preset.own]
        if not own:
            self._context.tell("You have kept no preset of your own yet.", problem=False)
            return
        name, yes = QInputDialog.getItem(self, "Forget a preset", "Which of yours?", own, 0, False)
        if yes:
            try:
                remove_preset(name, presets_folder())
            except LanternError as error:
                self._context.tell(error.sentence)
            self._fill()


def _sure(parent: QWidget, question: str) -> bool:
    role = QMessageBox.ButtonRole
    answers = {"yes": ("In its place", role.AcceptRole), "no": ("Leave it", role.RejectRole)}
    return asked(parent, QMessageBox.Icon.Question, "Keep these choices", question, answers) == "yes"


class SeveralDialog(QDialog):
    """Which presets are written, and into which folder; ``chosen`` and ``folder`` tell it once it is accepted."""

    def __init__(self, name: str, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Write by several presets")
        self.setObjectName("several-dialog")
        self._name = name
        self._known = presets(presets_folder())
        self.folder = Path.home()
        self.list = QListWidget()
        self.list.setObjectName("several-list")
        self.list.setAccessibleName("Presets to write")
        for preset in self._known:
            item = QListWidgetItem(f"{preset.name}: {kind_named(preset.job.format).title}")
            item.setFlags(Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
            item.setCheckState(Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.itemChanged.connect(lambda _item: self._show())
        self._told = label("", "dim", wrap=True, name="several-told")
        self._where = QLabel()
        self.write_button = button("Write", self.accept, main=True, name="several-write")
        folder = button("Another folder …", self._ask_folder, name="several-folder")
        self.setLayout(
            column(
                label("Each is a file of its own, named after the outing and the preset.", wrap=True),
                self.list,
                row(self._where, None, folder),
                self._told,
                row(None, button("Leave it", self.reject), self.write_button),
                margin=14,
            )
        )
        self.resize(560, 420)
        self._show()

    @property
    def chosen(self) -> list[Preset]:
        """The ticked ones."""
        return [
            preset
            for k, preset in enumerate(self._known)
            if (item := self.list.item(k)) is not None and item.checkState() == Qt.CheckState.Checked
        ]

    def targets(self) -> list[tuple[Preset, Path]]:
        """What is written where."""
        return [
            (preset, self.folder / f"{self._name} {preset.name}{kind_named(preset.job.format).ending}")
            for preset in self.chosen
        ]

    def _ask_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Write into", str(self.folder))
        if name:
            self.folder = Path(name)
            self._show()

    def _show(self) -> None:
        there = [path.name for _preset, path in self.targets() if path.exists()]
        self._where.setText(f"Into {self.folder}")
        self._told.setText(f"Written anew: {', '.join(there)}" if there else "")
        self.write_button.setEnabled(bool(self.chosen))
