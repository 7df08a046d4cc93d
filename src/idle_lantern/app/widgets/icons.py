"""Icons of the tools: one family of line drawings that take the colour of the text beside them."""

from __future__ import annotations

from functools import lru_cache
from importlib import resources

from PyQt6.QtCore import QByteArray, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPixmap
from PyQt6.QtSvg import QSvgRenderer

from idle_lantern.app import theme

_FOLDER = resources.files("idle_lantern.app").joinpath("resources/icons")


def has_icon(action_id: str) -> bool:
    """Whether an action has an icon."""
    return _FOLDER.joinpath(f"{action_id}.svg").is_file()


def icon(action_id: str, tone: str, size_px: int, dense: float) -> QPixmap:
    """The icon of an action in a tone of the look in force; ``dense`` is screen pixels for a pixel of the widget."""
    return _drawn(action_id, theme.colour(tone).rgba(), size_px, dense)


@lru_cache(maxsize=512)
def _drawn(action_id: str, rgba: int, size_px: int, dense: float) -> QPixmap:
    side = round(size_px * dense)
    drawn = QPixmap(side, side)
    drawn.fill(Qt.GlobalColor.transparent)
    painter = QPainter(drawn)
    QSvgRenderer(QByteArray(_FOLDER.joinpath(f"{action_id}.svg").read_bytes())).render(
        painter, QRectF(0, 0, side, side)
    )
    painter.setCompositionMode(QPainter.CompositionMode.CompositionMode_SourceIn)
    painter.fillRect(drawn.rect(), QColor.fromRgba(rgba))
    painter.end()
    drawn.setDevicePixelRatio(dense)
    return drawn
