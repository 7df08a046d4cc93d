"""A field for one quantity: accepts how people write it, refuses in one sentence, forgets nothing."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QLineEdit, QWidget

from idle_lantern.app.widgets.basics import set_look_property
from idle_lantern.core.base.errors import LanternError


class QuantityEdit(QLineEdit):
    """Shows a value by ``write``, reads it by ``parse``; what cannot be read stays to be mended.

    ``submitted`` carries the value; ``refused`` the sentence, ``mended`` says that it no longer holds. Up and Down change the
    value by ``step``; Escape brings the last good value back.
    """

    submitted = pyqtSignal(float)
    refused = pyqtSignal(str)
    mended = pyqtSignal()

    def __init__(
        self,
        name: str,
        parse: Callable[[str], float],
        write: Callable[[float], str],
        step: float = 1.0,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self.setAccessibleName(name)
        self.setAcceptDrops(False)  # files that are dropped here are meant for the window
        self.setProperty("kind", "figure")
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self._name, self._parse, self._write, self._step = name, parse, write, step
        self._value = 0.0
        self._came = False
        self.editingFinished.connect(self._read)

    @property
    def value(self) -> float:
        """The last good value."""
        return self._value

    def show_value(self, value: float) -> None:
        """Show a value that came from elsewhere; text that is typed or was refused stays until it is mended."""
        changed = value != self._value
        self._value = value
        if self.isModified() and (self.property("wrong") or (self.hasFocus() and not changed)):
            return
        self.setText(self._write(value))
        self._mark("")

    def forget(self) -> None:
        """What was typed belongs to something that is no longer shown."""
        self.setText(self._write(self._value))
        self.setModified(False)
        self._mark("")

    def mark_refused(self, sentence: str) -> None:
        """Mark the text as wrong from outside: it could be read but not used."""
        self._mark(sentence)

    def _read(self) -> None:
        if not self.isModified() and self.text() == self._write(self._value):
            return
        try:
            value = self._parse(self.text())
        except LanternError as error:
            sentence = f"{self._name}: {error.sentence}"
            self._mark(sentence)
            self.refused.emit(sentence)
            return
        self.setModified(False)
        self._forgive()
        self.submitted.emit(value)

    def _forgive(self) -> None:
        """What was refused is mended: whoever told of it may take that back."""
        wrong = bool(self.property("wrong"))
        self._mark("")
        if wrong:
            self.mended.emit()

    def _mark(self, sentence: str) -> None:
        set_look_property(self, "wrong", bool(sentence))
        self.setToolTip(sentence)
        self.setAccessibleDescription(sentence)

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        super().focusInEvent(event)
        # the first click selects all, so that typing replaces; another one sets the cursor
        self._came = event is not None and event.reason() == Qt.FocusReason.MouseFocusReason

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        super().mouseReleaseEvent(event)
        if self._came and not self.hasSelectedText():
            self.selectAll()
        self._came = False

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        if event.key() == Qt.Key.Key_Escape:
            self.setText(self._write(self._value))
            self._forgive()
            self.setModified(False)
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            sign = 1 if event.key() == Qt.Key.Key_Up else -1
            self.submitted.emit(self._value + sign * self._step)
        else:
            super().keyPressEvent(event)
