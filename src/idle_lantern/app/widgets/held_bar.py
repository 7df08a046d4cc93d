"""The tool in hand, over the picture: what a click will do, the size of its brush, and the way out."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtWidgets import QFrame, QSlider

from idle_lantern.app import theme
from idle_lantern.app.widgets.basics import button, label, row
from idle_lantern.app.widgets.picture_tools import BrushTool, PictureTool
from idle_lantern.app.widgets.picture_view import PictureView

_AWAY_PX = 8


class HeldBar(QFrame):
    """A bar at the top of a picture while a tool is held; the picture below it does not move."""

    def __init__(self, view: PictureView, leave: Callable[[], object]) -> None:
        super().__init__(view)
        self._view = view
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.told = label("", wrap=True, name="held-told")
        self.brush = QSlider(Qt.Orientation.Horizontal)
        self.brush.setRange(round(BrushTool.LEAST_PX), round(BrushTool.MOST_PX))
        self.brush.setAccessibleName("Size of the brush on the screen, in pixels")
        self.brush.setObjectName("held-brush")
        self.brush.valueChanged.connect(self._set_brush)
        self._brush_told = label("", "dim", name="held-brush-told")
        for sized in (self.brush, self._brush_told):
            sized.setToolTip("Size of the brush on the screen; [ and ] change it")
        self.done = button("Put it down   [Esc]", leave, name="held-done")
        layout = row(space=theme.SPACE)
        layout.setContentsMargins(10, 4, 6, 4)
        layout.addWidget(self.told, 1)
        for part in (self.brush, self._brush_told, self.done):
            layout.addWidget(part)
        self.setLayout(layout)
        view.installEventFilter(self)
        view.tool_changed.connect(self._show_brush)
        self.hide()

    def hold(self, tool: PictureTool | None, hint: str) -> None:
        """Give the picture a tool and tell of it; None puts down what is held."""
        self._view.set_tool(tool)
        if tool is not None:
            self._view.setFocus()
        self.show_tool(hint, brush=isinstance(tool, BrushTool))

    def show_tool(self, hint: str, *, brush: bool = False) -> None:
        """Tell of a tool; without a hint there is none in hand."""
        self.told.setText(hint)
        for part in (self.brush, self._brush_told):
            part.setVisible(brush)
        self._show_brush()
        self.setVisible(bool(hint))
        if hint:
            self.raise_()
            self._place()

    def _set_brush(self, size: int) -> None:
        if size != round(BrushTool.radius_px):
            BrushTool.radius_px = float(size)
        self._show_brush()
        self._view.update()

    def _show_brush(self) -> None:
        self.brush.setValue(round(BrushTool.radius_px))
        self._brush_told.setText(f"{2 * BrushTool.radius_px:.0f} px")

    def _place(self) -> None:
        width = max(200, self._view.width() - 2 * _AWAY_PX)
        self.brush.setFixedWidth(theme.scaled(110))
        self.setGeometry(_AWAY_PX, _AWAY_PX, width, self.heightForWidth(width))

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """It keeps the picture's width."""
        if watched is self._view and event is not None and event.type() == QEvent.Type.Resize and self.isVisible():
            self._place()
        return False
