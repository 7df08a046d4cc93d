"""One stage in the line of stages."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPaintEvent
from PyQt6.QtWidgets import QPushButton, QSizePolicy

from idle_lantern.app import theme

_EDGE_PX, _GAP_PX = 12, 10


class StageTab(QPushButton):
    """One stage in the line: its name, and beside it what it still lacks, as far as there is room for that."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setCheckable(True)
        self.setProperty("stage", True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(name)
        self.setObjectName(f"tab-{name.lower()}")
        self._name, self.lacks = name, ""

    def show_state(self, lacks: str, chosen: bool) -> None:
        """What it lacks, and whether it is open (a bar and bold type, not only a tone)."""
        self.lacks = lacks
        self.setAccessibleDescription(lacks)
        self.setToolTip(f"{self._name}: {lacks}" if lacks else self._name)
        self.setChecked(chosen)
        self.update()

    def sizeHint(self) -> QSize:
        """Room for the name."""
        width = QFontMetricsF(theme.font(theme.HEAD, bold=True)).horizontalAdvance(self._name)
        return QSize(round(width) + 2 * _EDGE_PX, theme.scaled(theme.TAB))

    def minimumSizeHint(self) -> QSize:
        """The name is never cut; what is lacking may be."""
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        box = QRectF(self.rect()).adjusted(_EDGE_PX, 2, -_EDGE_PX / 2, 0)
        middle = int(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        painter.setFont(theme.font(theme.HEAD, bold=self.isChecked()))
        painter.setPen(theme.colour("text"))
        painter.drawText(box, middle, self._name)
        left = painter.fontMetrics().horizontalAdvance(self._name) + _GAP_PX
        painter.setFont(theme.font(theme.SMALL))
        painter.setPen(theme.colour("dim"))
        rest = box.adjusted(left, 1, 0, 0)
        words = painter.fontMetrics().elidedText(self.lacks, Qt.TextElideMode.ElideRight, int(rest.width()))
        if rest.width() > 24:
            painter.drawText(rest, middle, words)
        painter.end()
