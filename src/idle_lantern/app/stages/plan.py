"""Plan: pages of what is told on the left, what it takes and what speaks against it on the right."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import (
    QFileDialog,
    QInputDialog,
    QStackedWidget,
    QVBoxLayout,
)

from idle_lantern.app import theme
from idle_lantern.app.planning.gear_dialog import GearDialog
from idle_lantern.app.planning.preview import BlurPreview
from idle_lantern.app.planning.topics.angles import AnglesTopic
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.planning.topics.camera import CameraTopic
from idle_lantern.app.planning.topics.cost import CostTopic
from idle_lantern.app.planning.topics.exposure import ExposureTopic
from idle_lantern.app.planning.topics.light import LightTopic
from idle_lantern.app.planning.topics.picture import PictureTopic
from idle_lantern.app.planning.topics.run import RunTopic
from idle_lantern.app.planning.topics.sharpness import SharpnessTopic
from idle_lantern.app.planning.topics.support import SupportTopic
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row, scrolled
from idle_lantern.app.widgets.judgement_list import JudgementList
from idle_lantern.app.widgets.page_button import PageButton
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base import units
from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.gear.entries import Entry, from_frame, taken_over
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.brief import Mark, Stop
from idle_lantern.core.plan.card import write_card
from idle_lantern.core.plan.exchange import plan_csv, plan_document, read_frames_csv, read_spec
from idle_lantern.core.plan.planner import angle_list
from idle_lantern.core.plan.remedies import REMEDIES

if TYPE_CHECKING:
    from idle_lantern.app.window import Window


class PlanStage(Stage):
    """The evening before."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.library = window.gear
        self.picture, self.camera = PictureTopic(self), CameraTopic(self)
        self.support, self.sharpness = SupportTopic(self), SharpnessTopic(self)
        self.exposure, self.light = ExposureTopic(self), LightTopic(self)
        self.run, self.cost, self.listing = RunTopic(self), CostTopic(self), AnglesTopic(self)
        page: Topic
        self.topics: tuple[Topic, ...] = (
            self.picture,
            self.camera,
            self.support,
            self.sharpness,
            self.exposure,
            self.light,
            self.run,
            self.cost,
            self.listing,
        )
        self.fields: dict[str, QuantityEdit] = {}
        for page in self.topics:
            for key, field in page.bound.numbers.items():
                self.fields.setdefault(key, field)
        self.pages = QStackedWidget()
        self.page_buttons: list[PageButton] = []
        pages_list = QVBoxLayout()
        pages_list.setSpacing(1)
        pages_list.setContentsMargins(0, 0, 0, 0)
        for at, page in enumerate(self.topics):
            self.pages.addWidget(page)
            chooser = PageButton(page.title)
            chooser.clicked.connect(lambda _c=False, index=at: self.open_topic(index))
            self.page_buttons.append(chooser)
            pages_list.addWidget(chooser)
        pages_list.addStretch(1)

        self.count = label("", "big", name="plan-count")
        self.rows_text = label("", wrap=True)
        self.key_facts = {name: label("", "figure", name=f"fact-{name}") for name in ("overlap", "size", "time")}
        results = form(
            [
                ("Smallest overlap", self.key_facts["overlap"]),
                ("Joined", self.key_facts["size"]),
                ("Time to shoot", self.key_facts["time"]),
            ]
        )
        self.remarks = JudgementList(
            {key: (remedy.title, lambda k=key: self.apply_remedy(k)) for key, remedy in REMEDIES.items()},  # type: ignore[misc]
            lambda key: self.state.apply(edits.put_aside(key, True)),
            lambda: self.state.apply(edits.bring_back_all()),
        )
        scroll = self._remarks_scroll = scrolled(self.remarks)
        go = button("Go shooting", lambda: window.go("field"), main=True, name="go-field")
        takes = panel(column(self.count, row(column(self.rows_text, None), go), results, scroll), "ground")
        takes.setFixedWidth(332)

        layout = row(margin=10, space=theme.SPACE * 2)
        chooser_panel = panel(pages_list, "ground")
        chooser_panel.setFixedWidth(152)
        layout.addWidget(chooser_panel)
        layout.addWidget(self.pages, 1)
        layout.addWidget(takes)
        self.setLayout(layout)
        self.open_topic(0)
        self.state.changed.connect(self._refresh)
        self._refresh({"plan", "choices", "selection"})

    # --- pages ------------------------------------------------------------------

    def open_topic(self, index: int) -> None:
        """Show one of the pages."""
        index %= len(self.topics)
        self.pages.setCurrentIndex(index)
        for i, chooser in enumerate(self.page_buttons):
            chooser.show_chosen(i == index)
        self.topics[index].show_plan(self.state.plan)
        if index == len(self.topics) - 1:
            self.listing.show_selection(self.state.selected)

    def reveal(self, key: str) -> QuantityEdit:
        """Open the page that holds a field."""
        for i, page in enumerate(self.topics):
            if key in page.bound.numbers:
                self.open_topic(i)
                return page.bound.numbers[key]
        raise KeyError(key)

    def next_topic(self, step: int) -> None:
        """The page after, or before."""
        self.open_topic(self.pages.currentIndex() + step)

    # --- gear -------------------------------------------------------------------

    def gear_entries(self, kind: str) -> list[Entry]:
        """Entries of the library; an unreadable library is told once and counts as empty."""
        if self.library is None:
            return []
        try:
            return self.library.entries(kind)
        except LanternError as error:
            self.state.message.emit(error.sentence, True)
            return []

    def take_gear(self, kind: str, name: str | None) -> None:
        """Plan with a thing of the library."""
        entry = next((e for e in self.gear_entries(kind) if e.name == name), None)
        if entry is not None:
            self.use_entry(entry)

    def use_entry(self, entry: Entry) -> None:
        """Plan with this thing."""
        self.state.apply(edits.set_brief(f"Plan with {entry.name}", taken_over(self.state.outing.brief, entry)))

    def open_gear(self) -> None:
        """Open the library."""
        if self.library is None:
            self.state.message.emit("The gear library cannot be opened; the log tells why.", True)
            return
        GearDialog(self.window_, self.library, self.use_entry).exec()
        self.camera.show_gear()
        self.support.show_gear()
        self._refresh({"plan"})

    def fill_from_frame(self) -> None:
        """Ask for a picture and take camera and lens from its EXIF."""
        name, _ = QFileDialog.getOpenFileName(
            self, "Camera and lens of a frame", "", "Pictures (*.jpg *.jpeg *.tif *.tiff *.png)"
        )
        if name:
            self.fill_from(Path(name))

    def fill_from(self, path: Path) -> None:
        """Keep camera and lens of a picture in the library and plan with them."""
        try:
            info = probe(path)
            entries = from_frame(info.metadata, info.width, info.height, path.stat().st_size)
            if self.library is not None:
                self.library.put(*entries)
        except LanternError as error:
            self.state.message.emit(f"{path.name}: {error.sentence}", True)
            return
        brief = self.state.outing.brief
        for entry in entries:
            brief = taken_over(brief, entry)
        self.state.apply(edits.set_brief(f"Camera and lens of {path.name}", brief))
        self.camera.show_gear()
        self.state.message.emit(f"Kept in the gear library: {', '.join(e.name for e in entries)}.", False)
        self._refresh({"plan"})

    # --- actions ----------------------------------------------------------------

    def apply_remedy(self, key: str) -> None:
        """Apply the edit behind a judgement."""
        remedy = REMEDIES[key]
        self.state.apply(edits.set_brief(remedy.title, remedy.apply(self.state.plan)))

    def turn_camera(self) -> None:
        """Upright to sideways and back."""
        self.state.apply(edits.set_rig("Turn the camera", upright=not self.state.outing.rig.upright))

    def full_circle(self) -> None:
        """360 degrees round, heights as they are."""
        self.state.apply(edits.set_target_field("Plan the full circle", left_deg=-180.0, right_deg=180.0))

    def full_sphere(self) -> None:
        """Everything: straight up and straight down too."""
        self.state.apply(
            edits.set_target_field(
                "Plan the full sphere", left_deg=-180.0, right_deg=180.0, low_deg=-90.0, high_deg=90.0
            )
        )

    def readings_by_sun(self) -> None:
        """Set the meter readings to the daylight at the start."""
        self.apply_remedy("readings-sun")

    def preview_blur(self) -> None:
        """Draw the blur of the grid beside one wide frame."""
        if self.state.plan.single is None:
            self.state.message.emit("The picture is too wide for one flat frame; plan a field below 150°.", True)
            return
        BlurPreview(self.window_, self.state.plan).show()

    def add_mark(self) -> None:
        """Ask for a name and mark the middle of the chosen frame, or of the picture."""
        name, yes = QInputDialog.getText(self, "Mark", "What stands there?", text="subject")
        if yes and name.strip():
            self.mark(name.strip())

    def mark(self, name: str) -> None:
        """Mark the middle of the chosen frame, or of the picture."""
        plan = self.state.plan
        frame = plan.frame(self.state.selected) if self.state.selected else None
        yaw, pitch = (frame.yaw_deg, frame.pitch_deg) if frame else (plan.subject.yaw_deg, plan.subject.pitch_deg)
        marks = (*plan.brief.scene.marks, Mark(name, yaw, pitch))
        self.state.apply(edits.set_part("scene", f"Mark {name}", marks=marks))

    def drop_mark(self) -> None:
        """Take the last mark off the map."""
        marks = self.state.outing.brief.scene.marks
        if marks:
            self.state.apply(edits.set_part("scene", f"Drop the mark {marks[-1].name}", marks=marks[:-1]))

    def field_from_marks(self) -> None:
        """Let the field run from the leftmost to the rightmost mark, a tenth beyond."""
        marks = self.state.outing.brief.scene.marks
        if len(marks) < 2:
            self.state.message.emit("Two marks at least are needed: one at the left and one at the right end.", True)
            return
        left = min(m.yaw_deg - m.width_deg / 2 for m in marks)
        right = max(m.yaw_deg + m.width_deg / 2 for m in marks)
        more = (right - left) * 0.05
        self.state.apply(
            edits.set_target_field(
                "Field from marks", left_deg=left - more, right_deg=min(right + more, left - more + 360)
            )
        )

    def add_stop(self) -> None:
        """Ask for another scene of the evening."""
        text, yes = QInputDialog.getText(
            self, "Another scene", "Name, minutes there, minutes of walking:", text="harbour, 10, 15"
        )
        if yes:
            self.take_stop(text)

    def take_stop(self, text: str) -> None:
        """Add a scene written as ``name, minutes, walk``."""
        try:
            name, *numbers = [p.strip() for p in text.split(",")]
            minutes = [units.parse_number(n, "minutes", "harbour, 10, 15") for n in numbers]
            if not name or not 1 <= len(minutes) <= 2:
                raise InputError(f"'{text}' is no scene", remedy="Write it like harbour, 10, 15")
            stop = Stop(name, *minutes)
        except LanternError as error:
            self.state.message.emit(error.sentence, True)
            return
        stops = (*self.state.outing.brief.site.stops, stop)
        self.state.apply(edits.set_part("site", f"Another scene: {name}", stops=stops))

    def drop_stop(self) -> None:
        """Take the last scene off the evening."""
        stops = self.state.outing.brief.site.stops
        if stops:
            self.state.apply(edits.set_part("site", f"Drop the scene {stops[-1].name}", stops=stops[:-1]))

    # --- files ------------------------------------------------------------------

    def _save(self, title: str, suggested: str, kinds: str, write: Any) -> None:
        name, _ = QFileDialog.getSaveFileName(self, title, suggested, kinds)
        if name:
            try:
                write(Path(name))
                self.state.message.emit(f"Saved: {name}", False)
            except LanternError as error:
                self.state.message.emit(error.sentence, True)

    def save_angles(self) -> None:
        """Write the angle list as text."""
        self._save(
            "Save the angle list", "angles.txt", "Text (*.txt)", lambda p: write_text(p, angle_list(self.state.plan))
        )

    def save_card(self) -> None:
        """Write the field card as PDF or text."""
        title = self.state.outing.name
        self._save(
            "Save the field card",
            "field-card.pdf",
            "Field card (*.pdf *.txt)",
            lambda p: write_card(self.state.plan, p, title),
        )

    def save_plan(self) -> None:
        """Write the plan as JSON, or its frames as CSV."""

        def write(path: Path) -> None:
            plan = self.state.plan
            write_text(
                path, plan_csv(plan) if path.suffix.lower() == ".csv" else json.dumps(plan_document(plan), indent=1)
            )

        self._save("Save the plan", "plan.json", "Plan (*.json *.csv)", write)

    def ask_plan(self) -> None:
        """Ask for a plan or a frame list."""
        name, _ = QFileDialog.getOpenFileName(self, "Bring in a plan", "", "Plans and frame lists (*.json *.csv)")
        if name:
            self.bring_plan(Path(name))

    def bring_plan(self, path: Path) -> None:
        """Take over a plan's brief (JSON), or a list of frames (CSV) as it is."""
        try:
            text = path.read_text(encoding="utf-8")
            if path.suffix.lower() == ".csv":
                self.state.apply(edits.give_frames(f"Frames of {path.name}", read_frames_csv(text, path.name)))
            else:
                self.state.apply(edits.set_brief(f"Plan of {path.name}", read_spec(text, path.name)))
        except LanternError as error:
            self.state.message.emit(error.sentence, True)
        except (OSError, UnicodeDecodeError):
            self.state.message.emit(
                f"{path.name}: cannot be read as text. Choose a plan (.json) or a frame list (.csv).", True
            )

    # --- showing ----------------------------------------------------------------

    def _refresh(self, topics: set[str]) -> None:
        plan = self.state.plan
        if "plan" in topics:
            self.topics[self.pages.currentIndex()].show_plan(plan)
            for chooser, page in zip(self.page_buttons, self.topics):
                chooser.show_state(page.summary(plan))
            self._show_results()
        if topics & {"plan", "choices"}:
            self.remarks.show_judgements(
                plan.judgements,
                self.state.outing.put_aside,
                "Nothing speaks against this plan: the whole field is covered, as sampled on the sphere.",
            )
            bar = self._remarks_scroll.verticalScrollBar()
            if bar is not None:  # the heaviest comes first and is to be seen first
                bar.setValue(0)
        if topics & {"selection", "plan"} and self.pages.currentWidget() is self.listing:
            self.listing.show_selection(self.state.selected)

    def _show_results(self) -> None:
        plan = self.state.plan
        n, rows = len(plan.frames), plan.rows
        self.count.setText(
            f"{n} frame{'s' if n != 1 else ''}" + (f" in {len(rows)} rows" if len(rows) > 1 else " in one row")
        )
        shown = rows if len(rows) <= 5 else rows[:4]
        described = ", ".join(f"{len(r)} at {units.angle(r[0].pitch_deg)}" for r in shown)
        more = f" and {len(rows) - 4} rows more" if len(rows) > 5 else ""
        self.rows_text.setText(f"{described}{more}. {plan.size.projection.capitalize()}.")
        c = plan.coverage
        overlap = (
            "no neighbour"
            if c.smallest_overlap is None or c.smallest_between is None
            else (f"{units.share(c.smallest_overlap)} (frames {c.smallest_between[0]} and {c.smallest_between[1]})")
        )
        self.key_facts["overlap"].setText(overlap)
        s = plan.size
        self.key_facts["size"].setText(f"{units.grouped(s.width_px)} × {units.grouped(s.height_px)} px")
        self.key_facts["time"].setText(f"{units.duration(plan.shoot_s)}, until {plan.end:%H:%M}")
