"""One stage in the line of stages."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton, QVBoxLayout

from idle_lantern.app.widgets.basics import label, set_look_property


class StageTab(QPushButton):
    """One stage in the line: its name, and under it what it still lacks."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setCheckable(True)
        self.setProperty("stage", True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(name)
        self.setObjectName(f"tab-{name.lower()}")
        self._name = label(name, "stage")
        self._lacks = label("", "dim")
        box = QVBoxLayout(self)
        box.setContentsMargins(14, 5, 8, 6)
        box.setSpacing(1)
        for part in (self._name, self._lacks):
            part.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
            box.addWidget(part)

    def show_state(self, lacks: str, chosen: bool) -> None:
        """What it lacks, and whether it is open (a bar and bold type, not only a tone)."""
        self._lacks.setText(lacks)
        self.setAccessibleDescription(lacks)
        self.setChecked(chosen)
        set_look_property(self._name, "chosen", chosen)
