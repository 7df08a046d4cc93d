"""The queue: folders that are joined and delivered by themselves, and what came out of each."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QHeaderView, QListWidget, QTableWidget, QTableWidgetItem, QWidget

from idle_lantern.app import queue_model as model
from idle_lantern.app.arrivals import FilesDialog
from idle_lantern.app.context import AppContext
from idle_lantern.app.settings import shown
from idle_lantern.app.widgets.basics import button, column, label, panel_form, row
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.deliver.presets import presets, presets_folder
from idle_lantern.core.outing.batch_rows import Row

QUEUE = "Joining and delivering the queue"
_USUAL = "archive"


class QueueDialog(FilesDialog):
    """Stays while its work goes on; ``open_asked`` names the folder of a picture that shall be looked at."""

    open_asked = pyqtSignal(Path)

    def __init__(self, context: AppContext, parent: QWidget | None) -> None:
        super().__init__(parent)
        self._context = context
        self.setWindowTitle("Many folders at once")
        self.setObjectName("queue")
        self.resize(860, 640)
        self.folders: tuple[Path, ...] = ()
        self.out = Path.home() / "delivered"
        self._rows: list[Row] = []
        self._task: Any = None
        self.list = QListWidget()
        self.list.setObjectName("queue-folders")
        self.list.setAccessibleName("Folders in their order")
        self.list.currentRowChanged.connect(lambda _row: self._arm())
        self.add_button = button("Add a folder …", self._ask_folder, name="queue-add")
        self.drop_button = button("Take it away", self._drop, name="queue-drop")
        self.up_button = button("Earlier", lambda: self._move(-1), name="queue-earlier")
        self.down_button = button("Later", lambda: self._move(1), name="queue-later")
        self.preset = Chooser()
        self.preset.setObjectName("queue-preset")
        self.preset.setAccessibleName("Deliver as")
        for known in presets(presets_folder()):
            self.preset.addItem(known.name, known.name)
        self.preset.setCurrentIndex(max(0, self.preset.findData(_USUAL)))
        self.where = label("", "dim", name="queue-out")
        self.where_button = button("Into another folder …", self._ask_out, quiet=True, name="queue-into")
        self.table = QTableWidget(0, 3)
        self.table.setObjectName("queue-rows")
        self.table.setAccessibleName("What came out")
        self.table.setHorizontalHeaderLabels(["Picture", "State", "Why"])
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QTableWidget.SelectionMode.SingleSelection)
        self.table.setWordWrap(True)
        self.table.itemSelectionChanged.connect(self._arm)
        self.table.cellDoubleClicked.connect(lambda _row, _column: self._open())
        heads, down = self.table.horizontalHeader(), self.table.verticalHeader()
        assert heads is not None
        assert down is not None
        heads.setStretchLastSection(True)
        heads.setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        heads.setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        down.hide()
        self.told = label("", "figure", name="queue-told")
        self.open_button = button("Open it under Join", self._open, name="queue-open")
        self.begin_button = button("Begin", self.begin, main=True, name="queue-begin")
        self.stop_button = button("Stop", self.stop, name="queue-stop")
        self.setLayout(
            column(
                label("Each folder is sorted into its runs, joined, and delivered by a preset; outings are finished by their own recipe. "
                      "What is done already is not done again.", wrap=True),
                self.list,
                row(self.add_button, self.drop_button, self.up_button, self.down_button, None),
                panel_form([("Deliver as", self.preset)]),
                row(self.where, None, self.where_button),
                self.table,
                row(self.told, None, self.open_button, self.stop_button, self.begin_button),
                margin=16,
            )
        )  # fmt: skip
        self._arm()

    # --- what waits -------------------------------------------------------------

    def add(self, paths: Sequence[Path]) -> None:
        """Let folders wait at the end; files are told."""
        kept = [path for path in paths if path.is_dir() and path not in self.folders]
        if paths and not kept:
            self._context.tell("A queue takes folders, each once.")
        self.folders = (*self.folders, *kept)
        self._show_folders(len(self.folders) - 1)

    def _ask_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "A folder of pictures, a card or an outing", str(Path.home()))
        if name:
            self.add([Path(name)])

    def _drop(self) -> None:
        at = self.list.currentRow()
        self.folders = tuple(f for k, f in enumerate(self.folders) if k != at)
        self._show_folders(min(at, len(self.folders) - 1))

    def _move(self, by: int) -> None:
        at = self.list.currentRow()
        before, self.folders = self.folders, model.moved(self.folders, at, by)
        self._show_folders(at + by if before != self.folders else at)

    def _show_folders(self, at: int) -> None:
        self.list.clear()
        self.list.addItems([shown(folder) for folder in self.folders])
        self.list.setCurrentRow(at)
        self._arm()

    def _ask_out(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Where the pictures go", str(self.out.parent))
        if name:
            self.out = Path(name)
            self._arm()

    # --- work -------------------------------------------------------------------

    def begin(self) -> None:
        """Begin, or go on where it was stopped."""
        queue = model.Queue(self.folders, str(self.preset.currentData()), self.out)
        if not queue.folders or self._task is not None:
            return

        def work(task: Any) -> list[Row]:
            return model.run(queue, task, task.show)

        self._show_rows([])
        self._task = self._context.start(
            QUEUE, work, self._show_rows, self._failed, weights={"batch": 1.0}, on_partial=self._show_rows,
            on_ended=self._ended,
        )  # fmt: skip
        self._arm()

    def stop(self) -> None:
        """Stop; what was delivered stays, and beginning again goes on."""
        if self._task is not None:
            self._task.cancel()

    def _failed(self, error: LanternError) -> None:
        self._context.tell(error.sentence)

    def _ended(self) -> None:
        self._task = None
        self._arm()

    # --- what came out ----------------------------------------------------------

    def _show_rows(self, rows: list[Row]) -> None:
        self._rows = list(rows)
        self.table.setRowCount(len(rows))
        for k, one in enumerate(rows):
            for c, text in enumerate((model.named(one), model.STATES.get(one.state, one.state), one.why)):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                item.setTextAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(k, c, item)
        self.table.resizeRowsToContents()
        self._arm()

    def _chosen(self) -> Row | None:
        at = self.table.currentRow()
        return self._rows[at] if 0 <= at < len(self._rows) and self.table.selectedItems() else None

    def _open(self) -> None:
        chosen = self._chosen()
        if chosen is not None:
            self.open_asked.emit(Path(chosen.folder))

    def _arm(self) -> None:
        """Only what can be done can be pressed."""
        works, at = self._task is not None, self.list.currentRow()
        enabled: list[tuple[QWidget, bool]] = [
            (self.add_button, not works),
            (self.drop_button, not works and at >= 0),
            (self.up_button, not works and at > 0),
            (self.down_button, not works and 0 <= at < len(self.folders) - 1),
            (self.preset, not works),
            (self.where_button, not works),
            (self.begin_button, not works and bool(self.folders)),
            (self.stop_button, works),
            (self.open_button, self._chosen() is not None),
        ]
        for widget, on in enabled:
            widget.setEnabled(on)
        self.where.setText(f"Into {shown(self.out)}")
        self.told.setText(f"{model.summed_up(self._rows)}{' …' if works else ''}")
