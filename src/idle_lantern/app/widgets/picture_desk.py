"""Where a picture is the subject: the picture with all the room, its tools beside it, and a panel of words and figures."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PyQt6.QtWidgets import QWidget

from idle_lantern.app import theme
from idle_lantern.app.widgets.basics import column, panel, row, scrolled
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.tool_palette import ToolPalette


class PictureDesk(QWidget):
    """Picture, tools and panel side by side; the panel scrolls, what stands below it does not, and both can be folded away.

    ``content`` scrolls, and is called ``name`` by screen readers; ``below`` are the main buttons, which stay in their place.
    """

    def __init__(
        self, view: PictureView, tools: ToolPalette, content: Sequence[Any], below: Sequence[Any], name: str
    ) -> None:
        super().__init__()
        self.setObjectName("ground")
        self.view, self.tools = view, tools
        inner = column(*content, margin=theme.SPACE + 2)
        self.words = scrolled(panel(inner, "panel"), name)
        lower = column(*below, margin=theme.SPACE + 2)
        self.panel = panel(column(self.words, panel(lower, "panel"), space=0), "side")
        layout = row(space=0)
        layout.addWidget(view, 1)
        layout.addWidget(tools)
        layout.addWidget(self.panel)
        self.setLayout(layout)

    def fold(self, folded: bool, *, tools_too: bool = False) -> None:
        """Put the panel away, or bring it back; with ``tools_too`` the tools go with it."""
        self.panel.setVisible(not folded)
        self.tools.setVisible(not tools_too)
