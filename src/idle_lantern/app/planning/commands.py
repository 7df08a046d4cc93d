"""What the plan's pages, keys and menus do: edits of the brief, gear, marks, files in and out."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.planning.gear_dialog import GearDialog
from idle_lantern.app.planning.pupil_dialog import PupilDialog
from idle_lantern.app.planning.scouting_commands import ScoutingCommands
from idle_lantern.app.widgets.basics import answered
from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.strict_json import read_text
from idle_lantern.core.frames.reading import probe
from idle_lantern.core.gear.entries import Entry, from_frame, taken_over
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.exchange import plan_csv, plan_document, read_frames_csv, read_spec
from idle_lantern.core.plan.planner import angle_list
from idle_lantern.core.plan.remedies import REMEDIES
from idle_lantern.core.plan.target_field import AS_NEEDED
from idle_lantern.core.plan.tour import parse_stop


class PlanCommands(QObject):
    """Commands of the Plan stage; dialogs stand before ``parent``."""

    gear_changed = pyqtSignal()

    def __init__(self, context: AppContext, parent: QWidget) -> None:
        super().__init__(parent)
        self._context, self._state, self._parent = context, context.state, parent
        self.scouting = ScoutingCommands(context, parent)

    def _tell(self, sentence: str, problem: bool = True) -> None:
        self._state.message.emit(sentence, problem)

    # --- gear -------------------------------------------------------------------

    def gear_entries(self, kind: str) -> list[Entry]:
        """Entries of the library; an unreadable library is told once and counts as empty."""
        if self._context.gear is None:
            return []
        try:
            return self._context.gear.entries(kind)
        except LanternError as error:
            self._tell(error.sentence, True)
            return []

    def take_gear(self, kind: str, name: str | None) -> None:
        """Plan with a thing of the library."""
        entry = next((e for e in self.gear_entries(kind) if e.name == name), None)
        if entry is not None:
            self.use_entry(entry)

    def use_entry(self, entry: Entry) -> None:
        """Plan with this thing."""
        self._state.apply(edits.change_brief(f"Plan with {entry.name}", lambda brief: taken_over(brief, entry)))

    def open_gear(self) -> None:
        """Open the library."""
        if self._context.gear is None:
            self._tell("The gear library cannot be opened; the log tells why.", True)
            return
        answered(GearDialog(self._context.gear, self.use_entry, self._parent))
        self.gear_changed.emit()

    def measure_pupil(self) -> None:
        """Open the dialog that measures the no-parallax point."""
        answered(PupilDialog(self._context, self._parent))
        self.gear_changed.emit()

    def practise(self) -> None:
        """Open the practice window; the engine and the island are loaded with it."""
        from idle_lantern.app.practice.dialog import PracticeDialog

        answered(PracticeDialog(self._context, self._parent))

    def fill_from_frame(self) -> None:
        """Ask for a picture and take camera and lens from its EXIF."""
        name, _ = QFileDialog.getOpenFileName(
            self._parent, "Camera and lens of a frame", "", "Pictures (*.jpg *.jpeg *.tif *.tiff *.png)"
        )
        if name:
            self.fill_from(Path(name))

    def fill_from(self, path: Path) -> None:
        """Keep camera and lens of a picture in the library and plan with them."""
        try:
            info = probe(path)
            entries = from_frame(info.metadata, info.width, info.height, path.stat().st_size)
            if self._context.gear is not None:
                self._context.gear.put(*entries)
        except LanternError as error:
            self._tell(f"{path.name}: {error.sentence}", True)
            return
        brief = self._state.outing.brief
        for entry in entries:
            brief = taken_over(brief, entry)
        self._state.apply(edits.set_brief(f"Camera and lens of {path.name}", brief))
        self.gear_changed.emit()
        self._tell(f"Kept in the gear library: {', '.join(e.name for e in entries)}.", False)

    # --- actions ----------------------------------------------------------------

    def apply_remedy(self, key: str) -> None:
        """Apply the edit behind a judgement."""
        remedy = REMEDIES[key]
        plan = self._state.plan
        self._state.apply(edits.change_brief(remedy.title, lambda _brief: remedy.apply(plan)))

    def turn_camera(self) -> None:
        """Upright to sideways and back."""
        self._state.apply(edits.set_rig("Turn the camera", upright=not self._state.outing.rig.upright))

    def full_circle(self) -> None:
        """360 degrees round, heights as they are."""
        self._state.apply(edits.set_target_field("Plan the full circle", left_deg=-180.0, right_deg=180.0))

    def full_sphere(self) -> None:
        """Everything: once straight up and twice straight down too, unless other numbers were told."""
        field = self._state.outing.target_field
        self._state.apply(
            edits.set_target_field(
                "Plan the full sphere",
                left_deg=-180.0,
                right_deg=180.0,
                low_deg=-90.0,
                high_deg=90.0,
                zenith_frames=1 if field.zenith_frames == AS_NEEDED else field.zenith_frames,
                nadir_frames=2 if field.nadir_frames == AS_NEEDED else field.nadir_frames,
            )
        )

    def readings_by_sun(self) -> None:
        """Set the meter readings to the daylight at the start."""
        self.apply_remedy("readings-sun")

    def preview_blur(self) -> None:
        """Draw the blur of the grid beside one wide frame."""
        if self._state.plan.single is None:
            self._tell("The picture is too wide for one flat frame; plan a field below 150°.", True)
            return
        # the renderer is loaded when a picture is wanted
        from idle_lantern.app.planning.preview import BlurPreview

        BlurPreview(self._context.tasks, self._state.plan, self._parent.window()).show()

    def add_mark(self) -> None:
        """Open the map's menu, by which a place is marked."""
        self._context.ask("plan.mark")

    def add_stop(self) -> None:
        """Ask for another scene of the evening."""
        text, yes = QInputDialog.getText(
            self._parent,
            "Another scene",
            "Name, minutes there; then, if they are known, minutes of walking, the light it wants (day, golden, blue, night)\n"
            "and where it lies: metres from this picture, or latitude and longitude.",
            text="harbour, 10, golden, 300 E 120 N",
        )
        if yes:
            self.take_stop(text)

    def take_stop(self, text: str) -> None:
        """Add a scene as ``parse_stop`` reads it."""
        site = self._state.outing.brief.site
        try:
            stop = parse_stop(text, site)
        except LanternError as error:
            self._tell(error.sentence, True)
            return
        self._state.apply(edits.set_part("site", f"Another scene: {stop.name}", stops=(*site.stops, stop)))

    def best_order(self) -> None:
        """Put the evening's scenes into the order that gives most of them their light."""
        self.apply_remedy("evening-order")

    def save_calendar(self) -> None:
        """Write the evening as a calendar."""
        # its calendar library is loaded when a calendar is wanted
        from idle_lantern.core.plan.calendar import write_calendar

        title = self._state.outing.name
        self._save(
            "Save the evening", "evening.ics", "Calendar (*.ics)", lambda p: write_calendar(self._state.plan, p, title)
        )

    def drop_stop(self) -> None:
        """Take the last scene off the evening."""
        stops = self._state.outing.brief.site.stops
        if stops:
            self._state.apply(edits.set_part("site", f"Drop the scene {stops[-1].name}", stops=stops[:-1]))

    # --- files ------------------------------------------------------------------

    def _save(self, title: str, suggested: str, kinds: str, write: Any) -> None:
        name, _ = QFileDialog.getSaveFileName(self._parent, title, suggested, kinds)
        if name:
            try:
                write(Path(name))
                self._tell(f"Saved: {name}", False)
            except LanternError as error:
                self._tell(error.sentence, True)

    def save_angles(self) -> None:
        """Write the angle list as text."""
        self._save(
            "Save the angle list", "angles.txt", "Text (*.txt)", lambda p: write_text(p, angle_list(self._state.plan))
        )

    def save_card(self) -> None:
        """Write the field card as PDF or text."""
        # its PDF library takes half a second to load and few sessions need it
        from idle_lantern.core.plan.card import write_card

        title = self._state.outing.name
        self._save(
            "Save the field card",
            "field-card.pdf",
            "Field card (*.pdf *.txt)",
            lambda p: write_card(self._state.plan, p, title),
        )

    def save_plan(self) -> None:
        """Write the plan as JSON, or its frames as CSV."""

        def write(path: Path) -> None:
            plan = self._state.plan
            write_text(
                path, plan_csv(plan) if path.suffix.lower() == ".csv" else json.dumps(plan_document(plan), indent=1)
            )

        self._save("Save the plan", "plan.json", "Plan (*.json *.csv)", write)

    def ask_plan(self) -> None:
        """Ask for a plan or a frame list."""
        name, _ = QFileDialog.getOpenFileName(
            self._parent, "Bring in a plan", "", "Plans and frame lists (*.json *.csv)"
        )
        if name:
            self.bring_plan(Path(name))

    def bring_plan(self, path: Path) -> None:
        """Take over a plan's brief (JSON), or a list of frames (CSV) as it is."""
        try:
            text = read_text(path)
            if path.suffix.lower() == ".csv":
                self._state.apply(edits.give_frames(f"Frames of {path.name}", read_frames_csv(text, path.name)))
            else:
                self._state.apply(edits.set_brief(f"Plan of {path.name}", read_spec(text, path.name)))
        except LanternError as error:
            self._tell(error.sentence, True)
