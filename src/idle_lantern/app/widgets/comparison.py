"""A picture as it was beside what became of it: across a line that is dragged, or both side by side."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QWidget

from idle_lantern.app import theme
from idle_lantern.app.widgets.picture_tiles import PictureTiles
from idle_lantern.app.widgets.sight import Sight
from idle_lantern.app.widgets.tile_loader import TileLoader
from idle_lantern.core.pictures.source import PictureSource

Way = Literal["", "split", "beside", "before"]

#: The line is grabbed from so near, and kept so far from the rim.
_GRAB_PX, _RIM_PX = 9.0, 12.0
_AFTER = "Finished"


class Comparison:
    """The other picture of a view, of the same size, and how the two are shown."""

    def __init__(self, view: QWidget) -> None:
        self._view = view
        self._loader = TileLoader(view)
        self._loader.loaded.connect(view.update)
        self._tiles = PictureTiles(self._loader)
        self._source: PictureSource | None = None
        self._name_of_other = ""
        self.way: Way = ""
        #: Where the line stands, as a share of the view's width.
        self.line = 0.5
        self._held = False

    @property
    def ready(self) -> bool:
        """Whether nothing of it is being read."""
        return not self.way or self._loader.idle

    def set_source(self, source: PictureSource | None, name: str = "As joined") -> None:
        """The other picture, and what it is called over it."""
        self._name_of_other = name
        if source is not self._source:
            self._source = source
            self._tiles.set_source(source)

    def stop(self) -> None:
        """Let go of it, for closing."""
        self._source, self.way = None, ""
        self._loader.stop()

    def sight_of_present(self, sight: Sight) -> Sight:
        """Which part of the widget the present picture has: the right half where both stand side by side."""
        return replace(sight, widget=(sight.widget[0] // 2, sight.widget[1])) if self._halves else sight

    @property
    def offset_px(self) -> float:
        """How far right the present picture begins."""
        return self._view.width() - self._view.width() // 2 if self._halves else 0

    @property
    def _halves(self) -> bool:
        return self.way == "beside" and self._source is not None

    def paint(self, painter: QPainter, sight: Sight, *, moving: bool) -> bool:
        """Draw what it was over the view's own picture; whether all of it was there."""
        if not self.way or self._source is None:
            return True
        width, height = self._view.width(), self._view.height()
        edge = {"split": round(self.line * width), "beside": width // 2, "before": width}[self.way]
        painter.save()
        painter.setClipRect(QRectF(0, 0, edge, height))
        painter.fillRect(QRectF(0, 0, edge, height), theme.colour("ground"))
        complete = self._tiles.paint(painter, self.sight_of_present(sight), moving=moving)
        painter.restore()
        if self.way != "before":
            for pen in (QPen(theme.colour("ground", 200), 4), QPen(theme.colour("text"), 1.4)):
                painter.setPen(pen)
                painter.drawLine(QPointF(edge, 0), QPointF(edge, height))
        self._name(painter, self._name_of_other, min(edge - 6, width - 6), Qt.AlignmentFlag.AlignRight)
        if self.way != "before":
            self._name(painter, _AFTER, edge + 6, Qt.AlignmentFlag.AlignLeft)
        return complete

    def _name(self, painter: QPainter, words: str, x: float, side: Qt.AlignmentFlag) -> None:
        painter.setFont(theme.font(theme.SMALL, bold=True))
        size = painter.fontMetrics().size(0, words)
        wide, high = size.width() + 12, size.height() + 4
        left = x - wide if side == Qt.AlignmentFlag.AlignRight else x
        box = QRectF(left, self._view.height() - high - 8, wide, high)
        painter.fillRect(box, theme.colour("ground", 210))
        painter.setPen(theme.colour("text"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    def over_line(self, pos: QPointF) -> bool:
        """Whether the line lies under the pointer."""
        return self.way == "split" and abs(pos.x() - self.line * self._view.width()) < _GRAB_PX

    def press(self, pos: QPointF) -> bool:
        """Grab the line, where it is there."""
        self._held = self.over_line(pos)
        return self._held

    def move(self, pos: QPointF) -> bool:
        """The line follows the hand."""
        if self._held:
            width = max(1, self._view.width())
            self.line = min(max(pos.x(), _RIM_PX), width - _RIM_PX) / width
            self._view.update()
        return self._held

    def release(self) -> bool:
        """Let it go."""
        held, self._held = self._held, False
        return held
