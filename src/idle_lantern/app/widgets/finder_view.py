"""What the camera's finder shows: the simulated look, thirds, a level and the frame's number."""

from __future__ import annotations

import math
from typing import Any

from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QImage, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.app.display import to_qimage


class FinderView(QWidget):
    """A finder picture with a grid of thirds and an artificial horizon."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Finder")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(180, 180)
        self._image: QImage | None = None
        self._pitch_deg = self._roll_deg = 0.0
        self._height_deg = 60.0
        self._text = ""
        self._ghost: QImage | None = None

    def show_ghost(self, pixels: NDArray[Any] | None) -> None:
        """Lay (H, W, 4) pixels over the picture, half seen through, with a line where they end; None takes them away."""
        self._ghost = None if pixels is None else to_qimage(pixels)
        self.update()

    def show_look(
        self, pixels: NDArray[Any] | None, pitch_deg: float, roll_deg: float, height_deg: float, text: str
    ) -> None:
        """Show a picture and the camera's pitch and roll; None keeps the picture."""
        if pixels is not None:
            self._image = to_qimage(pixels)
        self._pitch_deg, self._roll_deg, self._height_deg, self._text = pitch_deg, roll_deg, height_deg, text
        self.update()

    def clear(self, text: str) -> None:
        """Show no picture but a sentence."""
        self._image, self._text = None, text
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.colour("ground"))
        if self._image is None:
            painter.setPen(theme.colour("dim"))
            painter.drawText(self.rect(), int(Qt.AlignmentFlag.AlignCenter) | int(Qt.TextFlag.TextWordWrap), self._text)
            return
        scale = min(self.width() / self._image.width(), self.height() / self._image.height())
        w, h = self._image.width() * scale, self._image.height() * scale
        box = QRectF((self.width() - w) / 2, (self.height() - h) / 2, w, h)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(box, self._image)
        if self._ghost is not None:
            painter.setOpacity(0.5)
            painter.drawImage(box, self._ghost)
            painter.setOpacity(1.0)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for tone, width in (("ground", 2.5), ("text", 1.0)):
            painter.setPen(QPen(theme.colour(tone, 150), width))
            for k in (1, 2):
                x, y = box.left() + box.width() * k / 3, box.top() + box.height() * k / 3
                painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
                painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
        # the true horizon by pitch (linear in the finder is exact enough for a hint) and roll
        offset = self._pitch_deg / max(self._height_deg, 1) * box.height()
        if abs(offset) < box.height() / 2:
            middle = box.center() + QPointF(0, offset)
            along = (
                QPointF(math.cos(math.radians(-self._roll_deg)), math.sin(math.radians(-self._roll_deg)))
                * box.width()
                * 0.12
            )
            painter.setPen(QPen(theme.colour("accent"), 3))
            painter.drawLine(middle - along * 2, middle - along)
            painter.drawLine(middle + along, middle + along * 2)
        painter.setFont(theme.font(theme.HEAD, bold=True))
        plate = QRectF(box.left() + 8, box.top() + 8, 15 + 10 * len(self._text), 26)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ground", 200))
        painter.drawRoundedRect(plate, 3, 3)
        painter.setPen(theme.colour("text"))
        painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, self._text)
