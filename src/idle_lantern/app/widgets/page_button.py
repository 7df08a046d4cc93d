"""One page in a list of pages: its name, and under it its state in a few words."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton, QVBoxLayout

from idle_lantern.app.widgets.basics import label, set_look_property


class PageButton(QPushButton):
    """Chosen is told by a bar at its left and by bold type, not only by tone."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setCheckable(True)
        self.setProperty("page", True)
        self.setAccessibleName(name)
        self.setObjectName("page-" + name.lower().replace(" ", "-"))
        self._name, self._state = label(name), label("", "dim")
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 0, 4, 0)
        box.setSpacing(0)
        for part in (self._name, self._state):
            part.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
            box.addWidget(part)

    def show_state(self, state: str) -> None:
        """A few words below the name; what does not fit is cut with dots and told in the tool tip."""
        metrics = self._state.fontMetrics()
        self._state.setText(metrics.elidedText(state, Qt.TextElideMode.ElideRight, max(60, self.width() - 18)))
        self.setToolTip(state)
        self.setAccessibleDescription(state)

    def show_chosen(self, chosen: bool) -> None:
        """Mark the page that is open."""
        self.setChecked(chosen)
        set_look_property(self._name, "chosen", chosen)
