"""Blocks of one width beside each other, as many as there is room for; the others fold below.

All pages share the width, so fields stand at the same places from page to page and never drift apart. Of what a wide
window has to spare only blocks that draw something take more.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QSize, Qt
from PyQt6.QtGui import QResizeEvent, QShowEvent
from PyQt6.QtWidgets import QLayout, QScrollArea, QWidget

from idle_lantern.app import theme

_GAP = 14
#: A drawing gains nothing by being wider.
_MOST_COLUMNS = 4


@dataclass(frozen=True)
class _Place:
    x: int
    y: int
    width: int
    height: int


class Blocks(QWidget):
    """Blocks placed in columns, each where its column is the shortest."""

    def __init__(self) -> None:
        super().__init__()
        self._blocks: list[tuple[QWidget, int]] = []

    def add(self, block: QWidget | QLayout, columns: int = 1) -> None:
        """One more; with more than one column it may grow wider still where there is room."""
        if isinstance(block, QLayout):
            holder = QWidget()
            block.setContentsMargins(0, 0, 0, 0)
            holder.setLayout(block)
            block = holder
        block.setParent(self)
        self._blocks.append((block, columns))

    def height_for(self, width: int) -> int:
        """The height that all blocks need at a width."""
        return max((p.y + p.height for p in self._places(width)), default=0)

    def columns_at(self, width: int) -> int:
        """How many columns stand beside each other."""
        return max(1, (width + _GAP) // (theme.column_px() + _GAP))

    def minimumSizeHint(self) -> QSize:
        """One column wide: the others can go below it."""
        return QSize(theme.column_px(), self.minimumHeight())

    def event(self, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.LayoutRequest:  # a block needs more room, or less
            self._arrange()
        return super().event(event)

    def showEvent(self, event: QShowEvent | None) -> None:
        self._arrange()  # words may have changed while another page was open
        super().showEvent(event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self._arrange()
        super().resizeEvent(event)

    def _arrange(self) -> None:
        places = self._places(self.width())
        needed = max((p.y + p.height for p in places), default=0)
        if needed != self.minimumHeight():
            self.setMinimumHeight(needed)
        for (block, _), place in zip(self._blocks, places):
            below = any(o.y > place.y and o.x < place.x + place.width and place.x < o.x + o.width for o in places)
            tall = not below and block.sizePolicy().expandingDirections() & Qt.Orientation.Vertical
            height = max(place.height, self._sight() - place.y) if tall else place.height
            block.setGeometry(place.x, place.y, place.width, height)

    def _sight(self) -> int:
        area = self.parentWidget()
        return area.height() if area is not None and isinstance(area.parentWidget(), QScrollArea) else self.height()

    def _places(self, width: int) -> list[_Place]:
        columns, column = self.columns_at(width), theme.column_px()
        spans = _spans([wanted for _, wanted in self._blocks], columns)
        bottoms = [0] * columns
        places = []
        for (block, wanted), span in zip(self._blocks, spans):
            starts = range(columns - span + 1)
            at = min(starts, key=lambda s, n=span: (max(bottoms[s : s + n]), s))  # type: ignore[misc]
            y = max(bottoms[at : at + span])
            y += _GAP if y else 0
            wide = min(width, span * column + (span - 1) * _GAP)
            if wanted > 1 and span == columns:  # all there is, between two numbers of columns too
                wide = min(width, _MOST_COLUMNS * column)
            tall = block.heightForWidth(wide) if block.hasHeightForWidth() else block.sizeHint().height()
            places.append(_Place(at * (column + _GAP), y, wide, max(tall, block.minimumSizeHint().height())))
            bottoms[at : at + span] = [y + places[-1].height] * span
        return places


def _spans(wanted: Sequence[int], columns: int) -> list[int]:
    """Columns by block: as wanted where there are so many, and for wide ones a share of what one row leaves."""
    spans = [min(n, columns) for n in wanted]
    spare = columns - sum(spans)
    for i, n in enumerate(wanted):
        if n > 1 and spare > 0:
            more = min(spare, _MOST_COLUMNS - spans[i])
            spans[i] += max(0, more)
            spare -= max(0, more)
    return spans
