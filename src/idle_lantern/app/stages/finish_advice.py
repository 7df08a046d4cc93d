"""What the finished picture is objected to, as lines with a button each."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from idle_lantern.app.widgets.basics import button, column, emptied, label, row
from idle_lantern.core.advice.advice import Advice


class AdviceList(QWidget):
    """``taken`` gets the advice whose button was pressed."""

    taken = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.shown: tuple[Advice, ...] = ()
        self._lines = column()
        self._lines.setContentsMargins(0, 0, 0, 0)
        whole = column(label("Looked over", "head"), self._lines)
        whole.setContentsMargins(0, 0, 0, 0)
        self.setLayout(whole)
        self.setVisible(False)

    def show_advice(self, advice: Sequence[Advice]) -> None:
        """Show these and no others; nothing where there are none."""
        if tuple(advice) == self.shown:
            return
        self.shown = tuple(advice)
        emptied(self._lines)
        for one in self.shown:
            said = f"{one.sentence} {one.remedy}"
            self._lines.addWidget(label(said, "dim", wrap=True, name=f"finish-advice-{one.what}"))
            if one.button:
                act = button(one.button, lambda one=one: self.taken.emit(one), name=f"finish-take-{one.what}")  # type: ignore[misc]
                act.setToolTip(said)
                self._lines.addLayout(row(act, None))
        self.setVisible(bool(self.shown))
