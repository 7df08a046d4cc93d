"""Logbook: the outings so far, to open again or to begin a new one."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import QFile, Qt, pyqtSignal
from PyQt6.QtWidgets import QHeaderView, QMessageBox, QTableWidget, QTableWidgetItem

from idle_lantern.app import settings, theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.widgets.basics import button, column, label, row
from idle_lantern.core.base import units
from idle_lantern.core.outing.index import OutingIndex, OutingSummary
from idle_lantern.course.record import practice_file, practised, read_rows

LISTING = "Listing the outings"


class LogbookStage(Stage):
    """What was done, when."""

    opened = pyqtSignal(object)

    def __init__(self, context: AppContext) -> None:
        super().__init__(context)
        self._index = OutingIndex()
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
        self.table.setTabKeyNavigation(False)  # Tab goes on to the buttons, arrows walk the list
        self.table.itemActivated.connect(lambda item: self._open(item.row()))
        self.where = label("", "dim")
        self.practised = label("", wrap=True, name="practised")
        self.setLayout(
            column(
                label("Outings", "head"),
                self.table,
                self.where,
                self.practised,
                row(
                    button("Open", self._open_chosen, name="open-outing"),
                    button("New outing …", lambda: context.ask("outing.new"), name="new-outing"),
                    button("Open another folder …", lambda: context.ask("outing.open")),
                    button("Practise …   [Ctrl + L]", lambda: context.ask("practice.open"), name="open-practice"),
                    button("Move to the trash …", self.discard_chosen, name="discard-outing"),
                    None,
                ),
                margin=16,
                space=theme.SPACE,
            )
        )
        self._entries: list[OutingSummary] = []

    def showEvent(self, event: Any) -> None:
        self.show_outings()
        super().showEvent(event)

    def show_outings(self) -> None:
        """List the outings anew, off the thread."""
        self.state.save_now()
        root = settings.outings_folder()
        elsewhere = [Path(folder) for folder in self.context.settings.elsewhere]
        self.where.setText(f"Kept in {settings.shown(root)}")
        self.practised.setText(practised(read_rows(practice_file())))
        self.context.start(
            LISTING,
            lambda task: self._index.listed(root, elsewhere, task),
            self._show,
            lambda e: self.context.tell(e.sentence),
            quiet=True,
        )

    def _show(self, entries: list[OutingSummary]) -> None:
        self._entries = entries
        self.table.setRowCount(len(entries))
        here = self.state.folder.resolve() if self.state.folder else None
        for i, e in enumerate(entries):
            cells = (
                e.name + (" (open)" if e.folder.resolve() == here else ""),
                e.created.replace("T", "  "),
                f"{e.planned}" if not e.fault else "",
                f"{e.frames}" if not e.fault else "",
                "yes" if e.joined else "no" if not e.fault else "",
                e.fault or e.note.replace("\n", "  "),
            )
            for j, text in enumerate(cells):
                self.table.setItem(i, j, QTableWidgetItem(text))
            if e.folder.resolve() == here:
                self.table.selectRow(i)

    def discard_chosen(self) -> None:
        """Move the chosen outing's folder to the trash, from where it can be brought back."""
        row_ = self.table.currentRow()
        if not 0 <= row_ < len(self._entries):
            self.context.tell("Choose an outing in the list first.")
            return
        entry = self._entries[row_]
        if self.state.folder is not None and entry.folder.resolve() == self.state.folder.resolve():
            self.context.tell(f"'{entry.name}' is open. Open another outing first, then move it to the trash.")
            return
        answer = QMessageBox.question(
            self,
            "Move to the trash",
            f"Move '{entry.name}' with its {units.counted(entry.frames, 'frame')} to the trash? "
            f"Its folder is {settings.shown(entry.folder)}. Pictures that lie elsewhere stay.",
            QMessageBox.StandardButton.Yes | QMessageBox.StandardButton.No,
            QMessageBox.StandardButton.No,
        )
        if answer != QMessageBox.StandardButton.Yes:
            return
        if QFile.moveToTrash(str(entry.folder))[0]:
            self.context.tell(f"'{entry.name}' lies in the trash.", problem=False)
        else:
            self.context.tell(f"'{entry.name}' could not be moved to the trash; it stays where it is.")
        self.show_outings()

    def _open_chosen(self) -> None:
        model = self.table.selectionModel()
        rows = model.selectedRows() if model is not None else []
        if rows:
            self._open(rows[0].row())
        else:
            self.context.tell("Choose an outing in the list first.")

    def _open(self, index: int) -> None:
        self.opened.emit(self._entries[index].folder)
