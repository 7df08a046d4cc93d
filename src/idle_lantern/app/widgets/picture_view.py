"""A picture of any size: zoom and pan without waiting, from tiles of a pyramid that are read meanwhile."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.app.widgets.comparison import Comparison, Way
from idle_lantern.app.widgets.over_picture import OverPicture
from idle_lantern.app.widgets.picture_tiles import PictureTiles
from idle_lantern.app.widgets.picture_tools import CropTool, PictureTool
from idle_lantern.app.widgets.sight import Sight
from idle_lantern.app.widgets.tile_loader import TileLoader, shown_space
from idle_lantern.core.colour.space import SRGB, ColourSpace
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.merging.development import Development
from idle_lantern.core.pictures.source import PictureSource

_MOST_ZOOM = 16.0
#: A part that stands still for so long was looked at.
_DWELL_MS = 350
#: The picture rests when nothing moved it for so long.
_RESTS_MS = 120


class PictureView(QWidget):
    """Shows a picture; wheel zooms at the pointer, drag pans, keys 0 and 1 fit and show 100 %."""

    zoomed = pyqtSignal(float)
    moved = pyqtSignal()  # by hand, key or wheel: another part of it is shown, or at another size
    picked = pyqtSignal(object)  # the colour (3,) of a place that was clicked while picking, as it was read
    failed = pyqtSignal(str)
    looked = pyqtSignal(QRectF)  # a part of the picture in its pixels stood still, at 100 % or more, as sharp as it is
    tool_left = pyqtSignal()  # Escape: whoever gave the tool takes it back
    tool_changed = pyqtSignal()  # another tool, or one of its keys changed it

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Picture")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(200, 120)
        self._source: PictureSource | None = None
        self._loader = TileLoader(self)
        self._loader.loaded.connect(self.update)
        self._loader.failed.connect(self.failed)
        self.tiles = PictureTiles(self._loader)
        self._complete = False
        self._zoom = 1.0
        self._centre = (0.0, 0.0)
        self._fitted = True
        self._full_size = (0, 0)
        self._grab: QPointF | None = None
        self.crop: Rectangle | None = None
        self.over: OverPicture | None = None
        self._tool: PictureTool | None = None
        self.placeholder = ""
        self._picking = False
        #: Runs while the picture moves under the hand: it is drawn quickly until it rests.
        self._moves = QTimer(self)
        self._moves.setSingleShot(True)
        self._moves.setInterval(_RESTS_MS)
        self._moves.timeout.connect(self.update)
        self._rough = False
        self.comparison = Comparison(self)
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
        self._source = source
        self.tiles.set_source(source)
        self._complete = False
        self._full_size = full_size or (source.sizes[0] if source is not None else (0, 0))
        if self.size_px != before or self._fitted:
            self.fit()
        if source is None:
            self.zoomed.emit(0.0)  # nothing is shown at any size
        self.update()

    def set_variant(self, source: PictureSource, *, rough: bool = False) -> None:
        """Show the picture made otherwise, of the same size: what is shown stays until its tiles are there; ``rough`` while a hand is at it."""
        if self._source is None or source.sizes != self._source.sizes:
            self.set_source(source)
        elif source is not self._source:
            self._source = source
            self.tiles.set_variant(source)
        self._rough, self._complete = rough, False
        self.update()

    @property
    def awaits_tiles(self) -> bool:
        """Whether tiles that are wanted are still being read."""
        return self.isVisible() and not self._loader.idle

    def compare(self, way: Way) -> None:
        """Show what the picture was beside it, in a way, or no longer."""
        self.comparison.way = way
        self._complete = False
        self.update()

    @property
    def space(self) -> ColourSpace:
        """The space that ``picked`` tells its values in."""
        return SRGB if self._source is None else shown_space(self._source.space)

    def set_development(self, development: Development) -> None:
        """Show the picture as it is developed."""
        if self.tiles.set_development(development):
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
        self.setMouseTracking(tool is not None)
        self._show_cursor()
        self.tool_changed.emit()
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
        there = self._complete and self._loader.idle and self.comparison.ready
        return self._source is None or not self.isVisible() or there

    @property
    def size_px(self) -> tuple[int, int]:
        """Width and height of the full picture."""
        return self._full_size

    def stop(self) -> None:
        """Let go of the picture and of what is being read; for closing."""
        self._source = None
        self._dwell.stop()
        self.tiles.set_source(None)
        self._loader.stop()
        self.comparison.stop()

    @property
    def sight(self) -> Sight:
        """Which part of the picture is shown."""
        return Sight(self._centre, self._zoom, (self.width(), self.height()), self._full_size, self.devicePixelRatioF())

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
        self._centre = (w / 2, h / 2)
        self._set_zoom(min(self.width() / w, self.height() / h))

    def show_full(self) -> None:
        """Show 100 %: one picture pixel on one screen pixel."""
        self._fitted = False
        self._set_zoom(1.0 / self.devicePixelRatioF())

    def show_place(self, u: float, v: float) -> None:
        """Show 100 % with that pixel in the middle."""
        self._centre = (u, v)
        self.show_full()

    def look_at(self, u: float, v: float) -> None:
        """Move that pixel into the middle, or as near to it as the picture's rim lets it."""
        self._fitted = False
        self._centre = (u, v)
        self._centre = self.sight.kept_centre
        self._complete = False
        self.update()
        self.moved.emit()

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
        self._centre = (
            fixed.x() - (pivot.x() - self.width() / 2) / new,
            fixed.y() - (pivot.y() - self.height() / 2) / new,
        )
        self._set_zoom(new)

    def to_picture(self, pos: QPointF) -> QPointF:
        """Widget place to picture place."""
        return self.sight.to_picture(pos)

    def to_widget(self, place: QPointF) -> QPointF:
        """Picture place to widget place."""
        return self.sight.to_widget(place)

    def _set_zoom(self, zoom: float) -> None:
        self._zoom = zoom
        self._complete = False  # known when it is painted
        self._centre = self.sight.kept_centre
        self.zoomed.emit(zoom)
        self.update()
        self.moved.emit()

    def show_like(self, other: PictureView) -> None:
        """Show the part that another view of a picture of the same size shows; nobody is told."""
        if other is self or (self._zoom, self._centre) == (other._zoom, other._centre):
            return
        self._fitted, self._complete = False, False
        self._zoom, self._centre = other._zoom, other._centre
        if other._moves.isActive():
            self._moves.start()
        self.update()

    def _pan(self, right_px: float, down_px: float) -> None:
        """Move what is shown by so many pixels of the widget."""
        self._moves.start()
        u, v = self._centre
        self.look_at(u + right_px / self._zoom, v + down_px / self._zoom)

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
        moving = self._moves.isActive()
        painter.save()
        painter.translate(self.comparison.offset_px, 0)
        present = self.comparison.sight_of_present(self.sight)
        self._complete = self.tiles.paint(painter, present, moving=moving, rough=self._rough)
        painter.restore()
        self._complete &= self.comparison.paint(painter, self.sight, moving=moving)
        self._mark_dwelling()
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

    def _mark_dwelling(self) -> None:
        """Note where the eye rests, once all of it is sharp; what passes by is not looked at."""
        here, at_full = self.sight.shown, self.sight.screen_zoom >= 0.99
        if not self._complete or not at_full or self._source is None or self._source.sizes[0] != self._full_size:
            self._dwell.stop()
            self._dwelt = QRectF()
        elif here != self._dwelt:
            self._dwelt = here
            self._dwell.start()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        if self._fitted:
            self.fit()

    def leaveEvent(self, event: QEvent | None) -> None:
        if self._tool is not None:
            self._tool.pointer = None
            self.update()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None:
            self._moves.start()
            self.zoom_by(1.2 ** (event.angleDelta().y() / 120), event.position())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        left = event is not None and event.button() == Qt.MouseButton.LeftButton
        if event is not None and left and self.comparison.press(event.position()):
            return
        if event is not None and left and self._tool is not None and self._source is not None:
            self._tool.press(self.to_picture(event.position()), event.position(), self._zoom)
            self.update()
        elif event is not None and event.button() == Qt.MouseButton.LeftButton and self._picking:
            colour = self.tiles.colour_at(self.to_picture(event.position()), self.sight)
            if colour is not None:
                self.picked.emit(colour)
        elif event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._grab = event.position()
            self.setCursor(Qt.CursorShape.ClosedHandCursor)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self.comparison.move(event.position()):
            return
        if event is not None and self._tool is not None:
            self._tool.pointer = self.to_picture(event.position())
            if event.buttons() & Qt.MouseButton.LeftButton:
                self._tool.move(self.to_picture(event.position()), event.position(), event.modifiers())
            self.update()
        elif event is not None and self._grab is not None:
            moved = self._grab - event.position()
            self._grab = event.position()
            self._pan(moved.x(), moved.y())

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._grab = None
        if self.comparison.release():
            return
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
            self.tool_changed.emit()
            self.update()
            return
        pan = {
            Qt.Key.Key_Left: (-0.2, 0.0),
            Qt.Key.Key_Right: (0.2, 0.0),
            Qt.Key.Key_Up: (0.0, -0.2),
            Qt.Key.Key_Down: (0.0, 0.2),
        }.get(Qt.Key(event.key()))
        if pan is not None and self._source is not None:
            self._pan(pan[0] * self.width(), pan[1] * self.height())
        else:
            super().keyPressEvent(event)
