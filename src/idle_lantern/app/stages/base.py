"""What every stage has in common: its window, the state, the ground it is drawn on."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

if TYPE_CHECKING:
    from idle_lantern.app.window import Window


class Stage(QWidget):
    """One stage of the work."""

    def __init__(self, window: Window) -> None:
        super().__init__()
        self.window_ = window
        self.state = window.state
        self.setObjectName("ground")
