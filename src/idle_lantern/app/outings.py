"""Opening, beginning and renaming outings."""

from __future__ import annotations

import datetime
import re
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QMessageBox, QWidget

from idle_lantern.app import settings as settings_module
from idle_lantern.app.desk import Desk
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.outing import document, edits
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.plan.brief import Brief


class Outings(QObject):
    """The commands about outings as a whole; ``opened`` tells the stage to show, empty for the present one."""

    opened = pyqtSignal(str)

    def __init__(self, desk: Desk, parent: QWidget) -> None:
        super().__init__(parent)
        self._desk, self._state, self._parent = desk, desk.state, parent

    def open(self, folder: Path, stage: str = "") -> bool:
        """Open an outing's folder; a damaged one is told and everything stays as it was."""
        if not self.may_leave():
            return False
        try:
            self._state.open(folder)
        except LanternError as error:
            self._desk.tell(error.sentence)
            return False
        self._opened(stage or ("" if self._state.outing.frames else "plan"))
        return True

    def may_leave(self) -> bool:
        """Whether the present outing may be left: it is saved, or the person says that it may be lost."""
        self._state.save_now()
        if not self._state.unsaved:
            return True
        answer = QMessageBox.question(
            self._parent,
            "Not saved",
            f"The last changes of '{self._state.outing.name}' cannot be saved in {self._state.folder}. "
            "Leave it all the same? They would be lost.",
            QMessageBox.StandardButton.Discard | QMessageBox.StandardButton.Cancel,
            QMessageBox.StandardButton.Cancel,
        )
        return answer == QMessageBox.StandardButton.Discard

    def _opened(self, stage: str) -> None:
        self._desk.kept.settings = replace(self._desk.settings, last_outing=str(self._state.folder))
        self.opened.emit(stage)
        self._desk.joins.load_finished()

    def new(self) -> None:
        """Ask for a name and begin."""
        name, yes = QInputDialog.getText(self._parent, "New outing", "What do you call it?", text="Evening")
        if yes and name.strip():
            self.begin(name.strip())

    def begin(self, name: str) -> None:
        """A new outing with the rig of the present one, in a folder of its own."""
        if not self.may_leave():
            return
        root = settings_module.outings_folder()
        slug = re.sub(r"[^\w-]+", "-", name.lower()).strip("-")[:60] or "outing"
        folder, count = root / slug, 1
        while folder.exists():
            count += 1
            folder = root / f"{slug}-{count}"
        now = datetime.datetime.now()
        brief = self._state.outing.brief
        site = replace(brief.site, date=now.date().isoformat())
        try:
            outing = Outing(
                name, now.isoformat(timespec="minutes"), Brief(rig=brief.rig, support=brief.support, site=site)
            )
            document.save(outing, folder)
        except (LanternError, OSError) as error:
            self._desk.tell(error.sentence if isinstance(error, LanternError) else f"{folder}: {error.strerror}.")
            return
        self._state.set_outing(outing, folder)
        self._opened("plan")
        self._desk.tell(f"A new outing. It saves itself in {settings_module.shown(folder)}.", problem=False)

    def ask_open(self) -> None:
        """Choose an outing's folder."""
        name = QFileDialog.getExistingDirectory(
            self._parent, "Open an outing folder", str(settings_module.outings_folder())
        )
        if name:
            self.open(Path(name))

    def rename(self) -> None:
        """Ask for another name."""
        name, yes = QInputDialog.getText(self._parent, "Rename the outing", "Its name", text=self._state.outing.name)
        if yes and name.strip():
            self._state.apply(edits.rename(name.strip()))
