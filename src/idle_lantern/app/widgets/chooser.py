"""A drop-down that looks like one, shows all it offers, and changes only when it is meant."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QFontMetrics, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PyQt6.QtWidgets import QComboBox, QStyle, QStyleOptionComboBox, QStylePainter, QWidget

_ARROW_PX, _PADDING_PX = 22, 8
#: So many entries are shown without scrolling.
_MOST_SHOWN = 24


class Chooser(QComboBox):
    """The one kind of drop-down of the program."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setMaxVisibleItems(_MOST_SHOWN)
        # the wheel scrolls the page; it turns the choice only where that has the focus by a click or a key
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is None:
            return
        if self.hasFocus():
            super().wheelEvent(event)
        else:
            event.ignore()

    def showPopup(self) -> None:
        # what was looked at and left by Escape is not where the list opens next time
        view, model = self.view(), self.model()
        if view is not None and model is not None:
            view.setCurrentIndex(model.index(self.currentIndex(), self.modelColumn()))
        super().showPopup()

    def _cut(self, text: str, metrics: QFontMetrics, room: int) -> str:
        """A text cut to the room so that it still differs from those of the other entries."""
        others = [t for i in range(self.count()) if (t := self.itemText(i)) != text]
        modes = (Qt.TextElideMode.ElideRight, Qt.TextElideMode.ElideMiddle, Qt.TextElideMode.ElideLeft)
        cuts = [metrics.elidedText(text, mode, room) for mode in modes]
        alike = [{metrics.elidedText(other, mode, room) for other in others} for mode in modes]
        return next((cut for cut, same in zip(cuts, alike) if cut not in same), cuts[0])

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QStylePainter(self)
        option = QStyleOptionComboBox()
        self.initStyleOption(option)
        painter.drawComplexControl(QStyle.ComplexControl.CC_ComboBox, option)
        # what does not fit ends in dots, not under the arrow
        room = self.width() - _ARROW_PX - 2 * _PADDING_PX
        option.currentText = self._cut(option.currentText or "", option.fontMetrics, room)
        painter.drawControl(QStyle.ControlElement.CE_ComboBoxLabel, option)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        pen = QPen(self.palette().color(self.foregroundRole()), 1.6)
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        painter.setPen(pen)
        x, y = self.width() - 14.0, self.height() / 2
        painter.drawPolyline(QPolygonF([QPointF(x - 4, y - 2), QPointF(x, y + 2.5), QPointF(x + 4, y - 2)]))
