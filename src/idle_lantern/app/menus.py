"""Menus and keys from the one table of actions."""

from __future__ import annotations

import time
from collections.abc import Callable

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QAction, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QLineEdit, QMainWindow, QPlainTextEdit, QWidget

from idle_lantern.app.actions import ACTIONS, Action, shown_keys
from idle_lantern.app.history import History

#: A key that is held for longer than this after it opened a field is meant for the field.
_HELD_S = 1.0


def sequences(keys: str) -> list[QKeySequence]:
    """Keys of an action; what is pressed with plus is also with the equals sign, which is plus without Shift on many keyboards."""
    if not keys:
        return []
    also = [keys[:-1] + "="] if keys.endswith("+") and "Shift" not in keys else []
    return [QKeySequence(k) for k in (keys, *also)]


class Menus(QObject):
    """The menu bar and the shortcuts; what runs and whether it can is asked of the window."""

    def __init__(self, window: QMainWindow, trigger: Callable[[str], None], ready: Callable[[Action], bool]) -> None:
        super().__init__(window)
        self._ready = ready
        self.items: dict[str, QAction] = {}
        self.history: Callable[[], History] = History
        bar = window.menuBar()
        assert bar is not None
        menus = {}
        for action in ACTIONS:
            if action.menu not in menus:
                menu = menus[action.menu] = bar.addMenu(f"&{action.menu}")
                if menu is not None:
                    menu.aboutToShow.connect(self._enable)
                    menu.aboutToHide.connect(self.rearm)
            item = QAction(action.title, window)
            item.setShortcuts(sequences(action.keys))
            item.triggered.connect(lambda _c=False, i=action.id: trigger(i))
            self.items[action.id] = item
            window.addAction(item)
            menu = menus[action.menu]
            if menu is not None:
                menu.addAction(item)
        self._stage = ""
        self._opened_at = 0.0
        self._bar = bar

    def open_first(self) -> None:
        """Open the menus by key; arrows lead on from there."""
        self._bar.setActiveAction(self._bar.actions()[0])

    def _enable(self) -> None:
        """For a menu that opens: what cannot run now is shown so. The trigger asks again by itself."""
        history = self.history()
        for action in ACTIONS:
            item = self.items[action.id]
            item.setEnabled(self._ready(action))
            if action.keys and not self._is_here(action):  # told, though it works in its own stage only
                item.setText(f"{action.title}\t{shown_keys(action)}")
            if action.id == "edit.undo":
                item.setText(f"Undo: {history.undo_title}" if history.undo_title else "Undo")
            elif action.id == "edit.redo":
                item.setText(f"Redo: {history.redo_title}" if history.redo_title else "Redo")

    def arm(self, stage: str) -> None:
        """Keys work in their own stage only, so that two stages may use the same; none is switched off."""
        self._stage = stage
        self.rearm()

    def rearm(self) -> None:
        """Set the keys of the present stage again."""
        for action in ACTIONS:
            item, here = self.items[action.id], self._is_here(action)
            item.setShortcuts(sequences(action.keys) if here else [])
            item.setEnabled(True)
            if "\t" in item.text():
                item.setText(action.title)

    def _is_here(self, action: Action) -> bool:
        return not action.stage or action.stage == self._stage

    def follow_focus(self, _before: QWidget | None, now: QWidget | None) -> None:
        """Listen to the field that is typed into, and to nothing else: a filter for all events costs time at each of them."""
        if isinstance(now, (QLineEdit, QPlainTextEdit)):
            self._opened_at = time.monotonic()
            now.removeEventFilter(self)  # never twice
            now.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """While text is typed, plain keys are letters and not shortcuts; the key that opened a field and is still held types nothing."""
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.isAutoRepeat()
            and time.monotonic() - self._opened_at < _HELD_S
        ):
            return True
        if (
            event is not None
            and event.type() == QEvent.Type.ShortcutOverride
            and isinstance(watched, (QLineEdit, QPlainTextEdit))
            and hasattr(event, "modifiers")
            and event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier)
            and event.key() not in (Qt.Key.Key_F1, Qt.Key.Key_F9, Qt.Key.Key_F10)  # type: ignore[attr-defined]
        ):
            event.accept()
            return False
        return super().eventFilter(watched, event)
