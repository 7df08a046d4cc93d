"""A frame that is painted on: what must not show in the picture, or must."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.app.display import to_qimage
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.frames.masks import HIDE_COLOUR, KEEP_COLOUR

#: What a pixel of the paint tells.
HIDE = 1
KEEP = 2
CLEAR = 0
_MOST_ZOOM = 12.0


@dataclass(frozen=True)
class PaintLook:
    """How a kind of paint looks: tone, pattern and sign each tell it on their own."""

    tone: tuple[int, int, int]
    line: tuple[int, int, int]
    pattern: Qt.BrushStyle
    opacity: float
    sign: str


PAINT = {
    HIDE: PaintLook(HIDE_COLOUR, (190, 188, 205), Qt.BrushStyle.BDiagPattern, 0.72, "−"),
    KEEP: PaintLook(KEEP_COLOUR, (74, 66, 48), Qt.BrushStyle.Dense6Pattern, 0.55, "+"),
}


class PaintArea(QWidget):
    """A frame under two kinds of paint; hatched, so that the kinds differ without colour."""

    painted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Frame to paint on")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(320, 240)
        self.setMouseTracking(True)
        self.kind, self.brush = HIDE, 60
        self.paint_layer = np.zeros((1, 1), np.uint8)
        self._frame = QImage()
        self._last: QPointF | None = None
        self._pointer: QPointF | None = None
        #: How much larger than all of the frame it is shown, and the share of the frame in the middle.
        self._zoom, self._middle = 1.0, QPointF(0.5, 0.5)
        self._grab: QPointF | None = None

    def fit(self) -> None:
        """Show all of the frame."""
        self._zoom, self._middle = 1.0, QPointF(0.5, 0.5)
        self.update()

    def zoom_by(self, factor: float, about: QPointF | None = None) -> None:
        """Show it larger or smaller about a place of the widget, which stays where it is."""
        at = about or QPointF(self.rect().center())
        before = self._share(at)
        self._zoom = min(max(self._zoom * factor, 1.0), _MOST_ZOOM)
        after = self._share(at)
        self._move(before - after)

    def _share(self, at: QPointF) -> QPointF:
        place = self._place()
        if place.isEmpty():
            return QPointF(0.5, 0.5)
        return QPointF((at.x() - place.x()) / place.width(), (at.y() - place.y()) / place.height())

    def _move(self, by: QPointF) -> None:
        """Move what is in the middle by a share of the frame, as far as the frame goes."""
        half = 0.5 / self._zoom
        self._middle = QPointF(
            *(min(max(v, half), 1 - half) for v in (self._middle.x() + by.x(), self._middle.y() + by.y()))
        )
        self.update()

    @property
    def brush_px(self) -> int:
        """Width of the brush on the reduced frame; ``brush`` is in thousandths of its longer side."""
        return max(1, round(self.brush / 1000 * max(self.paint_layer.shape)))

    def set_frame(self, pixels: Array, layer: Array) -> None:
        """Show a reduced frame (h, w, 3) and what is painted on it (h, w) so far."""
        self._frame, self.paint_layer = to_qimage(pixels), layer
        self._last = None
        self.fit()

    def set_layer(self, layer: Array) -> None:
        """Show other paint on the same frame."""
        self.paint_layer = layer
        self.update()

    def stroke(self, places: Sequence[tuple[float, float]]) -> None:
        """A stroke through places given as shares of the frame, as the mouse would draw it."""
        h, w = self.paint_layer.shape
        for x, y in places:
            self._stroke(QPointF(x * w, y * h))
        self._last = None
        self.painted.emit()

    def fill(self, kind: int) -> None:
        """Give the whole frame to one kind."""
        self.paint_layer[...] = kind
        self.painted.emit()
        self.update()

    def _place(self) -> QRectF:
        """Where the frame lies in the widget."""
        if self._frame.isNull():
            return QRectF()
        scale = min(self.width() / self._frame.width(), self.height() / self._frame.height())
        w, h = self._frame.width() * scale * self._zoom, self._frame.height() * scale * self._zoom
        return QRectF(self.width() / 2 - self._middle.x() * w, self.height() / 2 - self._middle.y() * h, w, h)

    def _on_frame(self, at: QPointF) -> QPointF:
        place = self._place()
        scale = self._frame.width() / max(1.0, place.width())
        return QPointF((at.x() - place.x()) * scale, (at.y() - place.y()) * scale)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.button() == Qt.MouseButton.LeftButton and not self._frame.isNull():
            self._last = self._on_frame(event.position())
            self._stroke(self._last)
        elif event is not None:
            self._grab = event.position()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None and event.angleDelta().y():
            self.zoom_by(1.2 ** (event.angleDelta().y() / 120), event.position())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        self._pointer = event.position()
        if self._grab is not None:
            by, self._grab, place = self._grab - event.position(), event.position(), self._place()
            if not place.isEmpty():
                self._move(QPointF(by.x() / place.width(), by.y() / place.height()))
        if self._last is not None:
            self._stroke(self._on_frame(event.position()))
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._grab = None
        if self._last is not None:
            self._last = None
            self.painted.emit()

    def leaveEvent(self, event: Any) -> None:
        self._pointer = None
        self.update()

    def _stroke(self, to: QPointF) -> None:
        start = self._last or to
        ends = [(round(p.x()), round(p.y())) for p in (start, to)]
        cv2.line(self.paint_layer, ends[0], ends[1], self.kind, self.brush_px)
        self._last = to
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        place = self._place()
        painter.drawImage(place, self._frame)
        for kind, look in PAINT.items():
            area = self.paint_layer == kind
            if area.any() and not self._frame.isNull():
                self._draw_area(painter, place, area, look)
        if self._pointer is not None and not self._frame.isNull():
            radius = self.brush_px / 2 * place.width() / self._frame.width()
            for colour, width in ((QColor(0, 0, 0), 3.0), (QColor(255, 255, 255), 1.0)):
                painter.setPen(QPen(colour, width))
                painter.drawEllipse(self._pointer, radius, radius)

    def _draw_area(self, painter: QPainter, place: QRectF, area: Array, look: PaintLook) -> None:
        """One kind of paint: its tone with its pattern over it, and its sign where there is room."""
        h, w = area.shape
        red, green, blue = look.tone
        tint = np.zeros((h, w, 4), np.uint8)
        tint[area] = (blue, green, red, 255)
        layer = QImage(tint.tobytes(), w, h, 4 * w, QImage.Format.Format_ARGB32).copy()
        patterned = QImage(self.size(), QImage.Format.Format_ARGB32_Premultiplied)
        patterned.fill(0)
        inner = QPainter(patterned)
        inner.drawImage(place, layer)
        inner.setCompositionMode(QPainter.CompositionMode.CompositionMode_SourceAtop)
        inner.fillRect(patterned.rect(), QBrush(QColor(*look.line), look.pattern))
        inner.end()
        painter.setOpacity(look.opacity)
        painter.drawImage(0, 0, patterned)
        painter.setOpacity(1.0)
        self._draw_sign(painter, place, area, look)

    def _draw_sign(self, painter: QPainter, place: QRectF, area: Array, look: PaintLook) -> None:
        """The sign of a kind in the middle of its thickest part."""
        depth = cv2.distanceTransform(area.astype(np.uint8), cv2.DIST_L2, 3)
        y, x = divmod(int(depth.argmax()), area.shape[1])
        scale = place.width() / area.shape[1]
        if depth[y, x] * scale < 11:
            return
        at = QPointF(place.x() + (x + 0.5) * scale, place.y() + (y + 0.5) * scale)
        box = QRectF(at.x() - 9, at.y() - 9, 18, 18)
        painter.setPen(QPen(QColor(*look.line), 1.5))
        painter.setBrush(QColor(*look.tone))
        painter.drawRect(box)
        painter.setFont(theme.font(theme.HEAD, bold=True))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, look.sign)
        painter.setBrush(Qt.BrushStyle.NoBrush)
