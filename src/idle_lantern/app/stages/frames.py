"""Frames: the pictures that were shot or brought in, with their sizes and EXIF."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import frames_model as model
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.stages.development_panel import DevelopmentPanel
from idle_lantern.app.stages.findings_panel import FindingsPanel
from idle_lantern.app.stages.frame_loader import FrameLoader
from idle_lantern.app.stages.importing import Bringing
from idle_lantern.app.widgets.basics import button, column, label, panel, panel_form, row
from idle_lantern.app.widgets.picture_desk import PictureDesk
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.thumbnails import ThumbnailList
from idle_lantern.app.widgets.tool_palette import ToolPalette
from idle_lantern.app.widgets.zooming import SIZES, zoom_told
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.model import FrameRef
from idle_lantern.core.pictures.source import PictureSource
from idle_lantern.core.pictures.tiled import open_picture

_TOOLS = (
    ("What is wrong?", ("frames.look", "frames.finding")),
    ("Is it of use?", ("frames.leave_out", "frames.remove")),
    ("How does it look?", ("frames.develop", "frames.grey")),
    ("What is missing?", ("outing.bring", "outing.bring_folder")),
    SIZES,
)


class FramesStage(Stage):
    """The shot set: one frame large, beside it all of them as thumbnails."""

    def __init__(self, context: AppContext) -> None:
        super().__init__(context)
        self.bringing = Bringing(context, self)
        self.loader = FrameLoader(context, self)
        self.loader.came.connect(self._loaded)
        self._folder: Path | None = None
        self._viewed: str | None = None

        self.list = ThumbnailList()
        self.list.chosen.connect(lambda frame: self.state.select(None, frame))
        self.summary = label("", "head", wrap=True, name="frames-summary")
        self.join_button = button("Join these frames", lambda: context.ask("join.here"), main=True, name="go-join")
        self.findings = FindingsPanel(context)
        self.findings.chosen.connect(self._show_finding)
        self.empty = label(
            "No frames yet. Shoot them in Field, or bring in pictures of your own: drop files or a folder here.",
            wrap=True,
        )
        self.view = PictureView()
        self.view.placeholder = "Choose a frame to look at it at 100 %."
        self.title = label("", "head", wrap=True)
        self.view.failed.connect(context.tell)
        self.facts = {key: label("", "figure", wrap=True) for key, _ in model.FACTS}
        details = panel_form([(title, self.facts[key]) for key, title in model.FACTS])
        self.development = DevelopmentPanel(context, self.view, self.list)
        self.about = panel(column(self.title, zoom_told(self.view), details), "bare")
        self.development.hide()
        self.picture_desk = PictureDesk(
            self.view,
            ToolPalette(_TOOLS, context.ask),
            (self.summary, self.empty, self.list, self.findings, self.about, self.development),
            (
                row(
                    button("Pictures …", self.bringing.ask_files, name="bring-files"),
                    button("Folder …", self.bringing.ask_folder, name="bring-folder"),
                ),
                self.join_button,
            ),
            "Frames",
        )
        self.setLayout(column(self.picture_desk, space=0))
        self.state.changed.connect(self._refresh)

    def held_tools(self) -> set[str]:
        """The development while it is open, and picking a grey."""
        developing = not self.development.isHidden()
        picking = developing and self.development.pick_button.isChecked()
        return ({"frames.develop"} if developing else set()) | ({"frames.grey"} if picking else set())

    def _show_finding(self) -> None:
        """The frame of a finding, at its place at 100 %."""
        frame, at = self.findings.frame, self.findings.place
        if not frame:
            return
        if self._viewed == frame and at is not None:
            self.view.show_place(*at)
        self.state.select(None, frame)

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
        self.context.tools_changed.emit()
        if other:
            self.development.exposure.setFocus()
        elif self.development.pick_button.isChecked():
            self.development.toggle_pick()

    def remove(self) -> None:
        """Take the chosen frame out of the outing; its file stays."""
        ref = self._ref()
        if ref is not None:
            self.state.apply(edits.remove_frames([ref.id]))
            self.context.tell(
                f"{ref.file} is out of the outing; the file itself stays. Undo brings it back.", problem=False
            )

    # --- showing ----------------------------------------------------------------

    def showEvent(self, event: Any) -> None:
        self._refresh({"frames", "selection"})
        super().showEvent(event)

    def _refresh(self, topics: set[str]) -> None:
        if self._folder != self.state.folder:  # file names mean other files now
            self._folder = self.state.folder
            self.loader.forget()
            self.list.forget()
            self._viewed = None
            self.findings.forget()
            self.findings.bring_back()
        if not self.isVisible():
            return
        if topics & {"frames", "choices", "outing"}:
            self._fill()
        if self._ref() is None and self.state.selected is None and self.state.outing.frames:  # one is always looked at
            self.state.select(None, self.state.outing.frames[0].id)
        if topics & {"selection", "frames", "choices"}:
            self._show_selection()

    def _fill(self) -> None:
        outing = self.state.outing
        self.empty.setVisible(not outing.frames)
        self.join_button.setEnabled(len(outing.frames_to_join()) >= 2)
        self.join_button.setToolTip("" if self.join_button.isEnabled() else "A join needs two frames at least")
        self.summary.setText(model.summary(outing))
        used = {r.id for r in outing.frames_to_join()}
        frames = model.in_stacks(outing)
        self.list.show_frames({r.id: model.caption(outing, r, joined=r.id in used) for r in frames})
        self.findings.follow()
        self.loader.load([r for r in outing.frames if r.id not in self.list])

    def _loaded(self, frame: str, pixels: Any) -> None:
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

        self.context.start(
            "Opening a frame", lambda _t: open_picture(path), done, lambda e: self.context.tell(e.sentence)
        )

    def _show_facts(self) -> None:
        ref = self._ref()
        frame = ref.id if ref else ""
        self.title.setText(Path(ref.file).name if ref else "")
        shown = model.facts(self.state.outing, ref, self.loader.infos.get(frame), self.loader.faults.get(frame, ""))
        for key, text in shown.items():
            self.facts[key].setText(text)
