"""What every stage has in common: the desk it works at, and the ground it is drawn on."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.widgets.picture_desk import PictureDesk


class Stage(QWidget):
    """One stage of the work."""

    def __init__(self, context: AppContext) -> None:
        super().__init__()
        self.context = context
        self.state = context.state
        self.setObjectName("ground")
        #: Where a picture is the subject: picture, tools and panel.
        self.picture_desk: PictureDesk | None = None

    def held_tools(self) -> set[str]:
        """Actions whose tool is in hand, or whose view is on."""
        return set()
