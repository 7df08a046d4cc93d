"""The tiles of a picture on the screen: of the level that suits the zoom, coarser ones until those are read."""

from __future__ import annotations

import math

import numpy as np
from cachetools import LRUCache
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QImage, QPainter

from idle_lantern.app.display import to_qimage
from idle_lantern.app.widgets.sight import Sight
from idle_lantern.app.widgets.tables import mapped, table_of
from idle_lantern.app.widgets.tile_loader import Key, ShownTile, TileLoader, cached
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.merging.development import Development
from idle_lantern.core.pictures.source import PictureSource

#: Tiles kept as they are developed, and the side of the square whose mean is a picked colour.
_DEVELOPED_TILES, _PICKED_PX = 120, 5
#: Above this zoom pixels are shown as squares: there one looks at pixels.
_SQUARES_FROM = 2.0


class PictureTiles:
    """Paints one source after the other; ``loader`` reads what is missing."""

    def __init__(self, loader: TileLoader) -> None:
        self._loader = loader
        self._serial = 0
        #: The picture before this one that was shown whole, of the same size: its tiles stand for those that are missing.
        self._stand_in = self._whole = 0
        self._source: PictureSource | None = None
        self._development = Development()
        self._developed: LRUCache[Key, tuple[ShownTile, Development, QImage]] = LRUCache(_DEVELOPED_TILES)

    @property
    def serial(self) -> int:
        """Number of the source among all that were shown: tiles are kept under it."""
        return self._serial

    def set_source(self, source: PictureSource | None) -> None:
        """Show another picture, or none."""
        self._source, self._serial = source, self._loader.set_source(source)
        self._stand_in = self._whole = 0

    def set_variant(self, source: PictureSource) -> None:
        """Show the same picture made otherwise: what was shown stays until its tiles are read."""
        self._stand_in = self._whole or self._stand_in
        self._source, self._serial = source, self._loader.set_source(source, self._stand_in)

    def set_development(self, development: Development) -> bool:
        """Show the picture as it is developed; whether that is another development."""
        changed = development != self._development
        self._development = development
        return changed

    def paint(self, painter: QPainter, sight: Sight, *, moving: bool = False, rough: bool = False) -> bool:
        """Draw what is in sight as far as it is read, and ask for the rest; whether all of it was there.

        While the picture is ``moving`` pixels are not smoothed: that takes three times as long, and nobody sees it. A ``rough``
        one has half as many across.
        """
        source = self._source
        assert source is not None
        level = _level_for(source, sight)
        if rough and level + 1 < len(source.sizes):
            level += 1
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, sight.zoom < _SQUARES_FROM and not moving)
        missing: list[Key] = []
        for row, column in _in_sight(source, level, sight):
            key = (self._serial, level, row, column)
            tile = cached(key)
            if tile is None:
                missing.append(key)
                before = cached((self._stand_in, *key[1:])) if self._stand_in else None
                if before is not None:
                    painter.drawImage(_place_of(source, sight, level, row, column), self._image(key, before))
                else:
                    missing += self._paint_coarser(painter, source, sight, key)
            else:
                painter.drawImage(_place_of(source, sight, level, row, column), self._image(key, tile))
        # the coarsest first, then from the middle outwards
        missing.sort(key=lambda k: (-k[1] if k[1] > level else 0, _from_middle(source, sight, k)))
        self._loader.want(list(dict.fromkeys(missing)))
        if not missing:
            self._whole = self._serial
        return not missing

    def colour_at(self, place: QPointF, sight: Sight) -> Array | None:
        """Mean display values (3,) about a place of the picture in its own space, as they were read; None where nothing is read yet."""
        source = self._source
        if source is None:
            return None
        level = _level_for(source, sight)
        width, height = source.sizes[level]
        x, y = place.x() * width / sight.picture[0], place.y() * height / sight.picture[1]
        if not (0 <= x < width and 0 <= y < height):
            return None
        side = source.tile_px
        tile = cached((self._serial, level, int(y) // side, int(x) // side))
        if tile is None:
            return None
        column, row = int(x) % side, int(y) % side
        reach = _PICKED_PX // 2
        part = tile.pixels[max(0, row - reach) : row + reach + 1, max(0, column - reach) : column + reach + 1]
        return np.asarray(part.reshape(-1, 3).mean(0))

    def _image(self, key: Key, tile: ShownTile) -> QImage:
        table = table_of(self._development, tile.space)
        if table is None:
            return tile.image
        kept = self._developed.get(key)
        if kept is None or kept[0] is not tile or kept[1] != self._development:
            image = to_qimage(mapped(tile.pixels, table), tile.space)
            kept = self._developed[key] = (tile, self._development, image)
        return kept[2]

    def _paint_coarser(self, painter: QPainter, source: PictureSource, sight: Sight, missing: Key) -> list[Key]:
        """Fill a tile's place from the next coarser level that is there; where none is, the coarsest is asked for."""
        _serial, level, row, column = missing
        key = missing
        for coarser in range(level + 1, len(source.sizes)):
            halvings = coarser - level
            key = (self._serial, coarser, row >> halvings, column >> halvings)
            tile = cached(key) or (cached((self._stand_in, *key[1:])) if self._stand_in else None)
            if tile is not None:
                image = self._image(key, tile)
                target = _place_of(source, sight, level, row, column)
                whole = _place_of(source, sight, *key[1:])
                fx, fy = image.width() / whole.width(), image.height() / whole.height()
                part = QRectF(
                    (target.x() - whole.x()) * fx,
                    (target.y() - whole.y()) * fy,
                    target.width() * fx,
                    target.height() * fy,
                )
                painter.drawImage(target, image, part)
                return []
        return [] if key == missing else [key]


def _level_for(source: PictureSource, sight: Sight) -> int:
    """The coarsest level that still has a pixel for each of the screen."""
    level = 0
    while level + 1 < len(source.sizes) and source.sizes[level + 1][0] / sight.picture[0] >= sight.screen_zoom * 0.99:
        level += 1
    return level


def _in_sight(source: PictureSource, level: int, sight: Sight) -> list[tuple[int, int]]:
    """Rows and columns of the tiles of a level that the widget shows."""
    width, height = source.sizes[level]
    across, down = width / sight.picture[0], height / sight.picture[1]
    shown, side = sight.shown, source.tile_px
    first_column, first_row = (max(0, int(x) // side) for x in (shown.left() * across, shown.top() * down))
    last_column = min((width - 1) // side, math.floor((shown.left() + shown.width()) * across) // side)
    last_row = min((height - 1) // side, math.floor((shown.top() + shown.height()) * down) // side)
    return [(r, c) for r in range(first_row, last_row + 1) for c in range(first_column, last_column + 1)]


def _place_of(source: PictureSource, sight: Sight, level: int, row: int, column: int) -> QRectF:
    """Where a tile lies in the widget, in whole pixels of the screen: between parts of pixels the ground shows."""
    width, height = source.sizes[level]
    side = source.tile_px
    across, down = sight.picture[0] / width, sight.picture[1] / height
    left, top = column * side, row * side
    right, bottom = min(width, left + side), min(height, top + side)
    return QRectF(
        sight.snapped(QPointF(left * across, top * down)), sight.snapped(QPointF(right * across, bottom * down))
    )


def _from_middle(source: PictureSource, sight: Sight, key: Key) -> float:
    centre = _place_of(source, sight, *key[1:]).center()
    return math.hypot(centre.x() - sight.widget[0] / 2, centre.y() - sight.widget[1] / 2)
