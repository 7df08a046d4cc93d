"""What every stage has in common: the desk it works at, and the ground it is drawn on."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from idle_lantern.app.context import AppContext


class Stage(QWidget):
    """One stage of the work."""

    def __init__(self, context: AppContext) -> None:
        super().__init__()
        self.context = context
        self.state = context.state
        self.setObjectName("ground")
