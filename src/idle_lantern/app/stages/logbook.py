"""Logbook: the outings so far, to open again or to begin a new one."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem

from idle_lantern.app import settings, theme
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.stages.join import PICTURE
from idle_lantern.app.widgets.basics import button, column, label, row
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.outing import document
from idle_lantern.core.plan.planner import make_plan

if TYPE_CHECKING:
    from idle_lantern.app.window import Window


@dataclass(frozen=True)
class OutingSummary:
    """One outing as the list shows it; ``fault`` when it cannot be opened."""

    folder: Path
    name: str
    created: str = ""
    planned: int = 0
    frames: int = 0
    joined: bool = False
    note: str = ""
    fault: str = ""


def entries(root: Path) -> list[OutingSummary]:
    """All outings below ``root``, the newest first."""
    found = []
    for file in sorted(root.glob(f"*/{document.DOCUMENT}")) if root.is_dir() else []:
        folder = file.parent
        try:
            o = document.load(folder)
        except LanternError as error:
            found.append(OutingSummary(folder, folder.name, fault=error.sentence))
            continue
        planned = len(make_plan(o.brief).frames)
        joined = (folder / document.PICTURES / PICTURE).exists()
        found.append(OutingSummary(folder, o.name, o.created, planned, len(o.frames), joined, o.note))
    return sorted(found, key=lambda e: e.created, reverse=True)


class LogbookStage(Stage):
    """What was done, when."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.table = QTableWidget(0, 6)
        self.table.setAccessibleName("Outings")
        self.table.setHorizontalHeaderLabels(["outing", "begun", "planned", "frames", "joined", "note"])
        header = self.table.horizontalHeader()
        if header is not None:
            header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            header.setStretchLastSection(True)
            header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        side = self.table.verticalHeader()
        if side is not None:
            side.setVisible(False)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QTableWidget.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setShowGrid(False)
        self.table.itemActivated.connect(lambda item: self._open(item.row()))
        self.where = label("", "dim")
        self.setLayout(
            column(
                label("Outings", "head"),
                self.table,
                self.where,
                row(
                    button("Open", self._open_chosen, name="open-outing"),
                    button("New outing …", window.new_outing, name="new-outing"),
                    button("Open another folder …", window.ask_open),
                    None,
                ),
                margin=16,
                space=theme.SPACE,
            )
        )
        self._entries: list[OutingSummary] = []

    def showEvent(self, event: Any) -> None:
        self.state.save_now()
        self._entries = entries(settings.outings_folder())
        self.where.setText(f"Kept in {settings.shown(settings.outings_folder())}")
        self.table.setRowCount(len(self._entries))
        for i, e in enumerate(self._entries):
            here = " (open)" if self.state.folder and e.folder.resolve() == self.state.folder.resolve() else ""
            cells = (
                e.name + here,
                e.created.replace("T", "  "),
                f"{e.planned}" if not e.fault else "",
                f"{e.frames}" if not e.fault else "",
                "yes" if e.joined else "no" if not e.fault else "",
                e.fault or e.note.replace("\n", "  "),
            )
            for j, text in enumerate(cells):
                self.table.setItem(i, j, QTableWidgetItem(text))
        super().showEvent(event)

    def _open_chosen(self) -> None:
        model = self.table.selectionModel()
        rows = model.selectedRows() if model is not None else []
        if rows:
            self._open(rows[0].row())
        else:
            self.state.message.emit("Choose an outing in the list first.", True)

    def _open(self, index: int) -> None:
        self.window_.open_outing(self._entries[index].folder)
