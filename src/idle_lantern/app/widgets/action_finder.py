"""The searchable list of all actions with their keys, asked in one's own words."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QWidget

from idle_lantern.app import theme
from idle_lantern.app.actions import Action, by_id, shown_keys
from idle_lantern.app.widgets.basics import column, label
from idle_lantern.app.wishes import find


def _place(action: Action) -> str:
    return f"in {action.stage.capitalize()}" if action.stage else ""


class ActionFinder(QDialog):
    """Type some letters, choose with the arrows, Enter runs."""

    def __init__(
        self,
        can: Callable[[Action], bool],
        why_not: Callable[[Action], str],
        trigger: Callable[[str], None],
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Find an action")
        self.resize(560, 440)
        self._can, self._why_not, self._trigger = can, why_not, trigger
        self.search = QLineEdit()
        self.search.setPlaceholderText("Say what you want to do, in your own words")
        self.search.setAccessibleName("Search actions")
        self.list = QListWidget()
        self.list.setAccessibleName("Actions")
        self.list.setFont(theme.font())
        self.why = label("", "warn", wrap=True)
        self.setLayout(column(label("All actions and their keys", "head"), self.search, self.list, self.why, margin=16))
        self.search.textChanged.connect(self._fill)
        self.search.installEventFilter(self)
        self.search.returnPressed.connect(self._run)
        self.list.itemActivated.connect(lambda _i: self._run())
        self._fill("")

    def _fill(self, text: str) -> None:
        self.list.clear()
        found = find(text)
        nothing = "Nothing here goes by that name. Say it in other words, or look through the menus with F10."
        self.why.setText(found.sentence or ("" if found.actions else nothing))
        for action in found.actions:
            keys, place = shown_keys(action), _place(action)
            item = QListWidgetItem("   ".join(t for t in (action.title, place, f"[{keys}]" if keys else "") if t))
            item.setData(Qt.ItemDataRole.UserRole, action.id)
            if not self._can(action):
                item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEnabled)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _run(self) -> None:
        item = self.list.currentItem()
        if item is None:
            return
        if not item.flags() & Qt.ItemFlag.ItemIsEnabled:
            action = by_id(item.data(Qt.ItemDataRole.UserRole))
            self.why.setText(self._why_not(action))
            return
        self.accept()
        self._trigger(item.data(Qt.ItemDataRole.UserRole))

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down)
        ):
            self.list.setCurrentRow(self.list.currentRow() + (1 if event.key() == Qt.Key.Key_Down else -1))
            return True
        return super().eventFilter(watched, event)
