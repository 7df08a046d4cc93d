"""What is told after a window ended badly: what is safe, and a report that goes nowhere by itself."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Protocol

from PyQt6.QtWidgets import QCheckBox, QDialog, QFileDialog, QPlainTextEdit, QWidget

from idle_lantern.app import theme
from idle_lantern.app.widgets.basics import button, column, label, row
from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import LanternError


class Report(Protocol):
    """What is known of a window that ended badly."""

    def report(self, *, with_paths: bool) -> str:
        """The text to be read."""


class CrashDialog(QDialog):
    """Shows the report, and saves it where the person says."""

    def __init__(self, crashes: Sequence[Report], safe: str, tell: Callable[[str], None], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("The last window was not closed")
        self._crashes, self._tell = crashes, tell
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setAccessibleName("Report")
        self.paths = QCheckBox("With the names of folders and files")
        self.paths.toggled.connect(self._show)
        self.safe = label(safe)
        self.safe.setWordWrap(True)
        hint = label("This report is sent nowhere. You may save it, read it, and hand it on to whom you like.", "dim")
        hint.setWordWrap(True)
        self.setLayout(
            column(
                label("Idle Lantern did not end as it should", "head"),
                self.safe,
                self.text,
                self.paths,
                hint,
                row(None, button("Save the report …", self.ask_save, name="save-report"), button("Close", self.accept)),
                margin=16,
                space=theme.SPACE,
            )
        )
        self.resize(760, 520)
        self._show()

    def _show(self, _on: bool = False) -> None:
        texts = (crash.report(with_paths=self.paths.isChecked()) for crash in self._crashes)
        self.text.setPlainText("\n\n".join(texts))

    def ask_save(self) -> None:
        """Ask for a file and write the report as it is shown."""
        name, _ = QFileDialog.getSaveFileName(self, "Save the report", "idle-lantern-report.txt", "Text (*.txt)")
        if name:
            try:
                write_text(Path(name), self.text.toPlainText())
            except LanternError as error:
                self._tell(error.sentence)
