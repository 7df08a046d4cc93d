"""Opening, beginning and renaming outings."""

from __future__ import annotations

import datetime
import re
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QObject, Qt, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QMessageBox, QWidget

from idle_lantern.app import settings as settings_module
from idle_lantern.app.context import AppContext
from idle_lantern.app.widgets.basics import answered, asked
from idle_lantern.app.widgets.new_outing import NewOutingDialog
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.outing import document, edits, rescue
from idle_lantern.core.outing.model import Origin, Outing
from idle_lantern.core.outing.position_edits import BroughtPosition, bring_positions
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.tour import Visit, position_of

#: So many outings that were opened outside the folder of outings stay in the logbook.
_MOST_ELSEWHERE = 50


class Outings(QObject):
    """The commands about outings as a whole; ``opened`` tells the stage to show, empty for the present one."""

    opened = pyqtSignal(str)

    def __init__(self, context: AppContext, parent: QWidget) -> None:
        super().__init__(parent)
        self._context, self._state, self._parent = context, context.state, parent
        self._state.autosave.moved.connect(self._tell_moved)

    def open(self, folder: Path, stage: str = "") -> bool:
        """Open an outing's folder; a damaged one is told and everything stays as it was."""
        if not self.may_leave():
            return False
        try:
            self._state.open(folder)
        except LanternError as error:
            self._context.tell(error.sentence)
            return False
        self._opened(stage or ("" if self._state.outing.frames else "plan"))
        return True

    def may_leave(self) -> bool:
        """Whether the present outing may be left: it is saved, or the person says what to do with what is not."""
        self._state.save_now()
        if not self._state.unsaved:
            return True
        kept = rescue.kept_of(self._state.outing.id, settings_module.rescue_folder()) is not None
        sentence = (
            f"The last changes of '{self._state.outing.name}' cannot be saved in {settings_module.shown(self._folder)}. "
            + (
                "A copy is kept elsewhere and offered when this outing is opened again."
                if kept
                else "They would be lost."
            )
        )
        role = QMessageBox.ButtonRole
        answers = {
            "elsewhere": ("Save elsewhere …", role.AcceptRole),
            "leave": ("Leave", role.DestructiveRole),
            "stay": ("Stay here", role.RejectRole),
        }
        answer = asked(self._parent, QMessageBox.Icon.Warning, "Not saved", sentence, answers)
        return answer == "leave" or (answer == "elsewhere" and self.save_elsewhere())

    @property
    def _folder(self) -> Path:
        assert self._state.folder is not None
        return self._state.folder

    def save_elsewhere(self) -> bool:
        """Ask for a folder, and keep the outing there from now on."""
        name, _ = QFileDialog.getSaveFileName(
            self._parent, "Keep the outing in a new folder", str(Path.home() / self._folder.name)
        )
        if not name:
            return False
        try:
            self._state.go_on_in(Path(name))
        except LanternError as error:
            self._context.tell(error.sentence)
            return False
        self._opened("")
        self._context.tell(f"The outing is kept in {settings_module.shown(Path(name))} from now on.", problem=False)
        return True

    def _tell_moved(self, now: Path | None) -> None:
        """The folder was moved, renamed or removed while the outing is open."""
        before = settings_module.shown(self._folder)
        if now is None:
            self._context.tell(f"The folder {before} is gone. Bring it back, or save the outing elsewhere.")
            return
        box = QMessageBox(
            QMessageBox.Icon.Question,
            "The folder was moved",
            f"The folder of '{self._state.outing.name}' was moved from {before} to {settings_module.shown(now)}. "
            "Nothing is written before you choose.",
            parent=self._parent,
        )
        follow = box.addButton("Go on there", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Not now", QMessageBox.ButtonRole.RejectRole)
        box.buttonClicked.connect(lambda chosen: self._follow(now) if chosen is follow else None)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    def _follow(self, now: Path) -> None:
        self._state.autosave.follow(now)
        self._remember()
        self._context.tell(f"The outing is kept in {settings_module.shown(now)} now.", problem=False)

    def _opened(self, stage: str) -> None:
        self._remember()
        self.opened.emit(stage)
        self._context.joins.load_finished()
        if self._state.reading:
            self._context.tell(f"{self._state.outing.name} {self._state.reading}.")
        self._offer_rescued()

    def _remember(self) -> None:
        """Keep at once which outing is open: a killed window must find it again."""
        kept, here = self._context.settings, str(self._folder)
        if self._folder.parent != settings_module.outings_folder():
            kept = replace(kept, elsewhere=(here, *(f for f in kept.elsewhere if f != here))[:_MOST_ELSEWHERE])
        self._context.keep(replace(kept, last_outing=here))
        settings_module.save(self._context.settings)

    def _offer_rescued(self) -> None:
        """What could not be saved last time can be taken over, as an edit that undo takes back."""
        root = settings_module.rescue_folder()
        kept = rescue.kept_of(self._state.outing.id, root)
        if kept is None or self._state.reading:
            return
        if kept.outing == self._state.outing:
            rescue.forget(self._state.outing.id, root)
            return
        box = QMessageBox(
            QMessageBox.Icon.Question,
            "Unsaved changes",
            f"Changes of '{kept.outing.name}' from {kept.kept.replace('T', ' ')} could not be saved then and were kept. "
            "Take them over? Undo brings back what is open now.",
            parent=self._parent,
        )
        take = box.addButton("Take them over", QMessageBox.ButtonRole.AcceptRole)
        drop = box.addButton("Throw them away", QMessageBox.ButtonRole.DestructiveRole)
        later = box.addButton("Later", QMessageBox.ButtonRole.RejectRole)
        box.setEscapeButton(later)

        def chosen(button: object) -> None:
            if button is take:
                self._state.apply(edits.Edit("Take over unsaved changes", lambda _o: kept.outing))
                self._state.save_now()
            if button in (take, drop) and not self._state.unsaved:
                rescue.forget(kept.outing.id, root)

        box.buttonClicked.connect(chosen)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    def new(self) -> None:
        """Ask for a name and what it begins with, and begin."""
        here = self._state.outing
        dialog = NewOutingDialog("New outing", "Evening", self._parent, here.name if here.shows_plan else "")
        if answered(dialog) and dialog.name:
            self.begin(dialog.name, dialog.origin, same_plan=dialog.same_plan)
            if dialog.origin == "photographs":
                self._context.ask("outing.bring")

    def welcome(self) -> None:
        """At the first start: three ways to begin; closed without an answer, the outing that is open is planned."""
        dialog = NewOutingDialog("How do you want to begin?", self._state.outing.name, self._parent)

        def begin() -> None:
            name, origin = dialog.name, dialog.origin
            self._state.apply(edits.begin_as(name, origin))
            self.opened.emit("frames" if origin == "photographs" else "plan")
            if origin == "photographs":
                self._context.ask("outing.bring")

        dialog.accepted.connect(begin)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def begin(self, name: str, origin: Origin = "planned", *, same_plan: bool = False) -> None:
        """A new outing with the rig of the present one, or with its whole plan, in a folder of its own."""
        if not self.may_leave():
            return
        folder = self._free_folder(name)
        now = datetime.datetime.now()
        brief = self._state.outing.brief
        site = replace(brief.site, date=now.date().isoformat())
        try:
            begun = replace(brief, site=site) if same_plan else Brief(rig=brief.rig, support=brief.support, site=site)
            outing = Outing(name, now.isoformat(timespec="minutes"), begun, origin, plan_made=same_plan)
            self._state.begin(outing, folder)
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self._opened("frames" if origin == "photographs" else "plan")
        self._context.tell(f"A new outing. It saves itself in {settings_module.shown(folder)}.", problem=False)

    def try_plan(self) -> None:
        """An outing of its own in which the simulated head and camera shoot the present plan."""
        if not self.may_leave():
            return
        here = self._state.outing
        name = f"{here.name}, tried"
        now = datetime.datetime.now().isoformat(timespec="minutes")
        tried = Outing(name, now, here.brief, "simulated", plan_made=True, given_frames=here.given_frames)
        try:
            self._state.begin(tried, self._free_folder(name))
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self._opened("field")
        self._context.tell(
            "A simulated outing of this plan: its frames are invented. Your own is in the Logbook.", problem=False
        )

    def plan_scene(self, visit: Visit) -> None:
        """An outing of its own for a scene of the evening: the same gear, that scene's place and start, its own scouting pictures."""
        if not self.may_leave():
            return
        here = self._state.outing
        site = replace(
            here.brief.site, name=visit.name, start=f"{visit.begin:%H:%M}", date=f"{visit.begin:%Y-%m-%d}", stops=()
        )
        if visit.place_m is not None:
            latitude, longitude = position_of(site, visit.place_m)
            site = replace(site, latitude_deg=round(latitude, 6), longitude_deg=round(longitude, 6))
        name, folder = f"{here.name}, {visit.name}", self._free_folder(f"{here.name}, {visit.name}")
        now = datetime.datetime.now().isoformat(timespec="minutes")
        try:
            self._state.begin(
                Outing(
                    name,
                    now,
                    Brief(rig=here.brief.rig, support=here.brief.support, site=site),
                    here.origin,
                    plan_made=True,
                ),
                folder,
            )
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self._opened("plan")
        self._context.tell(f"{name} begins at {site.start}; the evening itself is in the Logbook.", problem=False)

    def ask_scene(self) -> None:
        """Ask which scene of the evening is to be planned as an outing of its own."""
        visits = self._state.plan.evening.visits[1:]
        if not visits:
            self._context.tell("The evening has no other scene yet: add one under Light.")
            return
        names = [f"{v.begin:%H:%M}  {v.name}" for v in visits]
        chosen, yes = QInputDialog.getItem(self._parent, "Plan a scene", "Which scene?", names, 0, False)
        if yes and chosen in names:
            self.plan_scene(visits[names.index(chosen)])

    def begin_beside(self, runs: Sequence[Sequence[BroughtPosition]]) -> None:
        """An outing for each run, with the rig of the present one; the first is opened. An outing that holds nothing yet takes it."""
        here, made = self._state.outing, []
        taken_here = 0 if here.frames or here.plan_made or here.logged or here.origin == "simulated" else 1
        for positions in runs[:taken_here]:
            if not self._state.apply(bring_positions(positions)):
                return
            made.append(self._folder)
        for k, positions in enumerate(runs[taken_here:], taken_here + 1):
            name = f"{here.name}, run {k}"
            folder = self._free_folder(name)
            now = datetime.datetime.now().isoformat(timespec="minutes")
            brief = Brief(rig=here.brief.rig, support=here.brief.support, site=here.brief.site)
            outing = Outing(name, now, brief, "photographs")
            files = [replace(p, files=tuple(self._as_absolute(f) for f in p.files)) for p in positions]
            try:
                document.save(bring_positions(files).apply(outing), folder)
            except LanternError as error:
                self._context.tell(error.sentence)
                return
            made.append(folder)
        if taken_here:
            self._opened("frames")
        if made and (taken_here or self.open(made[0], "frames")):
            self._context.tell(
                f"{units.counted(len(made), 'outing')}, one for each run; the others are in the Logbook.", problem=False
            )

    def _as_absolute(self, file: str) -> str:
        return str(self._folder / file) if not Path(file).is_absolute() else file

    def _free_folder(self, name: str) -> Path:
        """A folder of that name that is not there yet."""
        root = settings_module.outings_folder()
        slug = re.sub(r"[^\w-]+", "-", name.lower()).strip("-")[:60] or "outing"
        folder, count = root / slug, 1
        while folder.exists():
            count += 1
            folder = root / f"{slug}-{count}"
        return folder

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
