"""Typing into the window's fields as a person does."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLineEdit, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from idle_lantern.app.window import Window


def retype(qtbot: QtBot, edit: QLineEdit, text: str) -> None:
    """Replace what stands in a field, and press Return."""
    edit.setFocus()
    edit.selectAll()
    qtbot.keyClick(edit, Qt.Key.Key_Delete)
    qtbot.keyClicks(edit, text)
    qtbot.keyClick(edit, Qt.Key.Key_Return)


def retype_field(qtbot: QtBot, window: Window, field: str, text: str) -> QLineEdit:
    """The same for a field of Plan by its name; its page is opened."""
    edit = window.plan_stage.reveal(field)
    retype(qtbot, edit, text)
    return edit


def press_act(qtbot: QtBot, over: QWidget, name: str) -> None:
    """Press the button of that name that is seen somewhere in a widget."""
    button = next(b for b in over.findChildren(QPushButton, name) if b.isVisible())
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
