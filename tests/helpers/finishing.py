"""The Finish stage of a window as tests look at it and work with it."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtWidgets import QSlider
from pytestqt.qtbot import QtBot

from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.app.window import Window
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import region


def steps(w: Window) -> tuple[Any, ...]:
    return w.state.outing.finish.steps


def pixels(w: Window) -> np.ndarray:
    """All of the picture as it is shown."""
    source = w.finish_stage.view.source
    assert source is not None
    return region(source, Rectangle(0, 0, *source.sizes[0]))[..., :3].astype(int)


def drag(qtbot: QtBot, w: Window, *places: tuple[float, float]) -> None:
    """Press, move and let go through shares of the view."""
    view = w.finish_stage.view
    at = [QPoint(round(x * view.width()), round(y * view.height())) for x, y in places]
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, pos=at[0])
    for place in at[1:]:
        qtbot.mouseMove(view, place)
        w_event(view, place)
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=at[-1])


def w_event(view: Any, place: QPoint) -> None:
    """A move with the button down, which the tests of Qt send without it."""
    from PyQt6.QtCore import QEvent
    from PyQt6.QtGui import QMouseEvent

    left = Qt.MouseButton.LeftButton
    view.mouseMoveEvent(
        QMouseEvent(
            QEvent.Type.MouseMove,
            QPointF(place),
            QPointF(view.mapToGlobal(place)),
            left,
            left,
            Qt.KeyboardModifier.NoModifier,
        )
    )


def field(w: Window, name: str) -> QuantityEdit:
    return w.finish_stage.panel.rows[name].field


def slider(w: Window, name: str) -> QSlider:
    return w.finish_stage.panel.rows[name].slider
