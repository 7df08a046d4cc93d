"""Plan: the wanted picture, the camera, and what it takes; the grid on the map follows at once."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHeaderView,
    QScrollArea,
    QTableWidget,
    QTableWidgetItem,
)

from idle_lantern.app import theme
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row
from idle_lantern.app.widgets.judgement_list import JudgementList
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base import units
from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.geometry.lenses import MODELS
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.planner import angle_list

if TYPE_CHECKING:
    from idle_lantern.app.window import Window

_OVERLAP_SCHOOLS = (
    ("one third: the usual default", 1 / 3),
    ("20 %: long lens, firm tripod", 0.2),
    ("40 %: each thing in three frames", 0.4),
    ("50 %: only the sharp middle is used", 0.5),
)
_PRINT_DPI = 300.0


def _pixels(text: str) -> float:
    return float(round(units.parse_number(text.replace("px", ""), "a number of pixels", "6000")))


def _millimetres(value: float) -> str:
    return f"{value:.6g} mm"


class PlanStage(Stage):
    """The evening before."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.fields: dict[str, QuantityEdit] = {}
        wish = form(
            [
                ("Left end", self._wish("left_deg", "Left end", units.parse_angle_deg, units.angle)),
                ("Right end", self._wish("right_deg", "Right end", units.parse_angle_deg, units.angle)),
                ("Lower edge", self._wish("low_deg", "Lower edge", units.parse_angle_deg, units.angle)),
                ("Upper edge", self._wish("high_deg", "Upper edge", units.parse_angle_deg, units.angle)),
                ("Overlap", self._wish("overlap", "Overlap", units.parse_share, units.share, 0.05)),
            ]
        )
        self.school = QComboBox()
        self.school.setAccessibleName("Overlap by school")
        self.school.addItem("overlap by school …")
        for text, value in _OVERLAP_SCHOOLS:
            self.school.addItem(text, value)
        self.school.activated.connect(self._take_school)
        kinds = row(
            button("Full circle", self.full_circle, name="full-circle"),
            button("Full sphere", self.full_sphere, name="full-sphere"),
            None,
        )
        wanted = column(label("Wanted picture", "head"), wish, self.school, kinds, None)

        self.model = QComboBox()
        self.model.setAccessibleName("Lens kind")
        self.model.addItems([m if m == "rectilinear" else f"{m} fisheye" for m in MODELS])
        self.model.activated.connect(
            lambda i: self.state.apply(edits.set_rig("Change the lens kind", lens_model=MODELS[i]))
        )
        self.held = button("Held upright", self.turn_camera, name="turn-camera")
        rig = form(
            [
                ("Sensor width", self._rig("sensor_width_mm", "Sensor width", units.parse_length_mm, _millimetres)),
                ("Sensor height", self._rig("sensor_height_mm", "Sensor height", units.parse_length_mm, _millimetres)),
                ("Pixels across", self._rig("width_px", "Pixels across", _pixels, units.grouped, 100)),
                ("Pixels up", self._rig("height_px", "Pixels up", _pixels, units.grouped, 100)),
                ("Focal length", self._rig("focal_mm", "Focal length", units.parse_length_mm, _millimetres)),
                ("Lens kind", self.model),
                ("Camera", self.held),
            ]
        )
        camera = column(label("Camera and lens", "head"), rig, None)

        self.count = label("", "big", name="plan-count")
        self.rows_text = label("", wrap=True)
        self.facts = {
            name: label("", "figure", name=f"fact-{name}")
            for name in ("overlap", "size", "projection", "print", "time")
        }
        results = form(
            [
                ("Smallest overlap found", self.facts["overlap"]),
                ("Joined picture", self.facts["size"]),
                ("Projection", self.facts["projection"]),
                (f"Print at {_PRINT_DPI:.0f} dpi", self.facts["print"]),
                ("Time to shoot", self.facts["time"]),
            ]
        )
        self.remarks = JudgementList(
            {
                "overlap-third": ("Overlap a third", lambda: self._set("overlap", 1 / 3)),
                "overlap-half": ("Overlap one half", lambda: self._set("overlap", 0.5)),
                "upright": ("Turn the camera upright", self.turn_camera),
            },
            lambda key: self.state.apply(edits.put_aside(key, True)),
            lambda: self.state.apply(edits.bring_back_all()),
        )
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self.remarks)
        go = button("Go shooting", lambda: window.go("field"), main=True, name="go-field")
        takes = column(row(self.count, None, go), self.rows_text, results, scroll)

        self.angles = QTableWidget(0, 4)
        self.angles.setAccessibleName("Angles in order of shooting")
        self.angles.setHorizontalHeaderLabels(["frame", "row", "yaw", "pitch"])
        self.angles.verticalHeader().setVisible(False)  # type: ignore[union-attr]
        self.angles.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)  # type: ignore[union-attr]
        for narrow in (0, 1):
            self.angles.horizontalHeader().setSectionResizeMode(narrow, QHeaderView.ResizeMode.ResizeToContents)  # type: ignore[union-attr]
        self.angles.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.angles.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.angles.setSelectionMode(QTableWidget.SelectionMode.SingleSelection)
        self.angles.setFont(theme.font())
        self.angles.itemSelectionChanged.connect(self._row_chosen)
        listing = column(
            label("Angles", "head"), self.angles, row(None, button("Save list …", self.save_angles, quiet=True))
        )

        layout = row(margin=16, space=theme.SPACE * 4)
        for part, stretch in ((wanted, 0), (camera, 0), (takes, 1), (listing, 0)):
            layout.addWidget(panel(part, "ground"), stretch)
        self.angles.setFixedWidth(244)
        self.setLayout(layout)
        self.state.changed.connect(self._refresh)
        self._refresh({"plan", "choices", "selection"})

    # --- fields -----------------------------------------------------------------

    def _wish(
        self, key: str, name: str, parse: Callable[[str], float], write: Callable[[float], str], step: float = 1.0
    ) -> QuantityEdit:
        def use(value: float) -> None:
            self._submit(field, edits.set_wish(f"Change the {name.lower()}", merge="", **{key: value}))

        field = QuantityEdit(name, parse, write, step)
        field.submitted.connect(use)
        field.refused.connect(lambda s: self.state.told.emit(s, True))
        self.fields[key] = field
        return field

    def _rig(
        self, key: str, name: str, parse: Callable[[str], float], write: Callable[[float], str], step: float = 1.0
    ) -> QuantityEdit:
        def use(value: float) -> None:
            number = int(value) if key.endswith("_px") else value
            self._submit(field, edits.set_rig(f"Change the {name.lower()}", **{key: number}))

        field = QuantityEdit(name, parse, write, step)
        field.submitted.connect(use)
        field.refused.connect(lambda s: self.state.told.emit(s, True))
        self.fields[key] = field
        return field

    def _submit(self, field: QuantityEdit, edit: edits.Edit) -> None:
        if self.state.apply(edit):
            self._refresh({"plan"})
        else:
            field.mark_refused(self.window_.message_text())

    def _set(self, key: str, value: float) -> None:
        self.state.apply(edits.set_wish("Change the overlap", merge="", **{key: value}))

    def _take_school(self, index: int) -> None:
        value = self.school.itemData(index)
        if value is not None:
            self._set("overlap", float(value))
        self.school.setCurrentIndex(0)

    # --- actions ----------------------------------------------------------------

    def turn_camera(self) -> None:
        """Upright to sideways and back."""
        self.state.apply(edits.set_rig("Turn the camera", upright=not self.state.outing.rig.upright))

    def full_circle(self) -> None:
        """360 degrees round, heights as they are."""
        self.state.apply(edits.set_wish("Plan the full circle", left_deg=-180.0, right_deg=180.0))

    def full_sphere(self) -> None:
        """Everything: straight up and straight down too."""
        self.state.apply(
            edits.set_wish("Plan the full sphere", left_deg=-180.0, right_deg=180.0, low_deg=-90.0, high_deg=90.0)
        )

    def save_angles(self) -> None:
        """Write the angle list as text."""
        name, _ = QFileDialog.getSaveFileName(self, "Save the angle list", "angles.txt", "Text (*.txt)")
        if name:
            try:
                write_text(Path(name), angle_list(self.state.plan))
                self.state.told.emit(f"Angle list saved: {name}", False)
            except LanternError as error:
                self.state.told.emit(error.sentence, True)

    def _row_chosen(self) -> None:
        model = self.angles.selectionModel()
        rows = model.selectedRows() if model is not None else []
        if rows:
            self.state.select(rows[0].row() + 1)

    # --- showing ----------------------------------------------------------------

    def _refresh(self, topics: set[str]) -> None:
        plan = self.state.plan
        if "plan" in topics:
            for key, field in self.fields.items():
                source = plan.wish if hasattr(plan.wish, key) else plan.rig
                field.show_value(float(getattr(source, key)))
            self.model.setCurrentIndex(MODELS.index(plan.rig.lens_model))
            self.held.setText("Held upright" if plan.rig.upright else "Held sideways")
            self._show_results()
            self._show_angles()
        if topics & {"plan", "choices"}:
            self.remarks.show_judgements(
                plan.judgements,
                self.state.outing.put_aside,
                "Nothing speaks against this plan: the whole field is covered, as sampled on the sphere.",
            )
        if "selection" in topics or "plan" in topics:
            self._show_selection()

    def _show_results(self) -> None:
        plan = self.state.plan
        n, rows = len(plan.frames), plan.rows
        self.count.setText(
            f"{n} frame{'s' if n != 1 else ''}" + (f" in {len(rows)} rows" if len(rows) > 1 else " in one row")
        )
        wide, high = (v * 57.29578 for v in plan.rig.lens().field_rad())
        shown = rows if len(rows) <= 6 else rows[:5]
        described = ", ".join(f"{len(r)} at {units.angle(r[0].pitch_deg)}" for r in shown)
        more = f" and {len(rows) - 5} rows more" if len(rows) > 6 else ""
        self.rows_text.setText(f"{described}{more}. Each frame sees {units.angle(wide)} by {units.angle(high)}.")
        c = plan.coverage
        overlap = (
            "one frame, no neighbour"
            if c.smallest_overlap is None or c.smallest_between is None
            else (f"{units.share(c.smallest_overlap)} (frames {c.smallest_between[0]} and {c.smallest_between[1]})")
        )
        self.facts["overlap"].setText(overlap)
        s = plan.size
        self.facts["size"].setText(
            f"{units.grouped(s.width_px)} × {units.grouped(s.height_px)} px, {units.megapixels(s.pixels)}"
        )
        self.facts["projection"].setText(s.projection)
        w, h = s.print_mm(_PRINT_DPI)
        imperial = self.window_.settings.imperial
        self.facts["print"].setText(f"{units.length(w, imperial)} × {units.length(h, imperial)}")
        self.facts["time"].setText(f"about {units.duration(plan.shoot_s)}")

    def _show_angles(self) -> None:
        frames = self.state.plan.frames
        self.angles.blockSignals(True)
        self.angles.setUpdatesEnabled(False)
        self.angles.setRowCount(len(frames))
        for i, f in enumerate(frames):
            for j, text in enumerate((str(f.number), str(f.row), units.angle(f.yaw_deg), units.angle(f.pitch_deg))):
                item = self.angles.item(i, j)
                if item is None:
                    item = QTableWidgetItem()
                    item.setTextAlignment(int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter))
                    self.angles.setItem(i, j, item)
                item.setText(text)
        self.angles.setUpdatesEnabled(True)
        self.angles.blockSignals(False)

    def _show_selection(self) -> None:
        self.angles.blockSignals(True)
        if self.state.selected:
            self.angles.selectRow(self.state.selected - 1)
        else:
            self.angles.clearSelection()
        self.angles.blockSignals(False)
