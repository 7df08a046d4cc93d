"""Blocks beside each other; those for which there is no room come below."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QSize
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QLayout, QVBoxLayout, QWidget

from idle_lantern.app import theme


class Blocks(QWidget):
    """Rows of blocks, as many to a row as its width holds."""

    def __init__(self) -> None:
        super().__init__()
        self._blocks: list[tuple[QWidget, int]] = []
        self._rows: list[list[int]] = []
        self._below = QVBoxLayout(self)
        self._below.setContentsMargins(0, 0, 0, 0)
        self._below.setSpacing(theme.SPACE * 2)

    def add(self, block: QWidget | QLayout, share: int) -> None:
        """One more, with its share of what a row has to spare."""
        if isinstance(block, QLayout):
            holder = QWidget()
            holder.setLayout(block)
            block = holder
        self._blocks.append((block, share))

    def minimumSizeHint(self) -> QSize:
        """As wide as the widest block, since the others can go below it."""
        widest = max((b.minimumSizeHint().width() for b, _ in self._blocks), default=0)
        return QSize(widest, super().minimumSizeHint().height())

    def event(self, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.LayoutRequest:  # a block needs more room, or less
            self._arrange()
        return super().event(event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self._arrange()
        super().resizeEvent(event)

    def _arrange(self) -> None:
        rows: list[list[int]] = []
        left = -1
        for i, (block, _share) in enumerate(self._blocks):
            wide = block.minimumSizeHint().width()
            if left < wide + self._below.spacing():
                rows.append([])
                left = self.width() + self._below.spacing()
            rows[-1].append(i)
            left -= wide + self._below.spacing()
        if rows == self._rows:
            return
        self._rows = rows
        while (old := self._below.takeAt(0)) is not None:
            beside = old.layout()
            if beside is not None:
                while beside.takeAt(0) is not None:
                    pass
                beside.deleteLater()
        for row in rows:
            beside = QHBoxLayout()
            beside.setSpacing(self._below.spacing())
            for i in row:
                beside.addWidget(*self._blocks[i])
            self._below.addLayout(beside)
        self._below.setStretch(len(rows) - 1, 1)
