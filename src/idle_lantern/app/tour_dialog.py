"""A tour of spheres: where each was taken, which way it faces, and the page that steps from one to the next."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QLineEdit, QListWidget, QSplitter, QWidget

from idle_lantern.app import settings as settings_module
from idle_lantern.app import theme
from idle_lantern.app import tour_model as model
from idle_lantern.app.arrivals import FilesDialog
from idle_lantern.app.context import AppContext
from idle_lantern.app.display import plain_qimage
from idle_lantern.app.widgets.basics import button, column, label, panel, panel_form, row
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.app.widgets.tour_plan import PlanPlace, TourPlan
from idle_lantern.app.widgets.tour_strip import Mark, TourStrip
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.base.units import parse_angle_deg, parse_number
from idle_lantern.core.scouting.tour_page import check_page, write_tour
from idle_lantern.core.scouting.tour_spec import TourSpec

WRITING = "Writing the tour"
_LIST_PX = 300
_PICTURES = "Pictures (*.jpg *.jpeg *.png *.tif *.tiff)"
_TOURS = "Tours (*.json)"


class TourDialog(FilesDialog):
    """Keeps the tour that is worked on by itself; the next one goes on with it."""

    def __init__(self, context: AppContext, parent: QWidget | None) -> None:
        super().__init__(parent)
        self._context = context
        self.setWindowTitle("A tour of spheres")
        self.setObjectName("tour")
        self.resize(1100, 720)
        self._file = settings_module.tour_file()
        self.tour = model.last(self._file)
        self._laid = model.Laid.of(self.tour)
        self._undone: list[TourSpec] = []
        self._done: list[TourSpec] = []
        self._strips: dict[tuple[str, str | None], model.Strip | str] = {}
        self._task: Any = None
        self._outcome = ""
        self._make_fields()
        self._lay_out_widgets()
        for keys, run in ((QKeySequence.StandardKey.Undo, self.undo), (QKeySequence.StandardKey.Redo, self.redo)):
            QShortcut(QKeySequence(keys), self, run)
        self._show(0)

    # --- widgets ----------------------------------------------------------------

    def _make_fields(self) -> None:
        self.list = QListWidget()
        self.list.setObjectName("tour-places")
        self.list.setAccessibleName("Places")
        self.list.currentRowChanged.connect(lambda _row: self._show_place())
        self.add_button = button("Add spheres …", self._ask_pictures, name="tour-add")
        self.drop_button = button("Take it away", self._drop, name="tour-drop")
        self.name, self.note = QLineEdit(), QLineEdit()
        for field, name, most in ((self.name, "Name", 80), (self.note, "Note", 500)):
            field.setAccessibleName(name)
            field.setObjectName(f"tour-{name.lower()}")
            field.setMaxLength(most)
            field.setAcceptDrops(False)
        self.name.editingFinished.connect(self._name_given)
        self.note.editingFinished.connect(lambda: self._change(note=self.note.text().strip()))
        self.east = self._quantity("East", _metres, lambda v: self._move(self._at, v, self.north_m.value))
        self.north_m = self._quantity("North", _metres, lambda v: self._move(self._at, self.east.value, v))
        self.up = self._quantity("Height", _metres, lambda v: self._change(up_m=v))
        self.facing = self._quantity("Facing", parse_angle_deg, lambda v: self._change(north_deg=v % 360, sun=None))
        self.reach = self._quantity("Reach", _reach, lambda v: self._keep(replace(self.tour, reach_m=v)))
        self.begins = QCheckBox("The tour begins here")
        self.begins.setObjectName("tour-first")
        self.begins.clicked.connect(self._begin_here)
        self.track_button = button("Take places from a track …", self._ask_track, quiet=True, name="tour-track")
        self.plan, self.strip = TourPlan(), TourStrip()
        self.plan.chosen.connect(self.list.setCurrentRow)
        self.plan.moved.connect(self._move)
        self.strip.dragged.connect(self._turn)
        self.strip.nudged.connect(lambda deg: self._change(north_deg=(self._north - deg) % 360, sun=None))
        self.where = label("", "dim", wrap=True, name="tour-where")
        self.told = label("", "figure", wrap=True, name="tour-told")
        self.open_button = button("Open …", self._ask_open, quiet=True, name="tour-open")
        self.save_button = button("Save as …", self._ask_save, quiet=True, name="tour-save")
        self.write_button = button("Write the page …", self._ask_page, main=True, name="tour-write")
        self.stop_button = button("Stop", self._stop, name="tour-stop")

    def _quantity(self, name: str, parse: Callable[[str], float], took: Callable[[float], Any]) -> QuantityEdit:
        field = QuantityEdit(name, parse, lambda v: f"{v:.6g}")
        field.setObjectName(f"tour-{name.lower()}")
        field.submitted.connect(took)
        field.refused.connect(lambda sentence: self.told.setText(sentence))
        field.mended.connect(self._tell)
        return field

    def _lay_out_widgets(self) -> None:
        self.facts = panel(
            column(
                panel_form([("Name", self.name), ("Note", self.note), ("East, m", self.east), ("North, m", self.north_m),
                            ("Height, m", self.up), ("Facing, °", self.facing)]),
                self.where,
                self.begins,
            )
        )  # fmt: skip
        side = panel(
            column(
                self.list,
                row(self.add_button, self.drop_button, None),
                self.facts,
                panel_form([("One steps at most, m", self.reach)]),
                row(self.track_button, None),
            )
        )
        side.setFixedWidth(theme.scaled(_LIST_PX))
        self.facing.setToolTip("Compass bearing of the picture's azimuth 0, its middle where it shows the whole circle")
        self.reach.setToolTip("Places farther apart than this are no neighbours; nor are two with a third between them")
        seen = QSplitter(Qt.Orientation.Vertical)
        seen.setChildrenCollapsible(False)
        seen.addWidget(self.plan)
        seen.addWidget(self.strip)
        seen.setSizes([340, 280])
        upper = row(side, seen)
        upper.setStretch(1, 1)
        foot = row(self.told, self.open_button, self.save_button, self.stop_button, self.write_button)
        foot.setStretch(0, 1)
        whole = column(
            upper,
            foot,
            margin=16,
        )
        whole.setStretch(0, 1)
        self.setLayout(whole)

    # --- the tour ---------------------------------------------------------------

    @property
    def _at(self) -> int:
        return self.list.currentRow()

    @property
    def _north(self) -> float:
        return 0.0 if self._laid.laid is None else self._laid.laid.stands[self._at].north_deg

    def _keep(self, tour: TourSpec, at: int | None = None) -> None:
        """Let the tour be another one; the step can be undone."""
        if tour == self.tour:
            return
        self._done.append(self.tour)
        self._undone.clear()
        self._take(tour, at)

    def _take(self, tour: TourSpec, at: int | None = None) -> None:
        self.tour, self._laid = tour, model.Laid.of(tour)
        try:
            self._file.parent.mkdir(parents=True, exist_ok=True)
            model.save(tour, self._file)
        except OSError as error:
            self._show(self._at if at is None else at)
            self._say(f"The tour could not be kept: {error.strerror}. Save it elsewhere (Save as).")
            return
        self._show(self._at if at is None else at)

    def _say(self, sentence: str) -> None:
        """Say it here and on the window's message line."""
        self.told.setText(sentence)
        self._context.tell(sentence)

    def undo(self) -> None:
        """Take the last change back."""
        self._step(self._done, self._undone)

    def redo(self) -> None:
        """Do again what was taken back."""
        self._step(self._undone, self._done)

    def _step(self, back: list[TourSpec], forth: list[TourSpec]) -> None:
        if back:
            forth.append(self.tour)
            self._take(back.pop())

    def add(self, paths: Sequence[Path]) -> None:
        """Add pictures at the end."""
        before = len(self.tour.places)
        tour = model.added(self.tour, [path for path in paths if path.is_file()])
        if len(tour.places) == before:
            self._say("A tour takes pictures of spheres, each once.")
        self._keep(tour, len(tour.places) - 1)

    def _drop(self) -> None:
        at = self._at
        if at >= 0:
            self._keep(model.without(self.tour, at), min(at, len(self.tour.places) - 2))

    def _change(self, **facts: Any) -> None:
        if self._at >= 0:
            self._keep(model.changed(self.tour, self._at, **facts))

    def _move(self, number: int, east_m: float, north_m: float) -> None:
        if 0 <= number < len(self.tour.places):
            self._keep(model.changed(self.tour, number, at_m=(east_m, north_m)), number)

    def _name_given(self) -> None:
        if self._at < 0 or self.name.text().strip() == self.tour.places[self._at].shown_name:
            return
        fault = model.name_fault(self.tour, self._at, self.name.text())
        if fault:
            self.told.setText(fault)
        else:
            self._change(name=self.name.text().strip())

    def _begin_here(self, on: bool) -> None:
        if self._at >= 0:
            self._keep(replace(self.tour, first=self.tour.places[self._at].shown_name if on else None))

    def _turn(self, began: float, ended: float) -> None:
        north = self._north_dragged(began, ended)
        if north is not None:
            self._change(north_deg=round(north, 2), sun=None)

    def _north_dragged(self, began: float, ended: float) -> float | None:
        strip = self._strip()
        if not isinstance(strip, model.Strip):
            return None
        one, other = strip.yaw_at(began), strip.yaw_at(ended)
        return None if one is None or other is None else model.turned(self._north, one, other)

    # --- what is shown ----------------------------------------------------------

    def _show(self, at: int) -> None:
        at = min(max(0, at), len(self.tour.places) - 1)
        self.list.blockSignals(True)
        self.list.clear()
        self.list.addItems([place.shown_name for place in self.tour.places])
        self.list.setCurrentRow(at)
        self.list.blockSignals(False)
        self._show_place()

    def _show_place(self) -> None:
        at, laid = self._at, self._laid.laid
        there = 0 <= at < len(self.tour.places)
        if laid is not None:
            places = [
                PlanPlace(s.name, s.east_m, s.north_m, p.at_m is None) for s, p in zip(laid.stands, self.tour.places)
            ]
            pairs = [(k, link.to) for k, links in enumerate(laid.links) for link in links if k < link.to]
            self.plan.show_tour(places, pairs, at, laid.first)
        else:
            self.plan.show_tour((), (), -1, -1)
        self.facts.setEnabled(there)
        self.reach.show_value(self.tour.reach_m)
        if there:
            place = self.tour.places[at]
            self.name.setText(place.shown_name)
            self.note.setText(place.note)
            self.up.show_value(place.up_m)
            if laid is not None:
                self.east.show_value(round(laid.stands[at].east_m, 2))
                self.north_m.show_value(round(laid.stands[at].north_m, 2))
                self.facing.show_value(round(laid.stands[at].north_deg, 2))
                self.begins.setChecked(laid.first == at)
            unknown = laid is not None and at in laid.unturned
            told = (
                ["Its file or the track tells where it was taken; move it where that is off."]
                if place.at_m is None
                else []
            )
            told += (
                ["Which way it faces is not known: drag the marks to where the other places are seen."]
                if unknown
                else []
            )
            self.where.setText(" ".join(told))
        self._show_strip()
        self._tell()

    def _tell(self) -> None:
        works = self._task is not None
        self.told.setText(self._laid.summed_up())
        for widget, on in (
            (self.drop_button, self._at >= 0),
            (self.save_button, bool(self.tour.places)),
            (self.write_button, self._laid.laid is not None and not works),
            (self.stop_button, works),
        ):
            widget.setEnabled(on)

    def _strip(self) -> model.Strip | str | None:
        """The picture of the chosen place, why there is none, or None while it is read."""
        if not 0 <= self._at < len(self.tour.places):
            return ""
        place = self.tour.places[self._at]
        key = place.picture, place.report
        if key in self._strips:
            return self._strips[key]

        def read(_task: Any) -> model.Strip:
            return model.Strip.of(place)

        def came(strip: model.Strip | str) -> None:
            self._strips[key] = strip
            self._show_strip()

        self._strips[key] = "…"
        self._context.start("Reading a sphere", read, came, lambda error: came(error.sentence))
        return self._strips[key]

    def _show_strip(self) -> None:
        strip = self._strip()
        if not isinstance(strip, model.Strip):
            self.strip.show_place(None, (), strip or "", lambda _a, _b: ())
            return

        def moved(began: float, ended: float) -> list[Mark]:
            north = self._north_dragged(began, ended)
            return self._marks(strip, self._north if north is None else north)

        self.strip.show_place(plain_qimage(strip.pixels), self._marks(strip, self._north), "", moved)

    def _marks(self, strip: model.Strip, north_deg: float) -> list[Mark]:
        """Where the other places and north stand in a picture that faces there."""
        laid = self._laid.laid
        if laid is None:
            return []
        here = laid.stands[self._at]
        told = [("north", 0.0, 0.0)]
        for stand in laid.stands:
            if stand is not here:
                east, north = stand.east_m - here.east_m, stand.north_m - here.north_m
                away = math.hypot(east, north)
                up = math.degrees(math.atan2(stand.up_m - here.up_m, away))
                told.append((f"{stand.name}, {away:.0f} m", math.degrees(math.atan2(east, north)), up))
        found = [(name, strip.share_of(bearing - north_deg, up)) for name, bearing, up in told]
        return [Mark(name, *share) for name, share in found if share is not None]

    # --- files ------------------------------------------------------------------

    def _folder(self) -> str:
        return str(Path(self.tour.places[-1].picture).parent) if self.tour.places else str(Path.home())

    def _ask_pictures(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Spheres of one place", self._folder(), _PICTURES)
        if names:
            self.add([Path(name) for name in names])

    def _ask_track(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "The track that was walked", self._folder(), "Tracks (*.gpx)")
        if name:
            places = [replace(place, at_m=None) for place in self.tour.places]
            tour = replace(self.tour, track=name, places=places)
            laid = model.Laid.of(tour)
            if laid.laid is None:
                self._say(laid.fault)
            else:
                self._keep(tour)

    def _ask_open(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "A tour", self._folder(), _TOURS)
        if name:
            try:
                self._keep(model.read(Path(name)), 0)
            except LanternError as error:
                self._say(error.sentence)

    def _ask_save(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save the tour", f"{self._folder()}/tour.json", _TOURS)
        if name:
            try:
                model.save(self.tour, Path(name))
            except OSError as error:
                self._say(f"The tour could not be saved: {error.strerror}.")

    def _ask_page(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Write the page", f"{self._folder()}/tour.html", "Pages (*.html)")
        if name:
            self.write(Path(name))

    def write(self, target: Path) -> None:
        """Write the page."""
        tour, laid = self.tour, self._laid.laid
        if laid is None or self._task is not None:
            return
        try:
            check_page(tour, Path(), target)
        except LanternError as error:
            self._say(error.sentence)
            return

        def work(task: Any) -> Path:
            return write_tour(tour, Path(), laid, target, progress=task)

        def done(page: Path) -> None:
            self._outcome = f"The tour stands in {settings_module.shown(page)}; any browser opens it."

        def failed(error: LanternError) -> None:
            self._outcome = error.sentence

        self._outcome = "Stopped; nothing was written."
        self._task = self._context.start(WRITING, work, done, failed, weights={"write": 1.0}, on_ended=self._ended)
        self._tell()

    def _stop(self) -> None:
        if self._task is not None:
            self._task.cancel()

    def _ended(self) -> None:
        self._task = None
        self._tell()
        self._say(self._outcome)


def _metres(text: str) -> float:
    return parse_number(text.strip().removesuffix("m"), "a length in metres", "12.5")


def _reach(text: str) -> float:
    value = _metres(text)
    if value <= 0:
        raise InputError("One steps farther than nothing", remedy="Give metres above 0")
    return value
