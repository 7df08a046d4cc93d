"""A picture of any size: zoom and pan without waiting, from a pyramid of halvings."""

from __future__ import annotations

import math
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.app.widgets.basics import to_qimage
from idle_lantern.core.geometry.rectangles import Rectangle

Array = NDArray[Any]

_MOST_ZOOM = 16.0


def pyramid(pixels: Array, alpha: Array | None = None) -> list[Array]:
    """Halvings of a picture down to about 256 px; gaps are shown in neutral grey. Slow: off the thread."""
    if pixels.dtype == np.uint16:
        pixels = (pixels >> 8).astype(np.uint8)
    levels = [np.ascontiguousarray(pixels)]
    if alpha is not None and not alpha.all():
        levels[0] = levels[0].copy()
        levels[0][alpha == 0] = 58
    while max(levels[-1].shape[:2]) > 512 and min(levels[-1].shape[:2]) > 1:
        h, w = levels[-1].shape[:2]
        levels.append(cv2.resize(levels[-1], (max(1, w // 2), max(1, h // 2)), interpolation=cv2.INTER_AREA))
    return levels


class PictureView(QWidget):
    """Shows a picture; wheel zooms at the pointer, drag pans, keys 0 and 1 fit and show 100 %."""

    zoomed = pyqtSignal(float)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Picture")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(200, 120)
        self._levels: list[Array] = []
        self._zoom = 1.0
        self._centre = QPointF(0, 0)
        self._fitted = True
        self._grab: QPointF | None = None
        self.crop: Rectangle | None = None
        self.placeholder = ""

    def set_levels(self, levels: list[Array], full_width: int | None = None) -> None:
        """Show a picture made by ``pyramid``; the view stays where it was when only the detail is new.

        ``full_width`` is the width the picture stands for, when this is a rough first form of it.
        """
        before = self.size_px
        self._levels = levels
        self._full_width = full_width or (levels[0].shape[1] if levels else 0)
        if self.size_px != before or self._fitted:
            self.fit()
        self.update()

    _full_width = 0

    @property
    def size_px(self) -> tuple[int, int]:
        """Width and height of the full picture."""
        if not self._levels:
            return 0, 0
        h, w = self._levels[0].shape[:2]
        return self._full_width, round(h * self._full_width / w)

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

    def zoom_by(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom about a point of the widget."""
        if not self._levels:
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
        if not self._levels:
            painter.setPen(theme.colour("dim"))
            painter.drawText(
                self.rect().adjusted(40, 20, -40, -20),
                int(Qt.AlignmentFlag.AlignCenter) | int(Qt.TextFlag.TextWordWrap),
                self.placeholder,
            )
            return
        self._paint_picture(painter)
        if self.crop is not None:
            c = self.crop
            box = QRectF(
                self.to_widget(QPointF(c.left, c.top)), self.to_widget(QPointF(c.left + c.width, c.top + c.height))
            )
            painter.setPen(QPen(theme.colour("ground"), 3))
            painter.drawRect(box)
            painter.setPen(QPen(theme.colour("accent"), 1.4, Qt.PenStyle.DashLine))
            painter.drawRect(box)
        painter.end()

    def _paint_picture(self, painter: QPainter) -> None:
        w, _h = self.size_px
        own = self._levels[0].shape[1] / w
        level = min(len(self._levels) - 1, max(0, math.floor(math.log2(max(1.0, own / self._zoom)))))
        pixels = self._levels[level]
        ratio = pixels.shape[1] / w
        a, b = self.to_picture(QPointF(0, 0)), self.to_picture(QPointF(self.width(), self.height()))
        left, top = max(0, math.floor(a.x() * ratio) - 1), max(0, math.floor(a.y() * ratio) - 1)
        right, bottom = (
            min(pixels.shape[1], math.ceil(b.x() * ratio) + 1),
            min(pixels.shape[0], math.ceil(b.y() * ratio) + 1),
        )
        if right <= left or bottom <= top:
            return
        image: QImage = to_qimage(pixels[top:bottom, left:right])
        target = QRectF(
            self.to_widget(QPointF(left / ratio, top / ratio)), self.to_widget(QPointF(right / ratio, bottom / ratio))
        )
        # above 200 % pixels are shown as squares: there one looks at pixels
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self._zoom < 2.0)
        painter.drawImage(target, image)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        if self._fitted:
            self.fit()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None:
            self.zoom_by(1.2 ** (event.angleDelta().y() / 120), event.position())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._grab = event.position()
            self.setCursor(Qt.CursorShape.ClosedHandCursor)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._grab is not None:
            self._centre -= (event.position() - self._grab) / self._zoom
            self._grab = event.position()
            self._fitted = False
            self._keep_in_sight()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._grab = None
        self.unsetCursor()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is None or not self._levels:
            return
        if self._fitted:
            self.zoom_by(1.0 / self._zoom, event.position())
        else:
            self.fit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        pan = {
            Qt.Key.Key_Left: (-0.2, 0.0),
            Qt.Key.Key_Right: (0.2, 0.0),
            Qt.Key.Key_Up: (0.0, -0.2),
            Qt.Key.Key_Down: (0.0, 0.2),
        }.get(Qt.Key(event.key()))
        if pan is not None and self._levels:
            self._centre += QPointF(pan[0] * self.width(), pan[1] * self.height()) / self._zoom
            self._fitted = False
            self._keep_in_sight()
            self.update()
        else:
            super().keyPressEvent(event)
