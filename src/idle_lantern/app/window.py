"""The window: message line, map, the line of stages, and the stage that is open."""

from __future__ import annotations

import datetime
import logging
import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QObject, Qt, QTimer
from PyQt6.QtGui import QAction, QCloseEvent, QKeySequence
from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QLineEdit,
    QMainWindow,
    QMessageBox,
    QPlainTextEdit,
    QProgressBar,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from idle_lantern import __version__
from idle_lantern.app import settings as settings_module
from idle_lantern.app import theme
from idle_lantern.app.actions import ACTIONS, STAGES, by_id
from idle_lantern.app.settings import Settings
from idle_lantern.app.stages.deliver import DeliverStage
from idle_lantern.app.stages.field import FieldStage
from idle_lantern.app.stages.frames import FramesStage
from idle_lantern.app.stages.join import JoinStage
from idle_lantern.app.stages.logbook import LogbookStage
from idle_lantern.app.stages.plan import PlanStage
from idle_lantern.app.state import AppState
from idle_lantern.app.tasks import Task, TaskRunner
from idle_lantern.app.widgets.action_finder import ActionFinder
from idle_lantern.app.widgets.basics import button, label, set_look_property
from idle_lantern.app.widgets.map_view import JoinOnMap, MapView
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.frames.reading import read
from idle_lantern.core.gear.library import Library
from idle_lantern.core.geometry import rotations
from idle_lantern.core.join.canvas.unroll import MAP_SIZE, unroll_frame
from idle_lantern.core.outing import document, edits
from idle_lantern.core.outing.model import Outing
from idle_lantern.core.plan.brief import Brief

log = logging.getLogger(__name__)

#: Share of the height that the map takes by stage: it leads while planning and steps back for the picture.
_MAP_SHARE = {"plan": 0.40, "field": 0.30, "frames": 0.26, "join": 0.24, "deliver": 0.20, "logbook": 0.24}


class StageTab(QPushButton):
    """One stage in the line: its name, and under it what it still lacks."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(name)
        self.setObjectName(f"tab-{name.lower()}")
        self._name = label(name)
        self._lacks = label("", "dim")
        box = QVBoxLayout(self)
        box.setContentsMargins(14, 5, 8, 6)
        box.setSpacing(1)
        for part in (self._name, self._lacks):
            part.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
            box.addWidget(part)
        self.setMinimumHeight(48)

    def show_state(self, lacks: str, chosen: bool) -> None:
        """What it lacks, and whether it is open (a bar and bold type, not only a tone)."""
        self._lacks.setText(lacks)
        self.setAccessibleDescription(lacks)
        self._name.setFont(theme.font(theme.HEAD, bold=chosen))
        self.setChecked(chosen)
        bar = theme.look().accent if chosen else theme.look().line
        ground = theme.look().ground if chosen else theme.look().panel
        self.setStyleSheet(
            f"QPushButton {{ background: {ground}; border: none; border-top: {4 if chosen else 1}px solid {bar}; border-radius: 0; padding: 0; }}"
            f"QPushButton:focus {{ border: 2px solid {theme.look().accent}; }}"
        )


class Window(QMainWindow):
    """Holds the parts together; logic lives in the state, the stages and the core."""

    state: AppState
    tasks: TaskRunner
    plan_stage: PlanStage
    field_stage: FieldStage
    frames_stage: FramesStage
    join_stage: JoinStage
    deliver_stage: DeliverStage
    logbook_stage: LogbookStage

    def __init__(self, settings: Settings | None = None) -> None:
        super().__init__()
        self.settings = settings or settings_module.load()
        self.state = AppState(self)
        self.tasks = TaskRunner(self)
        self.gear = self._open_gear()
        self.stage = "plan"
        self.setWindowTitle("Idle Lantern")
        self.resize(1280, 800)
        self.setMinimumSize(1000, 640)
        self.map = MapView(self.state)
        self.map.chosen.connect(self._chosen_on_map)
        self._build_top()
        self.plan_stage = PlanStage(self)
        self.field_stage = FieldStage(self)
        self.frames_stage = FramesStage(self)
        self.join_stage = JoinStage(self)
        self.deliver_stage = DeliverStage(self)
        self.logbook_stage = LogbookStage(self)
        self.pages: dict[str, QWidget] = {
            "plan": self.plan_stage,
            "field": self.field_stage,
            "frames": self.frames_stage,
            "join": self.join_stage,
            "deliver": self.deliver_stage,
            "logbook": self.logbook_stage,
        }
        self.stack = QStackedWidget()
        for page in self.pages.values():
            self.stack.addWidget(page)
        self._build_frame()
        self._build_menus()
        self._map_frames: set[str] = set()
        self._map_image = np.zeros((MAP_SIZE[1], MAP_SIZE[0], 4), np.uint8)
        self.state.message.connect(self.tell)
        self.state.changed.connect(self._refresh)
        self.tasks.changed.connect(self._show_work)
        app = QApplication.instance()
        if app is not None:
            app.installEventFilter(self)
        self.go("plan")

    def _open_gear(self) -> Library | None:
        """The gear library; one that cannot be read is told and left, and everything else works without it."""
        try:
            library = Library(settings_module.gear_file())
            self.state.past = library.past_joins()
        except (LanternError, OSError) as error:
            log.warning("gear library: %s", error)
            QTimer.singleShot(0, self._tell_gear_trouble)
            return None
        return library

    def _tell_gear_trouble(self) -> None:
        self.tell(f"The gear library cannot be opened ({settings_module.gear_file()}); it was left as it is.", True)

    # --- building ---------------------------------------------------------------

    def _build_top(self) -> None:
        self._title = label("", "head")
        self._message = label("", name="message")
        self._message.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self._message_clear = QTimer(self)
        self._message_clear.setSingleShot(True)
        # a bound method: a lambda could outlive the window and be called by the timer
        self._message_clear.timeout.connect(self._clear_message)
        self._dismiss = button("Dismiss", self._clear_message, quiet=True)
        self._dismiss.hide()
        self._where = label("", "dim")

    def _build_frame(self) -> None:
        ground = QWidget()
        ground.setObjectName("ground")
        top = QHBoxLayout()
        top.setContentsMargins(16, 4, 16, 4)
        top.addWidget(self._title)
        top.addSpacing(24)
        top.addWidget(self._message, 1)
        top.addWidget(self._dismiss)
        top.addWidget(self._where)
        self.tabs = {s: StageTab(s.capitalize()) for s in STAGES}
        line = QHBoxLayout()
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(1)
        for stage, tab in self.tabs.items():
            tab.clicked.connect(lambda _c=False, s=stage: self.go(s))
            line.addWidget(tab, 1)
        lower = QWidget()
        lower.setObjectName("ground")
        below = QVBoxLayout(lower)
        below.setContentsMargins(0, 0, 0, 0)
        below.setSpacing(0)
        below.addLayout(line)
        below.addWidget(self.stack, 1)
        self.splitter = QSplitter(Qt.Orientation.Vertical)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.addWidget(self.map)
        self.splitter.addWidget(lower)
        self.work_line = QFrame()
        self.work_line.setObjectName("panel")
        work = QHBoxLayout(self.work_line)
        work.setContentsMargins(16, 4, 16, 4)
        self._work_text = QLabel()
        self._bar = QProgressBar()
        self._bar.setRange(0, 1000)
        self._bar.setTextVisible(False)
        self._bar.setAccessibleName("Progress")
        self._stop = button("Stop   [Ctrl + .]", self.cancel_work, name="stop")
        work.addWidget(self._work_text)
        work.addWidget(self._bar, 1)
        work.addWidget(self._stop)
        self.work_line.hide()
        whole = QVBoxLayout(ground)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addLayout(top)
        whole.addWidget(self.splitter, 1)
        whole.addWidget(self.work_line)
        self.setCentralWidget(ground)

    def _build_menus(self) -> None:
        self.qactions: dict[str, QAction] = {}
        bar = self.menuBar()
        assert bar is not None
        menus = {}
        for action in ACTIONS:
            if action.menu not in menus:
                menu = menus[action.menu] = bar.addMenu(action.menu)
                if menu is not None:
                    menu.aboutToShow.connect(self._enable_actions)
                    menu.aboutToHide.connect(self._arm_shortcuts)
            item = QAction(action.title, self)
            if action.keys:
                item.setShortcut(QKeySequence(action.keys))
            item.triggered.connect(lambda _c=False, i=action.id: self.trigger(i))
            self.qactions[action.id] = item
            self.addAction(item)
            menu = menus[action.menu]
            if menu is not None:
                menu.addAction(item)

    # --- actions ----------------------------------------------------------------

    def trigger(self, action_id: str) -> None:
        """Run an action if it can run now; one of another stage opens that stage first."""
        action = by_id(action_id)
        if action.stage and action.stage != self.stage:
            self.go(action.stage)
        if action.ready(self):
            action.run(self)

    def _enable_actions(self) -> None:
        """For a menu that opens: what cannot run now is shown so. ``trigger`` asks again by itself."""
        for action in ACTIONS:
            item = self.qactions[action.id]
            item.setEnabled(action.ready(self))
            if action.id == "edit.undo":
                item.setText(f"Undo: {self.state.history.undo_title}" if self.state.history.undo_title else "Undo")
            elif action.id == "edit.redo":
                item.setText(f"Redo: {self.state.history.redo_title}" if self.state.history.redo_title else "Redo")

    def _arm_shortcuts(self) -> None:
        """Keys work in their own stage only, so that two stages may use the same; none is switched off."""
        for action in ACTIONS:
            here = not action.stage or action.stage == self.stage
            self.qactions[action.id].setShortcut(QKeySequence(action.keys) if here and action.keys else QKeySequence())
            self.qactions[action.id].setEnabled(True)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """While text is typed, plain keys are letters and not shortcuts."""
        if (
            event is not None
            and event.type() == QEvent.Type.ShortcutOverride
            and isinstance(watched, (QLineEdit, QPlainTextEdit))
            and hasattr(event, "modifiers")
            and event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier)
            and event.key() not in (Qt.Key.Key_F1, Qt.Key.Key_F9)  # type: ignore[attr-defined]
        ):
            event.accept()
            return False
        return super().eventFilter(watched, event)

    def go(self, stage: str) -> None:
        """Open a stage."""
        self.stage = stage
        self.map.editable = stage == "plan"
        self.map.show_links = stage == "join"
        self.stack.setCurrentWidget(self.pages[stage])
        share = _MAP_SHARE[stage]
        height = max(400, self.splitter.height())
        self.splitter.setSizes([round(height * share), round(height * (1 - share))])
        self._arm_shortcuts()
        self._refresh({"stage"})
        if stage == "field":
            self.field_stage.setFocus()

    def picture_view(self) -> PictureView:
        """The picture that view keys act on."""
        return {"frames": self.frames_stage.view, "deliver": self.deliver_stage.view}.get(
            self.stage, self.join_stage.view
        )

    def cancel_work(self) -> None:
        """Stop the work that the work line shows."""
        task = self.tasks.shown
        if task is not None:
            task.cancel()
            self.tell(f"{task.title} is being stopped; nothing half-written stays.", False)

    def find_action(self) -> None:
        """Open the searchable list."""
        ActionFinder(self).exec()

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
        self.settings = replace(self.settings, look=name)
        app = QApplication.instance()
        if isinstance(app, QApplication):
            theme.apply(app, name)
        self._refresh({"stage"})
        self.map.update()

    # --- outings ----------------------------------------------------------------

    def open_outing(self, folder: Path, stage: str | None = None) -> bool:
        """Open an outing's folder; a damaged one is told and everything stays as it was."""
        try:
            self.state.open(folder)
        except LanternError as error:
            self.tell(error.sentence, True)
            return False
        self._opened(
            stage or ("plan" if not self.state.outing.frames else self.stage if self.stage != "logbook" else "plan")
        )
        return True

    def _opened(self, stage: str) -> None:
        self.settings = replace(self.settings, last_outing=str(self.state.folder))
        self._map_frames.clear()
        self._map_image[...] = 0
        self.map.set_picture(None)
        self.map.set_join(JoinOnMap())
        self.go(stage)
        self._draw_shot_frames()
        self.join_stage.load_finished()

    def new_outing(self) -> None:
        """Ask for a name and begin."""
        name, yes = QInputDialog.getText(self, "New outing", "What do you call it?", text="Evening")
        if yes and name.strip():
            self.begin_outing(name.strip())

    def begin_outing(self, name: str) -> None:
        """A new outing with the rig of the present one, in a folder of its own."""
        root = settings_module.outings_folder()
        slug = re.sub(r"[^\w-]+", "-", name.lower()).strip("-")[:60] or "outing"
        folder, count = root / slug, 1
        while folder.exists():
            count += 1
            folder = root / f"{slug}-{count}"
        now = datetime.datetime.now()
        brief = self.state.outing.brief
        site = replace(brief.site, date=now.date().isoformat())
        outing = Outing(name, now.isoformat(timespec="minutes"), Brief(rig=brief.rig, support=brief.support, site=site))
        try:
            document.save(outing, folder)
        except (LanternError, OSError) as error:
            self.tell(error.sentence if isinstance(error, LanternError) else f"{folder}: {error.strerror}.", True)
            return
        self.state.set_outing(outing, folder)
        self._opened("plan")
        self.tell(f"A new outing. It saves itself in {settings_module.shown(folder)}.", False)

    def ask_open(self) -> None:
        """Choose an outing's folder."""
        name = QFileDialog.getExistingDirectory(self, "Open an outing folder", str(settings_module.outings_folder()))
        if name:
            self.open_outing(Path(name))

    def rename_outing(self) -> None:
        """Ask for another name."""
        name, yes = QInputDialog.getText(self, "Rename the outing", "Its name", text=self.state.outing.name)
        if yes and name.strip():
            self.state.apply(edits.rename(name.strip()))

    # --- showing ----------------------------------------------------------------

    def tell(self, sentence: str, problem: bool) -> None:
        """The one message line; problems stay until dismissed, the rest fades."""
        self._message.setText(f"◆ {sentence}" if problem and sentence else sentence)
        set_look_property(self._message, "role", "warn" if problem else "")
        self._message.setToolTip(sentence)
        self._dismiss.setVisible(problem and bool(sentence))
        if sentence and not problem:
            self._message_clear.start(8000)
        else:
            self._message_clear.stop()

    def _clear_message(self) -> None:
        self.tell("", False)

    def message_text(self) -> str:
        """What the message line says."""
        return self._message.text().removeprefix("◆ ")

    def _refresh(self, topics: set[str]) -> None:
        o = self.state.outing
        self._title.setText(o.name)
        self._where.setText("saves itself" if self.state.folder else "")
        self._where.setToolTip(str(self.state.folder or ""))
        guide, n = self.state.guide, len(self.state.plan.frames)
        joined = self.state.joined
        lacks = {
            "plan": f"{n} frame{'s' if n != 1 else ''}"
            + ("" if self.state.plan.coverage.complete else ", with a hole"),
            "field": f"{guide.shot} of {n} shot" if guide.missing or guide.shot else "nothing shot yet",
            "frames": f"{len(o.frames)} file{'s' if len(o.frames) != 1 else ''}" if o.frames else "none yet",
            "join": "frames changed since" if self.state.join_is_stale else "joined" if joined else "not joined yet",
            "deliver": units.megapixels(
                joined.crop.area if o.choices.crop else joined.canvas.width * joined.canvas.height
            )
            if joined
            else "waits for the join",
            "logbook": "outings so far",
        }
        for stage, tab in self.tabs.items():
            tab.show_state(lacks[stage], stage == self.stage)
        if "frames" in topics:
            self._draw_shot_frames()

    def _show_work(self) -> None:
        task = self.tasks.shown
        self.work_line.setVisible(task is not None and task.clock.elapsed_s > 0.2)
        if task is None:
            return
        left = task.clock.remaining_s
        stage = f" ({task.clock.stage})" if task.clock.stage not in ("", "work") else ""
        rest = f"  about {units.duration(left)} left" if left is not None else ""
        self._work_text.setText(f"{task.title}{stage}{rest}")
        self._bar.setValue(round(1000 * task.clock.fraction))

    def _chosen_on_map(self, number: int) -> None:
        if self.stage == "field":
            self.state.go_to(number)

    def _draw_shot_frames(self) -> None:
        """Draw frames with known directions onto the map, until the joined picture takes their place."""
        if self.state.joined is not None or self.state.folder is None:
            return
        refs = [r for r in self.state.outing.frames if r.yaw_deg is not None and r.pitch_deg is not None]
        if self._map_frames - {r.file for r in refs}:  # some were taken back: draw the rest anew
            self._map_frames.clear()
            self._map_image[...] = 0
            self.map.set_picture(None)
        missing = [(r, self.state.path_of(r)) for r in refs if r.file not in self._map_frames]
        if not missing:
            return
        self._map_frames |= {ref.file for ref, _ in missing}
        rig, folder = self.state.outing.rig, self.state.folder

        def work(task: Task) -> None:
            for ref, path in missing:
                pixels = read(path, 4).pixels
                angles = np.radians([ref.yaw_deg or 0.0, ref.pitch_deg or 0.0, ref.roll_deg or 0.0])
                # drawn on a map of its own, so that the window never sees a half-drawn one
                patch = np.zeros_like(self._map_image)
                unroll_frame(patch, pixels, rig.lens(), rotations.from_yaw_pitch_roll(*angles))
                task.show((ref.file, patch))

        def laid(drawn: tuple[str, NDArray[Any]]) -> None:
            ref_file, patch = drawn
            if self.state.folder == folder and self.state.joined is None and ref_file in self._map_frames:
                shown = patch[..., 3] > 0
                self._map_image[shown] = patch[shown]
                self.map.set_picture(self._map_image)

        self.tasks.start(
            "Drawing frames on the map", work, lambda _r: None, lambda _e: None, on_partial=laid, quiet=True
        )

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self.tasks.cancel_all()
        self._message_clear.stop()
        self.state.save_now()
        settings_module.save(self.settings)
        app = QApplication.instance()
        if app is not None:
            app.removeEventFilter(self)
        super().closeEvent(event)
