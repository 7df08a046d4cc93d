"""How often each tone is shown: three lines, and marks at the ends where something is cut."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.core.base.arrays import Array

#: Red, green and blue that stand apart on dark and on light ground, also by their brightness.
_TONES = (QColor(214, 92, 84), QColor(96, 170, 92), QColor(92, 128, 220))
_HIGH_PX, _END_PX = 58, 5


class HistogramView(QWidget):
    """Shows heights by colour; nothing where there are none."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Tones of the picture")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._heights: Array = np.zeros((3, 0))
        self._ends = (False, False)

    def sizeHint(self) -> QSize:
        """As wide as the panel."""
        return QSize(180, theme.scaled(_HIGH_PX))

    def minimumSizeHint(self) -> QSize:
        """It keeps its height."""
        return QSize(60, theme.scaled(_HIGH_PX))

    def show_heights(self, heights: Array, *, black: bool, white: bool) -> None:
        """Heights (3, n) from 0 to 1, and whether anything is cut to black, or to white."""
        self._heights, self._ends = heights, (black, white)
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("ground"))
        high, wide = self.height() - 4, self.width() - 2 * _END_PX
        for values, tone in zip(self._heights, _TONES):
            if not len(values):
                continue
            x = _END_PX + (np.arange(len(values)) + 0.5) / len(values) * wide
            places = [QPointF(float(a), 2 + high * (1 - float(b))) for a, b in zip(x, values)]
            line = QPolygonF(places)
            area = QPolygonF([QPointF(_END_PX, high + 2), *places, QPointF(_END_PX + wide, high + 2)])
            fill = QColor(tone)
            fill.setAlpha(38)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(fill)
            painter.drawPolygon(area)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(tone, 1.3))
            painter.drawPolyline(line)
        for cut, left in zip(self._ends, (0, self.width() - _END_PX + 2)):
            if cut:
                painter.fillRect(left, 2, _END_PX - 2, high, theme.colour("warn"))
        painter.end()
