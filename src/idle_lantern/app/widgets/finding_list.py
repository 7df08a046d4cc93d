"""What a careful look found, line by line; the chosen line is shown at its place."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QListWidget, QListWidgetItem


class FindingList(QListWidget):
    """Lines of text; tells the number of the one chosen by mouse, keys or ``step``."""

    chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("findings")
        self.setAccessibleName("Findings")
        self.setWordWrap(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.currentRowChanged.connect(lambda at: self.chosen.emit(at) if at >= 0 else None)

    def show_lines(self, lines: Sequence[str]) -> None:
        """Replace what is listed; nothing is chosen."""
        self.blockSignals(True)
        self.clear()
        for line in lines:
            self.addItem(QListWidgetItem(line))
        self.setCurrentRow(-1)
        self.blockSignals(False)

    def step(self) -> None:
        """The next line, after the last the first."""
        if self.count():
            self.setCurrentRow((self.currentRow() + 1) % self.count())
