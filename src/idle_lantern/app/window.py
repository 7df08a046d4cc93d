"""The window: the line of stages, map, the stage that is open, and the line of messages and work at its foot."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QResizeEvent
from PyQt6.QtWidgets import (
    QApplication,
    QDialog,
    QFileDialog,
    QMainWindow,
    QMessageBox,
    QSplitter,
    QStackedWidget,
)

from idle_lantern import __version__
from idle_lantern.app import display, theme
from idle_lantern.app import settings as settings_module
from idle_lantern.app.actions import STAGES, by_id
from idle_lantern.app.arrivals import Arrivals, paths_in
from idle_lantern.app.context import AppContext
from idle_lantern.app.history import Step, seen_in
from idle_lantern.app.map_pictures import MapPictures
from idle_lantern.app.menus import Menus
from idle_lantern.app.outings import Outings
from idle_lantern.app.settings import Settings
from idle_lantern.app.stages import window_model
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.stages.deliver import DeliverStage
from idle_lantern.app.stages.field import FieldStage
from idle_lantern.app.stages.finish import FinishStage
from idle_lantern.app.stages.frames import FramesStage
from idle_lantern.app.stages.join import JoinStage
from idle_lantern.app.stages.logbook import LogbookStage
from idle_lantern.app.stages.plan import PlanStage
from idle_lantern.app.widgets.action_finder import ActionFinder
from idle_lantern.app.widgets.basics import answered, column, label, panel, row, set_look_property
from idle_lantern.app.widgets.crash_dialog import CrashDialog, Report
from idle_lantern.app.widgets.look_view import LookView
from idle_lantern.app.widgets.map_forms import Outline
from idle_lantern.app.widgets.map_view import MapView
from idle_lantern.app.widgets.message_line import MessageLine
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.stage_tab import StageTab
from idle_lantern.app.widgets.tool_palette import ToolButton
from idle_lantern.app.widgets.whose_dialog import WhoseDialog
from idle_lantern.app.widgets.work_line import WorkLine
from idle_lantern.app.window_layout import Placing
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.gear.library import gear_file
from idle_lantern.core.outing import rescue

if TYPE_CHECKING:
    from idle_lantern.app.queue_dialog import QueueDialog
    from idle_lantern.app.tour_dialog import TourDialog

#: Width of the menus at scale 1, and how a name is cut that has no room beside them.
_MENUS_PX, _ELIDE = 590, Qt.TextElideMode.ElideRight
#: Stages whose picture is the joined one.
_SHOWS_JOINED = ("join", "finish", "deliver")
#: What tools can do is asked at most once in so long.
_TOOLS_MS = 20


class Window(QMainWindow):
    """Holds the parts together; logic lives in the state, the stages' models and the core."""

    def __init__(self, settings: Settings | None = None) -> None:
        super().__init__()
        self.context = AppContext(settings or settings_module.load(), self)
        self.state, self.tasks = self.context.state, self.context.tasks
        self.outings = Outings(self.context, self)
        self.stage = "plan"
        self._ending = False
        self.queue: QueueDialog | None = None
        self.tour: TourDialog | None = None
        self._look_before = "dark"
        self._of_outing = ""
        self._folded = self._picture_alone = self._was_maximized = False
        self.setWindowTitle("Idle Lantern")
        theme.dress(self)
        self.map = MapView(self.state)
        self.map.chosen.connect(self._chosen_on_map)
        self.map_pictures = MapPictures(self.context, self.map)
        self._build_top()
        self.plan_stage, self.field_stage = PlanStage(self.context), FieldStage(self.context)
        self.frames_stage, self.join_stage = FramesStage(self.context), JoinStage(self.context)
        self.finish_stage = FinishStage(self.context)
        self.deliver_stage, self.logbook_stage = DeliverStage(self.context), LogbookStage(self.context)
        self.pages: dict[str, Stage] = {
            "plan": self.plan_stage,
            "field": self.field_stage,
            "frames": self.frames_stage,
            "join": self.join_stage,
            "finish": self.finish_stage,
            "deliver": self.deliver_stage,
            "logbook": self.logbook_stage,
        }
        self._tools = {stage: page.findChildren(ToolButton) for stage, page in self.pages.items()}
        self.stack = QStackedWidget()
        for page in self.pages.values():
            self.stack.addWidget(page)
        self._build_frame()
        self.placing = Placing(
            self,
            self.splitter,
            lambda: self.context.settings,
            self.context.keep,
            self._plan_needs,
            lambda: self.state.plan.target_field.is_tall,
        )
        self.placing.place(self.screen())
        self.menus = Menus(self, self.trigger, lambda action: bool(action.ready(self)))
        self.menus.history = lambda: self.state.history
        self.arrivals = Arrivals(self.context, self.outings, self.plan_stage.commands, self.frames_stage.bringing, self)
        self.setAcceptDrops(True)
        self._connect()
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.focusChanged.connect(self.menus.follow_focus)
        self.go("plan")

    def _connect(self) -> None:
        self.context.asked.connect(self.trigger)
        self.outings.opened.connect(self._opened)
        self.logbook_stage.opened.connect(self.open_outing)
        self.frames_stage.bringing.runs_apart.connect(
            lambda runs: self.outings.begin_beside([run.positions for run in runs])
        )
        self.finish_stage.level_asked.connect(self._compose)
        self.finish_stage.made_anew.connect(lambda: self.go("join"))
        self.map.menu_asked.connect(self.plan_stage.show_map_menu)
        self.join_stage.on_map.picture.connect(self.map_pictures.show_picture)
        self.join_stage.on_map.ties.connect(self.map_pictures.show_join)
        self.frames_stage.findings.looked.connect(self.map_pictures.show_look)
        self.state.message.connect(self.tell)
        self.state.ask_many = self._ask_many
        self.state.changed.connect(self._refresh)
        self.state.changed.connect(self._ask_tools)
        self.tasks.changed.connect(self._show_work)
        # many things at once change what tools can do: they are asked once, when all of it is done
        self._tools_later = QTimer(self)
        self._tools_later.setSingleShot(True)
        self._tools_later.setInterval(_TOOLS_MS)
        self._tools_later.timeout.connect(self._show_tools)
        self.context.tools_changed.connect(self._ask_tools)
        for view in (self.join_stage.view, self.finish_stage.view, self.deliver_stage.view):
            view.moved.connect(self._show_sight)
        self.deliver_stage.looking.changed.connect(self._show_sight)
        self.deliver_stage.looking.changed.connect(self._ask_tools)
        self.map.pointed.connect(self._look_there)
        if self.context.gear is None:
            QTimer.singleShot(0, self._tell_gear_trouble)

    def _ask_many(self, count: int) -> bool:
        answer = QMessageBox.question(
            self,
            "Many frames",
            f"This plan takes some {units.grouped(count)} frames. Each change of it would take seconds. Plan it all the same?",
            QMessageBox.StandardButton.Yes | QMessageBox.StandardButton.No,
            QMessageBox.StandardButton.No,
        )
        return answer == QMessageBox.StandardButton.Yes

    def _tell_gear_trouble(self) -> None:
        self.tell(f"The gear library cannot be opened ({gear_file()}); it was left as it is.", True)

    # --- building ---------------------------------------------------------------

    def _build_top(self) -> None:
        self._title = label("", "head", name="outing-name")
        self.message = MessageLine()
        self._where = label("", "dim")
        bar, corner = self.menuBar(), row(self._title, 8, self._where, space=theme.SPACE)
        assert bar is not None
        corner.setContentsMargins(0, 0, 12, 0)
        self._corner = panel(corner, "bare")
        bar.setCornerWidget(self._corner)

    def _build_frame(self) -> None:
        self.tabs = {s: StageTab(s.capitalize()) for s in STAGES}
        line = row(space=1)
        for stage, tab in self.tabs.items():
            tab.clicked.connect(lambda _c=False, s=stage: self.go(s))
            line.addWidget(tab, 1)
        self.stages_line = panel(line, "ground")
        self.splitter = QSplitter(Qt.Orientation.Vertical)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.addWidget(self.map)
        self.splitter.addWidget(self.stack)
        self.work_line = WorkLine(self.cancel_work)
        foot = row(self.message, self.work_line, space=theme.SPACE * 2)
        foot.setContentsMargins(12, 0, 12, 0)
        self.foot = panel(foot, "foot")
        whole = column(self.stages_line, space=0)
        whole.addWidget(self.splitter, 1)
        whole.addWidget(self.foot)
        self.setCentralWidget(panel(whole, "ground"))

    # --- actions ----------------------------------------------------------------

    def trigger(self, action_id: str) -> None:
        """Run an action if it can run now; one of another stage opens that stage first."""
        action = by_id(action_id)
        if action.stage and action.stage != self.stage:
            self.go(action.stage)
        if action.ready(self):
            action.run(self)
        else:
            self.tell(action.why_not(self), True)

    def undo(self) -> None:
        """Take the last edit back, where the open stage shows it; else open the stage that does, and say what comes next."""
        if self._shows(self.state.history.next_undo, "Undo takes back", "Ctrl + Z"):
            self.state.undo()

    def redo(self) -> None:
        """Make the edit taken back again; as ``undo``."""
        if self._shows(self.state.history.next_redo, "Redo brings back", "Ctrl + Shift + Z"):
            self.state.redo()

    def _shows(self, step: Step | None, what: str, keys: str) -> bool:
        where = () if step is None else seen_in(step.outing, self.state.outing)
        if step is None or not where or self.stage in where:
            return True
        self.go(where[0])
        self.tell(f"{what} '{step.title}' next, which is seen here. Press {keys} once more to do it.", False)
        return False

    def go(self, stage: str) -> None:
        """Open a stage."""
        self.stage = stage
        if self._picture_alone and self.pages[stage].picture_desk is None:
            self.toggle_full()
        self.map.editable = stage == "plan"
        self.map.show_links = stage == "join"
        self.map.show_found = stage in ("frames", "join")
        self.stack.setCurrentWidget(self.pages[stage])
        self.placing.stage = stage
        self.placing.fit()
        self.menus.arm(stage)
        self._refresh({"stage"})
        self._show_sight()
        self._show_tools()
        if stage == "field":
            self.field_stage.setFocus()

    def toggle_drag_ground(self) -> None:
        """Let the hand move the scouting picture on the map, or no longer."""
        self.map.drags_ground = not self.map.drags_ground
        self.plan_stage.scouting.show_dragging(self.map.drags_ground)
        if self.map.drags_ground:
            self.tell("Drag the scouting picture on the map; G ends it.", False)

    def picture_view(self) -> PictureView | LookView:
        """What view keys act on."""
        if self.stage == "deliver" and self.deliver_stage.looking.is_looking:
            return self.deliver_stage.looking.view
        views = {
            "frames": self.frames_stage.view,
            "finish": self.finish_stage.view,
            "deliver": self.deliver_stage.view,
        }
        return views.get(self.stage, self.join_stage.view)

    def cancel_work(self) -> None:
        """Stop the work that the work line shows."""
        task = self.tasks.shown
        if task is not None:
            task.cancel()
            self.tell(f"{task.title} is being stopped; nothing half-written stays.", False)

    def find_action(self) -> None:
        """Open the searchable list."""
        answered(ActionFinder(lambda a: bool(a.ready(self)), lambda a: a.why_not(self), self.trigger, self))

    def about(self) -> None:
        """Version, licence, where things are kept."""
        QMessageBox.about(
            self,
            "About Idle Lantern",
            f"<b>Idle Lantern {__version__}</b><br>Plans, shoots, joins and delivers panoramas.<br><br>"
            "Free software under the GNU General Public License, version 3 or later; the notices of what it is built on "
            f"are in the folder LICENSES.<br><br>Outings: {settings_module.outings_folder()}<br>Log: {settings_module.log_file()}",
        )

    def set_look(self, name: str) -> None:
        """Dark, light or field."""
        self.context.keep(replace(self.context.settings, look=name))
        self._apply_look()

    def _compose(self) -> None:
        """Go to where the picture is levelled."""
        self.go("join")
        if not self.join_stage.compose.active:
            self.join_stage.toggle_compose()

    def open_queue(self) -> None:
        """Show the folders that are joined and delivered by themselves."""
        if self.queue is None:
            from idle_lantern.app.queue_dialog import QueueDialog  # what no start needs

            self.queue = QueueDialog(self.context, self)
            self.queue.open_asked.connect(self._look_at)
        self.queue.show()
        self.queue.raise_()

    def open_tour(self) -> None:
        """Show the tour of spheres that is put together."""
        if self.tour is None:
            from idle_lantern.app.tour_dialog import TourDialog  # what no start needs

            self.tour = TourDialog(self.context, self)
        self.tour.show()
        self.tour.raise_()

    def _look_at(self, folder: Path) -> None:
        """Open a folder of the queue where its picture is joined."""
        if self.arrivals.take([folder], anew=True):
            self.go("join")
            self.activateWindow()

    def ask_whose(self) -> None:
        """Ask for the name and the rights that stand in delivered files."""
        settings = self.context.settings
        dialog = WhoseDialog(settings.author, settings.rights, self)
        if answered(dialog) == QDialog.DialogCode.Accepted:
            author, rights = dialog.words()
            self.context.keep(replace(settings, author=author, rights=rights))

    def ask_screen_profile(self) -> None:
        """Choose the ICC profile of the screen."""
        before = self.context.settings.screen_profile
        folder = str(Path(before).parent if before else Path.home())
        name, _ = QFileDialog.getOpenFileName(
            self, "The profile of the screen", folder, "Colour profiles (*.icc *.icm)"
        )
        if name:
            self.set_screen_profile(name)

    def set_screen_profile(self, file: str) -> None:
        """Show pictures on a screen of this profile; an empty name takes it as sRGB."""
        if self.show_for_screen(file):
            self.context.keep(replace(self.context.settings, screen_profile=file))
            self.tell(f"Pictures are shown for a screen of {display.screen_space().name}.", False)

    def show_for_screen(self, file: str) -> bool:
        """Show pictures for the screen of a profile; where it is none they stay as they are, and that is told."""
        try:
            display.use_profile(file)
        except LanternError as error:
            self.tell(error.sentence, True)
            return False
        self.map.show_sheets_again()
        self._apply_look()
        return True

    def set_text_size(self, step: int) -> None:
        """Larger or smaller text everywhere."""
        sizes = theme.TEXT_SIZES
        now = min(range(len(sizes)), key=lambda i: abs(sizes[i] - self.context.settings.text_size))
        size = sizes[min(max(now + step, 0), len(sizes) - 1)]
        self.context.keep(replace(self.context.settings, text_size=size))
        self._apply_look()
        self.tell(f"Text at {100 * size:.0f} %.", False)

    def _apply_look(self) -> None:
        app = QApplication.instance()
        if isinstance(app, QApplication):
            theme.apply(app, self.context.settings.look, self.context.settings.text_size)
        self._refresh({"stage"})
        self.map.update()
        self.placing.soon()

    def _plan_needs(self) -> int:
        """Height of the longest page of Plan."""
        return self.plan_stage.needed_height()

    def toggle_field_look(self) -> None:
        """The look for outside, and back to the one before."""
        now = self.context.settings.look
        self.set_look(self._look_before if now == "field" else "field")
        if now != "field":
            self._look_before = now

    def open_outing(self, folder: Path, stage: str = "") -> bool:
        """Open an outing's folder."""
        return self.outings.open(folder, stage)

    def _opened(self, stage: str) -> None:
        self.go(stage or (self.stage if self.stage != "logbook" else "plan"))

    # --- showing ----------------------------------------------------------------

    def tell(self, sentence: str, problem: bool) -> None:
        """Say a sentence in the message line; problems stay until dismissed, the rest fades."""
        self.message.tell(sentence, problem)
        if self._picture_alone and problem and sentence:  # what went wrong is told over a picture that stands alone too
            self.foot.show()

    def message_text(self) -> str:
        """What the message line says."""
        return self.message.text()

    def _refresh(self, topics: set[str]) -> None:
        if self._of_outing != self.state.outing.id:  # what was told of another outing is no longer true
            self._of_outing = self.state.outing.id
            self.message.clear()
        since = self.state.unsaved_since
        text, role = window_model.saving(since, reading=bool(self.state.reading), open_=self.state.folder is not None)
        self._where.setText(text)
        set_look_property(self._where, "role", role)
        self._where.setToolTip(str(self.state.folder or ""))
        self._fit_corner()
        lacks = window_model.lacks(
            self.state.plan, self.state.outing, self.state.guide, self.state.joined, opening=self.state.awaits_picture
        )
        for stage, tab in self.tabs.items():
            tab.show_state(lacks[stage], stage == self.stage)

    def _fit_corner(self) -> None:
        """A menu bar gives its corner room once only: it is told when the words there changed; a long name is cut."""
        bar = self.menuBar()
        assert bar is not None
        most = max(120, self.width() - theme.scaled(_MENUS_PX))
        room = max(60, most - self._where.sizeHint().width() - theme.scaled(28))
        self._title.setText(self._title.fontMetrics().elidedText(self.state.outing.name, _ELIDE, room))
        self._title.setToolTip(self.state.outing.name)
        self._corner.setFixedWidth(min(most, self._corner.sizeHint().width()))
        bar.setCornerWidget(self._corner)

    def _show_work(self) -> None:
        self.work_line.show_task(self.tasks.shown)
        self._ask_tools()

    def _ask_tools(self, _topics: object = None) -> None:
        if not self._tools_later.isActive():
            self._tools_later.start()

    def _show_tools(self) -> None:
        """Show of every tool beside the picture whether it can be used, and which one is in hand."""
        page = self.pages[self.stage]
        held = page.held_tools()
        for tool in self._tools[self.stage]:
            tool.show_state(ready=bool(by_id(tool.action_id).ready(self)), held=tool.action_id in held)

    def _show_sight(self) -> None:
        """Show on the map what of the picture stands in the window."""
        view, joined = self.picture_view(), self.state.joined
        if isinstance(view, LookView):
            area = None if view.sight is None else window_model.looked_at(view.sight, (view.width(), view.height()))
            self.map.set_sight(None if area is None else Outline(area))
            return
        here = self.stage in _SHOWS_JOINED and joined is not None and view.source is not None
        shown = view.sight.shown
        edges = (shown.left(), shown.top(), shown.right(), shown.bottom())
        area = window_model.sight(joined, edges) if here and joined is not None else None
        self.map.set_sight(None if area is None else Outline(area))

    def _look_there(self, azimuth_deg: float, altitude_deg: float) -> None:
        """Move a picture that is shown in part to a direction that was clicked on the map."""
        view, joined = self.picture_view(), self.state.joined
        if isinstance(view, LookView):
            if view.sight is not None:
                view.aim(azimuth_deg, altitude_deg, view.sight.field_deg)
            return
        if self.stage in _SHOWS_JOINED and joined is not None and self.map.sight is not None:
            place = window_model.place_of(joined, azimuth_deg, altitude_deg)
            if place is not None:
                view.look_at(*place)

    def fold_panel(self) -> None:
        """Put the panel beside the picture away, or bring it back."""
        self._folded = not self._folded
        self._show_frame()

    def toggle_full(self) -> None:
        """The picture alone on the whole screen, or the window again."""
        full = not self._picture_alone
        if full and self.pages[self.stage].picture_desk is None:
            self.tell("A picture fills the screen under Frames, Join, Finish and Deliver.", True)
            return
        self._picture_alone = full
        self._was_maximized = self.isMaximized() if full else self._was_maximized
        if full:
            self.showFullScreen()
        elif self._was_maximized:
            self.showMaximized()
        else:
            self.showNormal()
        self._show_frame()

    def _show_frame(self) -> None:
        """What stands about the picture, or nothing of it."""
        alone, bar = self._picture_alone, self.menuBar()
        assert bar is not None
        for part in (bar, self.stages_line, self.map, self.foot):
            part.setVisible(not alone)
        for page in self.pages.values():
            if page.picture_desk is not None:
                page.picture_desk.fold(self._folded or alone, tools_too=alone)
        self.placing.soon()

    def tell_crash(self, crashes: Sequence[Report]) -> None:
        """Say that the last window was not closed, and offer its report."""
        others = [kept.outing.name for kept in rescue.all_kept(settings_module.rescue_folder())]
        safe = f"'{self.state.outing.name}' is as it was last saved. A stopped join goes on where it was."
        if others:
            names = ", ".join(f"'{name}'" for name in others[:5])
            safe += f" Unsaved changes were kept of {names}; they are offered when you open it."
        dialog = CrashDialog(crashes, safe, lambda sentence: self.tell(sentence, True), self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def end_now(self) -> None:
        """Close without a question; what cannot be saved is kept elsewhere."""
        self._ending = True
        for dialog in self.findChildren(QDialog):
            dialog.reject()
        self.close()

    def _chosen_on_map(self, number: int) -> None:
        if self.stage == "field":
            self.state.go_to(number)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Files may be dropped on any stage."""
        if event is not None and paths_in(event.mimeData()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        if event is not None:
            event.acceptProposedAction()
            self.arrivals.take_data(event.mimeData())

    def paste(self) -> None:
        """Bring in the files that lie on the clipboard."""
        clipboard = QApplication.clipboard()
        self.arrivals.take_data(None if clipboard is None else clipboard.mimeData())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape and self._picture_alone:
            self.toggle_full()
        else:
            super().keyPressEvent(event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        if hasattr(self, "placing"):
            self.placing.soon()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        if event is not None and not self._ending and not self.outings.may_leave():
            event.ignore()
            return
        for beside in (self.queue, self.tour):
            if beside is not None:
                beside.close()
        self.context.watcher.close()
        self.tasks.cancel_all()
        self.join_stage.seen.save()
        for page in self.pages.values():
            if page.picture_desk is not None:
                page.picture_desk.view.stop()
        self.message.clear()
        self.state.save_now()
        self.state.autosave.release()
        self.placing.remember()
        settings_module.save(self.context.settings)
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.focusChanged.disconnect(self.menus.follow_focus)
        super().closeEvent(event)
