"""What every stage has in common: the desk it works at, and the ground it is drawn on."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from idle_lantern.app.desk import Desk


class Stage(QWidget):
    """One stage of the work."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.state = desk.state
        self.setObjectName("ground")
