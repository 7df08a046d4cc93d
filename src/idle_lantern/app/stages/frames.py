"""Frames: the pictures that were shot or brought in, with their sizes and EXIF."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QFileDialog

from idle_lantern.app import theme
from idle_lantern.app.desk import Desk
from idle_lantern.app.stages import frames_model as model
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.stages.development_panel import DevelopmentPanel
from idle_lantern.app.stages.findings_panel import FindingsPanel
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import answered, button, column, form, label, panel, row
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.runs_dialog import APART, HERE, RunsDialog
from idle_lantern.app.widgets.thumbnails import ThumbnailList
from idle_lantern.core.base import units
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.frames.reading import SUFFIXES, FrameInfo, probe, thumbnail
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.copying import copied, elsewhere
from idle_lantern.core.outing.model import FrameRef
from idle_lantern.core.outing.position_edits import bring_positions, move_files
from idle_lantern.core.pictures.source import PictureSource
from idle_lantern.core.pictures.tiled import open_picture

LOADING, COPYING = "Reading frames", "Copying frames into the outing"
THUMBNAIL_PX = 400


class FramesStage(Stage):
    """The shot set: thumbnails on the left, the chosen frame on the right."""

    runs_apart = pyqtSignal(object)

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.setAcceptDrops(True)
        self._infos: dict[str, FrameInfo] = {}
        self._faults: dict[str, str] = {}
        self._loading: set[str] = set()
        self._folder: Path | None = None
        self._viewed: str | None = None

        self.list = ThumbnailList()
        self.list.chosen.connect(lambda frame: self.state.select(None, frame))
        self.summary = label("", "head", name="frames-summary")
        self.join_button = button("Join these frames", lambda: desk.ask("join.here"), main=True, name="go-join")
        self.remove_button = button("Remove   [Delete]", self.remove, name="remove")
        self.findings = FindingsPanel(desk)
        self.findings.chosen.connect(self._show_finding)
        self.empty = label(
            "No frames yet. Shoot them in Field, or bring in pictures of your own: drop files or a folder here.",
            wrap=True,
        )
        left = column(
            self.summary,
            self.empty,
            self.list,
            self.findings,
            row(
                button("Bring in pictures …", self.ask_files, name="bring-files"),
                button("Bring in a folder …", self.ask_folder, name="bring-folder"),
                None,
                self.join_button,
            ),
        )
        self.view = PictureView()
        self.view.placeholder = "Choose a frame to look at it at 100 %."
        self.title = label("", "head")
        self.view.failed.connect(desk.tell)
        self.facts = {key: label("", "figure", wrap=True) for key, _ in model.FACTS}
        details = form([(title, self.facts[key]) for key, title in model.FACTS])
        details.setColumnStretch(1, 1)
        details.setColumnStretch(2, 0)
        self.development = DevelopmentPanel(desk, self.view, self.list)
        details.setContentsMargins(0, 0, 0, 0)
        self.about = panel(details, "bare")
        self.development.hide()
        self.develop_button = button("Develop   [V]", self.toggle_develop, quiet=True, name="develop")
        self.out_button = button("Leave out   [X]", self.toggle_left_out, name="leave-out")
        self.zoom_text = label("", "dim")
        self.view.zoomed.connect(lambda z: self.zoom_text.setText(f"{100 * z * self.view.devicePixelRatioF():.0f} %"))
        right = column(
            row(
                self.title,
                None,
                self.zoom_text,
                button("Fit   [0]", self.view.fit, quiet=True),
                button("100 %   [1]", self.view.show_full, quiet=True),
            ),
            self.view,
            self.about,
            self.development,
            row(self.out_button, self.remove_button, None, self.develop_button),
        )
        layout = row(margin=16, space=theme.SPACE * 3)
        layout.addWidget(panel(left, "ground"), 5)
        layout.addWidget(panel(right, "ground"), 4)
        self.setLayout(layout)
        self.state.changed.connect(self._refresh)

    # --- bringing in ------------------------------------------------------------

    def ask_files(self) -> None:
        """Choose picture files."""
        pattern = " ".join(f"*{s} *{s.upper()}" for s in SUFFIXES)
        names, _ = QFileDialog.getOpenFileNames(self, "Bring in pictures", "", f"Pictures ({pattern})")
        if names:
            self.bring([Path(n) for n in names])

    def ask_folder(self) -> None:
        """Choose a folder."""
        name = QFileDialog.getExistingDirectory(self, "Bring in a folder of pictures")
        if name:
            self.bring([Path(name)])

    def bring(self, paths: list[Path]) -> None:
        """Add files, and the pictures of folders; unreadable ones are named and left."""
        place = self.state.place
        if place is None or not self.state.may_change():
            return
        self.desk.ask("go.frames")

        def done(brought: model.Brought) -> None:
            if len(brought.runs) > 1 and self.state.is_open(place):
                self._ask_runs(brought)
            elif brought.runs:
                positions = [p for run in brought.runs for p in run.positions]
                self.state.apply_to(place, bring_positions(positions))
            if brought.message:
                here = "" if self.state.is_open(place) else f"{place.name}: "
                self.desk.tell(here + brought.message, problem=bool(brought.faults) or not brought.runs)

        self.desk.start(
            "Bringing in pictures",
            lambda task: model.bring(paths, place.folder, task),
            done,
            lambda e: self.desk.tell(e.sentence),
        )

    def _ask_runs(self, brought: model.Brought) -> None:
        """Which runs come in, and where."""
        dialog = RunsDialog([(run.words, run.sweep) for run in brought.runs], brought.left, self.window())
        answer = answered(dialog)
        runs = [brought.runs[k] for k in dialog.chosen]
        if answer == HERE:
            self.state.apply(bring_positions([p for run in runs for p in run.positions]))
        elif answer == APART:
            self.runs_apart.emit(runs)

    def copy_in(self) -> None:
        """Copy frames that lie elsewhere into the outing's folder, each checked, so that the card may be taken out."""
        place, outing = self.state.place, self.state.outing
        if place is None or not self.state.may_change() or self.desk.tasks.busy(COPYING):
            return
        if not elsewhere(outing, place.folder):
            self.desk.tell("All frames lie in the outing's folder already.", problem=False)
            return

        def done(names: dict[str, str]) -> None:
            self.state.apply_to(place, move_files(names))
            told = f"{units.counted(len(names), 'picture')} copied into the outing, each checked. The card may be taken out."
            self.desk.tell(told, problem=False)

        self.desk.start(
            COPYING, lambda task: copied(outing, place.folder, task), done, lambda e: self.desk.tell(e.sentence)
        )

    def _show_finding(self) -> None:
        """The frame of a finding, at its place at 100 %."""
        frame, at = self.findings.frame, self.findings.place
        if not frame:
            return
        if self._viewed == frame and at is not None:
            self.view.show_place(*at)
        self.state.select(None, frame)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        mime = event.mimeData() if event else None
        if event is not None and mime is not None and mime.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        mime = event.mimeData() if event else None
        if mime is not None:
            self.bring([Path(u.toLocalFile()) for u in mime.urls() if u.isLocalFile()])

    # --- actions ----------------------------------------------------------------

    def _ref(self) -> FrameRef | None:
        return self.state.outing.frame(self.state.selected_id)

    def toggle_left_out(self) -> None:
        """Leave the chosen frame out of the join, or put it back."""
        ref = self._ref()
        if ref is not None:
            self.state.apply(edits.leave_out(ref, ref.id not in self.state.outing.choices.left_out))

    def toggle_develop(self) -> None:
        """Change between what is known of the frame and the development of all."""
        other = self.development.isHidden()
        # not a stack of pages: that is as tall as the tallest, and the picture above would be smaller than it need be
        self.about.setVisible(not other)
        self.development.setVisible(other)
        self.develop_button.setText("Facts   [V]" if other else "Develop   [V]")
        if other:
            self.development.exposure.setFocus()
        elif self.development.pick_button.isChecked():
            self.development.toggle_pick()

    def remove(self) -> None:
        """Take the chosen frame out of the outing; its file stays."""
        ref = self._ref()
        if ref is not None:
            self.state.apply(edits.remove_frames([ref.id]))
            self.desk.tell(
                f"{ref.file} is out of the outing; the file itself stays. Undo brings it back.", problem=False
            )

    # --- showing ----------------------------------------------------------------

    def showEvent(self, event: Any) -> None:
        self._refresh({"frames", "selection"})
        super().showEvent(event)

    def _refresh(self, topics: set[str]) -> None:
        if self._folder != self.state.folder:  # file names mean other files now
            self._folder = self.state.folder
            self._infos.clear()
            self._faults.clear()
            self.list.forget()
            self._loading.clear()
            self._viewed = None
            self.findings.forget()
        if not self.isVisible():
            return
        if topics & {"frames", "choices", "outing"}:
            self._fill()
        if topics & {"selection", "frames", "choices"}:
            self._show_selection()

    def _fill(self) -> None:
        outing = self.state.outing
        self.empty.setVisible(not outing.frames)
        self.join_button.setEnabled(len(outing.frames_to_join()) >= 2)
        self.join_button.setToolTip("" if self.join_button.isEnabled() else "A join needs two frames at least")
        self.summary.setText(model.summary(outing))
        used = {r.id for r in outing.frames_to_join()}
        self.list.show_frames({r.id: model.caption(r, joined=r.id in used) for r in outing.frames})
        self.findings.follow()
        self._load([r for r in outing.frames if r.id not in self.list and r.id not in self._loading])

    def _load(self, refs: list[FrameRef]) -> None:
        """Thumbnails, facts and contents off the thread."""
        place, outing = self.state.place, self.state.outing
        if not refs or place is None:
            return
        self._loading |= {r.id for r in refs}
        jobs = [(r.id, self.state.path_of(r)) for r in refs]

        def work(task: Task) -> dict[str, str]:
            task.begin("work", len(jobs))
            for frame, path in jobs:
                try:
                    info = probe(path)
                    task.show((frame, info, thumbnail(path, THUMBNAIL_PX).pixels, ""))
                except LanternError as error:
                    task.show((frame, None, None, error.sentence))
                task.advance()
            return model.contents(outing, place.folder, task)

        self.desk.start(
            LOADING,
            work,
            lambda hashes: self.state.note_contents(place, hashes),
            lambda e: self.desk.tell(e.sentence),
            on_partial=lambda r: self._loaded(r) if self.state.is_open(place) else None,
        )

    def _loaded(self, result: tuple[str, FrameInfo | None, Any, str]) -> None:
        frame, info, pixels, fault = result
        self._loading.discard(frame)
        if info is None:
            self._faults[frame] = fault
        else:
            self._infos[frame] = info
        self.list.set_picture(frame, pixels)
        if frame == self.state.selected_id:
            self._show_facts()

    def _show_selection(self) -> None:
        ref = self._ref()
        if ref is not None:
            self.list.choose(ref.id)
        self._show_facts()
        if ref is None:
            self._viewed = None
            self.view.set_source(None)
            return
        if ref.id == self._viewed:
            return
        self._viewed = ref.id
        self.view.set_source(None)
        path = self.state.path_of(ref)

        def done(source: PictureSource) -> None:
            if self._viewed == ref.id:
                self.view.set_source(source)
                if self.findings.frame == ref.id and self.findings.place is not None:
                    self.view.show_place(*self.findings.place)

        self.desk.start("Opening a frame", lambda _t: open_picture(path), done, lambda e: self.desk.tell(e.sentence))

    def _show_facts(self) -> None:
        ref = self._ref()
        frame = ref.id if ref else ""
        self.out_button.setEnabled(ref is not None)
        self.remove_button.setEnabled(ref is not None)
        self.title.setText(Path(ref.file).name if ref else "")
        shown = model.facts(self.state.outing, ref, self._infos.get(frame), self._faults.get(frame, ""))
        for key, text in shown.items():
            self.facts[key].setText(text)
        self.out_button.setText("Put back   [X]" if shown["state"] == "left out by you" else "Leave out   [X]")
