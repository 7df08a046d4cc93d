"""A picture of any size: zoom and pan without waiting, from tiles of a pyramid that are read meanwhile."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.app.widgets.over_picture import OverPicture
from idle_lantern.app.widgets.picture_tools import CropTool, PictureTool
from idle_lantern.app.widgets.tables import mapped_image, pixels_of
from idle_lantern.app.widgets.tile_loader import Key, TileLoader, cached
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import PictureSource

_MOST_ZOOM = 16.0
#: Tiles kept as a table shows them, and the side of the square whose mean is a picked colour.
_MAPPED_TILES, _PICKED_PX = 120, 5
#: A part that stands still for so long was looked at.
_DWELL_MS = 350

Array = NDArray[Any]


class PictureView(QWidget):
    """Shows a picture; wheel zooms at the pointer, drag pans, keys 0 and 1 fit and show 100 %."""

    zoomed = pyqtSignal(float)
    picked = pyqtSignal(object)  # the colour (3,) of a place that was clicked while picking, as it was read
    failed = pyqtSignal(str)
    looked = pyqtSignal(QRectF)  # a part of the picture in its pixels stood still, at 100 % or more, as sharp as it is
    tool_left = pyqtSignal()  # Escape: whoever gave the tool takes it back

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Picture")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(200, 120)
        self._source: PictureSource | None = None
        self._serial = 0
        self._loader = TileLoader(self)
        self._loader.loaded.connect(self.update)
        self._loader.failed.connect(self.failed)
        self._zoom = 1.0
        self._centre = QPointF(0, 0)
        self._fitted = True
        self._full_size = (0, 0)
        self._grab: QPointF | None = None
        self.crop: Rectangle | None = None
        self.over: OverPicture | None = None
        self._tool: PictureTool | None = None
        self.placeholder = ""
        self._table: Array | None = None
        self._seen: LRUCache[Key, QImage] = LRUCache(_MAPPED_TILES)
        self._picking = False
        self._dwelt = QRectF()
        self._dwell = QTimer(self)
        self._dwell.setSingleShot(True)
        self._dwell.setInterval(_DWELL_MS)
        self._dwell.timeout.connect(lambda: self.looked.emit(self._dwelt))

    def set_source(self, source: PictureSource | None, full_size: tuple[int, int] | None = None) -> None:
        """Show a picture; the view stays where it was when only the detail is new.

        ``full_size`` is the size that the picture stands for, when this is a rough first form of it.
        """
        before = self.size_px
        self._source, self._serial = source, self._loader.set_source(source)
        self._complete = False
        self._full_size = full_size or (source.sizes[0] if source is not None else (0, 0))
        if self.size_px != before or self._fitted:
            self.fit()
        self.update()

    def set_table(self, table: Array | None) -> None:
        """Show every value through a table of 8 bit (``tables.bytes_of``); None shows the picture as it is."""
        if table is self._table or (
            table is not None and self._table is not None and np.array_equal(table, self._table)
        ):
            return
        self._table = table
        self._seen.clear()
        self.update()

    def set_picking(self, picking: bool) -> None:
        """Let the next click tell a colour instead of moving the picture."""
        self._picking = picking
        self._show_cursor()

    @property
    def tool(self) -> PictureTool | None:
        """What takes over the pointer, where anything does."""
        return self._tool

    def set_tool(self, tool: PictureTool | None) -> None:
        """Let a tool take over the pointer; None lets it move the picture again."""
        self._tool = tool
        self._show_cursor()
        self.update()

    def _show_cursor(self) -> None:
        if self._tool is not None:
            self.setCursor(self._tool.cursor)
        elif self._picking:
            self.setCursor(Qt.CursorShape.CrossCursor)
        else:
            self.unsetCursor()

    @property
    def source(self) -> PictureSource | None:
        """The picture that is shown."""
        return self._source

    @property
    def ready(self) -> bool:
        """Whether everything in sight is shown as sharp as it can be."""
        return self._source is None or not self.isVisible() or (self._complete and self._loader.idle)

    @property
    def size_px(self) -> tuple[int, int]:
        """Width and height of the full picture."""
        return self._full_size

    def stop(self) -> None:
        """Let go of the picture and of what is being read; for closing."""
        self._source = None
        self._dwell.stop()
        self._loader.stop()

    @property
    def zoom(self) -> float:
        """Screen pixels per picture pixel; 1 is 100 %."""
        return self._zoom

    def fit(self) -> None:
        """Show all of it."""
        w, h = self.size_px
        if w == 0:
            return
        self._fitted = True
        self._centre = QPointF(w / 2, h / 2)
        self._set_zoom(min(self.width() / w, self.height() / h))

    def show_full(self) -> None:
        """Show 100 %: one picture pixel on one screen pixel."""
        self._fitted = False
        self._set_zoom(1.0 / self.devicePixelRatioF())

    def show_place(self, u: float, v: float) -> None:
        """Show 100 % with that pixel in the middle."""
        self._fitted = False
        self._centre = QPointF(u, v)
        self._set_zoom(1.0 / self.devicePixelRatioF())

    def zoom_by(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom about a point of the widget."""
        if self._source is None:
            return
        pivot = at or QPointF(self.width() / 2, self.height() / 2)
        fixed = self.to_picture(pivot)
        w, h = self.size_px
        least = min(1.0, self.width() / w, self.height() / h) * 0.5
        new = min(max(self._zoom * factor, least), _MOST_ZOOM)
        self._fitted = False
        offset = pivot - QPointF(self.width() / 2, self.height() / 2)
        self._centre = fixed - offset / new
        self._set_zoom(new)

    def to_picture(self, pos: QPointF) -> QPointF:
        """Widget place to picture place."""
        return self._centre + (pos - QPointF(self.width() / 2, self.height() / 2)) / self._zoom

    def to_widget(self, place: QPointF) -> QPointF:
        """Picture place to widget place."""
        return (place - self._centre) * self._zoom + QPointF(self.width() / 2, self.height() / 2)

    def _set_zoom(self, zoom: float) -> None:
        self._zoom = zoom
        self._complete = False  # known when it is painted
        self._keep_in_sight()
        self.zoomed.emit(zoom)
        self.update()

    def _keep_in_sight(self) -> None:
        w, h = self.size_px
        for get, put, size, extent in (
            (self._centre.x, self._centre.setX, w, self.width()),
            (self._centre.y, self._centre.setY, h, self.height()),
        ):
            half = extent / self._zoom / 2
            put(size / 2 if half * 2 >= size else min(max(get(), half), size - half))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.colour("ground"))
        if self._source is None:
            painter.setPen(theme.colour("dim"))
            painter.drawText(
                self.rect().adjusted(40, 20, -40, -20),
                int(Qt.AlignmentFlag.AlignCenter) | int(Qt.TextFlag.TextWordWrap),
                self.placeholder,
            )
            return
        self._paint_picture(painter)
        if self.crop is not None and not isinstance(self._tool, CropTool):
            c = self.crop
            box = QRectF(
                self.to_widget(QPointF(c.left, c.top)), self.to_widget(QPointF(c.left + c.width, c.top + c.height))
            )
            painter.setPen(QPen(theme.colour("ground"), 3))
            painter.drawRect(box)
            painter.setPen(QPen(theme.colour("accent"), 1.4, Qt.PenStyle.DashLine))
            painter.drawRect(box)
        if self.over is not None:
            self.over.draw(painter, self.to_widget)
        if self._tool is not None:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            self._tool.draw(painter, self.to_widget)
        painter.end()

    def _paint_picture(self, painter: QPainter) -> None:
        """Tiles of the level that suits the zoom; where one is not read yet, the next coarser that is there."""
        source = self._source
        assert source is not None
        level = self._level_for(source)
        # above 200 % pixels are shown as squares: there one looks at pixels
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self._zoom < 2.0)
        missing: list[Key] = []
        for row, column in self._in_sight(source, level):
            key = (self._serial, level, row, column)
            image = cached(key)
            if image is None:
                missing.append(key)
                self._paint_coarser(painter, source, level, row, column, missing)
            else:
                painter.drawImage(self._place_of(source, level, row, column), self._through_table(key, image))
        middle = self.rect().center()
        missing.sort(key=lambda k: (-k[1] if k[1] > level else 0, self._distance(source, k, QPointF(middle))))
        self._complete = not missing
        self._mark_dwelling()
        self._loader.want(list(dict.fromkeys(missing)))

    _complete = False

    def _mark_dwelling(self) -> None:
        """Note where the eye rests, once all of it is sharp; what passes by is not looked at."""
        here = QRectF(self.to_picture(QPointF(0, 0)), self.to_picture(QPointF(self.width(), self.height())))
        at_full = self._zoom * self.devicePixelRatioF() >= 0.99
        if not self._complete or not at_full or self._source is None or self._source.sizes[0] != self._full_size:
            self._dwell.stop()
            self._dwelt = QRectF()
        elif here != self._dwelt:
            self._dwelt = here
            self._dwell.start()

    def _through_table(self, key: Key, image: QImage) -> QImage:
        if self._table is None:
            return image
        seen = self._seen.get(key)
        if seen is None:
            seen = self._seen[key] = mapped_image(image, self._table)
        return seen

    def _colour_at(self, place: QPointF) -> Array | None:
        """Mean display values (3,) about a place of the picture, as they were read; None where nothing is read yet."""
        source = self._source
        if source is None:
            return None
        level = self._level_for(source)
        width, height = source.sizes[level]
        x, y = place.x() * width / self._full_size[0], place.y() * height / self._full_size[1]
        if not (0 <= x < width and 0 <= y < height):
            return None
        side = source.tile_px
        image = cached((self._serial, level, int(y) // side, int(x) // side))
        if image is None:
            return None
        column, row = int(x) % side, int(y) % side
        reach = _PICKED_PX // 2
        part = pixels_of(image)[max(0, row - reach) : row + reach + 1, max(0, column - reach) : column + reach + 1]
        return np.asarray(part.reshape(-1, 3).mean(0))

    def _level_for(self, source: PictureSource) -> int:
        """The coarsest level that still has a pixel for each of the screen."""
        wanted = self._zoom * self.devicePixelRatioF()
        level = 0
        while level + 1 < len(source.sizes) and source.sizes[level + 1][0] / self._full_size[0] >= wanted * 0.99:
            level += 1
        return level

    def _in_sight(self, source: PictureSource, level: int) -> list[tuple[int, int]]:
        """Rows and columns of the tiles of a level that the widget shows."""
        width, height = source.sizes[level]
        across, down = width / self._full_size[0], height / self._full_size[1]
        a, b = self.to_picture(QPointF(0, 0)), self.to_picture(QPointF(self.width(), self.height()))
        side = source.tile_px
        first_column, first_row = max(0, int(a.x() * across) // side), max(0, int(a.y() * down) // side)
        last_column = min((width - 1) // side, math.floor(b.x() * across) // side)
        last_row = min((height - 1) // side, math.floor(b.y() * down) // side)
        return [(r, c) for r in range(first_row, last_row + 1) for c in range(first_column, last_column + 1)]

    def _place_of(self, source: PictureSource, level: int, row: int, column: int) -> QRectF:
        """Where a tile lies in the widget, in whole pixels of the screen: between parts of pixels the ground shows."""
        width, height = source.sizes[level]
        side = source.tile_px
        across, down = self._full_size[0] / width, self._full_size[1] / height
        left, top = column * side, row * side
        right, bottom = min(width, left + side), min(height, top + side)
        return QRectF(
            self._snapped(self.to_widget(QPointF(left * across, top * down))),
            self._snapped(self.to_widget(QPointF(right * across, bottom * down))),
        )

    def _snapped(self, place: QPointF) -> QPointF:
        dense = self.devicePixelRatioF()
        return QPointF(math.floor(place.x() * dense + 0.5) / dense, math.floor(place.y() * dense + 0.5) / dense)

    def _paint_coarser(
        self, painter: QPainter, source: PictureSource, level: int, row: int, column: int, missing: list[Key]
    ) -> None:
        """Fill a tile's place from the next coarser level that is there; the coarsest is asked for too."""
        for coarser in range(level + 1, len(source.sizes)):
            halvings = coarser - level
            r, c = row >> halvings, column >> halvings
            key = (self._serial, coarser, r, c)
            image = cached(key)
            if image is not None:
                target = self._place_of(source, level, row, column)
                whole = self._place_of(source, coarser, r, c)
                fx, fy = image.width() / whole.width(), image.height() / whole.height()
                part = QRectF(
                    (target.x() - whole.x()) * fx,
                    (target.y() - whole.y()) * fy,
                    target.width() * fx,
                    target.height() * fy,
                )
                painter.drawImage(target, self._through_table(key, image), part)
                return
            if coarser == len(source.sizes) - 1:
                missing.append(key)

    def _distance(self, source: PictureSource, key: Key, middle: QPointF) -> float:
        centre = self._place_of(source, *key[1:]).center()
        return math.hypot(centre.x() - middle.x(), centre.y() - middle.y())

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        if self._fitted:
            self.fit()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None:
            self.zoom_by(1.2 ** (event.angleDelta().y() / 120), event.position())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        left = event is not None and event.button() == Qt.MouseButton.LeftButton
        if event is not None and left and self._tool is not None and self._source is not None:
            self._tool.press(self.to_picture(event.position()), event.position(), self._zoom)
            self.update()
        elif event is not None and event.button() == Qt.MouseButton.LeftButton and self._picking:
            colour = self._colour_at(self.to_picture(event.position()))
            if colour is not None:
                self.picked.emit(colour)
        elif event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._grab = event.position()
            self.setCursor(Qt.CursorShape.ClosedHandCursor)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._tool is not None:
            if event.buttons() & Qt.MouseButton.LeftButton:
                self._tool.move(self.to_picture(event.position()), event.position(), event.modifiers())
                self.update()
        elif event is not None and self._grab is not None:
            self._centre -= (event.position() - self._grab) / self._zoom
            self._grab = event.position()
            self._fitted = False
            self._keep_in_sight()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._grab = None
        if event is not None and self._tool is not None and event.button() == Qt.MouseButton.LeftButton:
            self._tool.release(self.to_picture(event.position()))
            self.update()
        self._show_cursor()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._source is None or self._tool is not None:
            return
        if self._fitted:
            self.zoom_by(1.0 / self._zoom, event.position())
        else:
            self.fit()

    def event(self, event: QEvent | None) -> bool:
        """A tool's own keys come to it before the window's."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride:
            plain = event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier)
            if self._tool is not None and plain and event.key() in self._tool.claims:
                event.accept()
                return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        if self._tool is not None and event.key() == Qt.Key.Key_Escape:
            self.tool_left.emit()
            return
        if self._tool is not None and self._source is not None and self._tool.key(event):
            self.update()
            return
        pan = {
            Qt.Key.Key_Left: (-0.2, 0.0),
            Qt.Key.Key_Right: (0.2, 0.0),
            Qt.Key.Key_Up: (0.0, -0.2),
            Qt.Key.Key_Down: (0.0, 0.2),
        }.get(Qt.Key(event.key()))
        if pan is not None and self._source is not None:
            self._centre += QPointF(pan[0] * self.width(), pan[1] * self.height()) / self._zoom
            self._fitted = False
            self._keep_in_sight()
            self.update()
        else:
            super().keyPressEvent(event)
