"""The angles in order of shooting, and the plan in and out as files."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
)

from idle_lantern.app import theme
from idle_lantern.app.planning.topics.base import Topic
from idle_lantern.app.widgets.basics import button, column, label, row
from idle_lantern.core.base import units
from idle_lantern.core.plan.planner import Plan


class AnglesTopic(Topic):
    """The angles in order of shooting, and the plan in and out as files."""

    title = "Angles and card"

    def build(self, box: Any) -> None:
        self.table = QTableWidget(0, 5)
        self.table.setAccessibleName("Angles in order of shooting")
        self.table.setHorizontalHeaderLabels(["frame", "row", "scale", "yaw", "pitch"])
        self.table.verticalHeader().setVisible(False)  # type: ignore[union-attr]
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)  # type: ignore[union-attr]
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QTableWidget.SelectionMode.SingleSelection)
        self.table.setFont(theme.font())
        self.table.itemSelectionChanged.connect(self._row_chosen)
        box.add(self.table, 2)
        box.add(
            column(
                label("Field card", "head"),
                label("Angles, settings, sketch, times and check list, for the pocket.", "dim", wrap=True),
                row(button("Field card …", self.commands.save_card, name="save-card"), None),
                label("Plan as a file", "head"),
                row(button("Angle list …", self.commands.save_angles, name="save-angles"), None),
                row(
                    button("Save plan …", self.commands.save_plan, name="save-plan"),
                    button("Bring one in …", self.commands.ask_plan, name="bring-plan"),
                    None,
                ),
                self.told(_given, "fact-given"),
                None,
            ),
        )

    def summary(self, plan: Plan) -> str:
        return f"{len(plan.frames)} frames"

    def show_plan(self, plan: Plan) -> None:
        super().show_plan(plan)
        self.table.blockSignals(True)
        self.table.setUpdatesEnabled(False)
        self.table.setRowCount(len(plan.frames))
        for i, f in enumerate(plan.frames):
            texts = (
                str(f.number),
                str(f.row),
                units.angle(plan.scale_reading(f)),
                units.angle(f.yaw_deg),
                units.angle(f.pitch_deg),
            )
            for j, text in enumerate(texts):
                item = self.table.item(i, j)
                if item is None:
                    item = QTableWidgetItem()
                    item.setTextAlignment(int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter))
                    self.table.setItem(i, j, item)
                if item.text() != text:
                    item.setText(text)
        self.table.setUpdatesEnabled(True)
        self.table.blockSignals(False)

    def show_selection(self, number: int | None) -> None:
        """Choose a frame's row."""
        self.table.blockSignals(True)
        if number:
            self.table.selectRow(number - 1)
        else:
            self.table.clearSelection()
        self.table.blockSignals(False)

    def _row_chosen(self) -> None:
        model = self.table.selectionModel()
        rows = model.selectedRows() if model is not None else []
        if rows:
            self.state.select(rows[0].row() + 1)


def _given(plan: Plan) -> str:
    return "These frames were brought in; a change of the field plans anew." if plan.given else ""
