"""The one message line: problems stay until dismissed, the rest fades."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt, QTimer
from PyQt6.QtGui import QPainter, QPaintEvent, QTextOption
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.app.widgets.basics import button

#: What is no problem is shown for so long.
_FADES_MS = 8000


class _TwoLines(QLabel):
    """Words in at most two lines; what is more ends in dots, and all of it stands in the tip. It asks for no room of its own."""

    def sizeHint(self) -> QSize:
        """As high as the line it lies in."""
        return QSize(0, theme.scaled(theme.FOOT) - 2)

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setPen(theme.colour("warn" if self.property("role") == "warn" else "text"))
        text, box = self.text(), QRectF(self.rect())
        for size in (theme.BODY, theme.SMALL):
            painter.setFont(theme.font(size))
            metrics = painter.fontMetrics()
            if metrics.horizontalAdvance(text) <= box.width():
                painter.drawText(box, int(Qt.AlignmentFlag.AlignVCenter), text)
                painter.end()
                return
        option = QTextOption(Qt.AlignmentFlag.AlignVCenter)
        option.setWrapMode(QTextOption.WrapMode.WordWrap)
        flags = int(Qt.TextFlag.TextWordWrap)
        while text and metrics.boundingRect(box.toRect(), flags, text).height() > 2 * metrics.lineSpacing() + 2:
            text = text[:-2].rstrip(" …") + "…" if len(text) > 3 else ""
        painter.drawText(box, text, option)
        painter.end()


class MessageLine(QWidget):
    """What the program has to say, in one sentence."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._text = _TwoLines()
        self._text.setObjectName("message")
        self._text.setAccessibleName("Message")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self._fade = QTimer(self)
        self._fade.setSingleShot(True)
        # a bound method: a lambda could outlive the window and be called by the timer
        self._fade.timeout.connect(self.clear)
        self._dismiss = button("Dismiss", self.clear)
        self._dismiss.hide()
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(self._text, 1)
        line.addWidget(self._dismiss)

    def tell(self, sentence: str, problem: bool) -> None:
        """Say a sentence; an empty one clears the line."""
        self._text.setText(f"◆ {sentence}" if problem and sentence else sentence)
        self._text.setProperty("role", "warn" if problem else "")
        self._text.setToolTip(sentence)
        self._text.update()
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
