"""The one message line: problems stay until dismissed, the rest fades."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from idle_lantern.app.widgets.basics import button, label, set_look_property

#: What is no problem is shown for so long.
_FADES_MS = 8000


class MessageLine(QWidget):
    """What the program has to say, in one sentence."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._text = label("", name="message")
        self._text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self._fade = QTimer(self)
        self._fade.setSingleShot(True)
        # a bound method: a lambda could outlive the window and be called by the timer
        self._fade.timeout.connect(self.clear)
        self._dismiss = button("Dismiss", self.clear, quiet=True)
        self._dismiss.hide()
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(self._text, 1)
        line.addWidget(self._dismiss)

    def tell(self, sentence: str, problem: bool) -> None:
        """Say a sentence; an empty one clears the line."""
        self._text.setText(f"◆ {sentence}" if problem and sentence else sentence)
        set_look_property(self._text, "role", "warn" if problem else "")
        self._text.setToolTip(sentence)
        self._dismiss.setVisible(problem and bool(sentence))
        if sentence and not problem:
            self._fade.start(_FADES_MS)
        else:
            self._fade.stop()

    def clear(self) -> None:
        """Say nothing more."""
        self.tell("", False)

    def text(self) -> str:
        """What it says."""
        return self._text.text().removeprefix("◆ ")
