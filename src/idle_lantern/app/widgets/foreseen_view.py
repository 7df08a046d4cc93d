"""The picture that the plan would give, drawn from the scouting pictures, with aids laid over it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QImage, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.app.display import to_qimage

_PAD = 6


@dataclass(frozen=True)
class MarkShown:
    """A mark on the picture: its box in canvas pixels, its words, and the diameter of its blur, 0 where that is not known."""

    box: tuple[float, float, float, float]
    name: str
    blur_px: float = 0.0


@dataclass(frozen=True)
class ForeseenShown:
    """What is drawn: pixels (h, w, 4), what frames show (h, w) bool, outlines in its pixels, the crop, marks, the sun, seams (h, w) bool."""

    pixels: np.ndarray
    covered: np.ndarray
    outlines: tuple[np.ndarray, ...]
    crop: tuple[int, int, int, int]
    marks: tuple[MarkShown, ...] = ()
    sun: tuple[float, float] | None = None
    seams: np.ndarray | None = None


class ForeseenView(QWidget):
    """One foreseen picture: what the crop leaves is bright, the rest is dimmed."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Foreseen picture")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(200, 90)
        self.frames, self.thirds, self.names, self.seams = False, True, True, False
        self.shown: ForeseenShown | None = None
        self._image: QImage | None = None
        self._unscouted: QImage | None = None
        self._seams: QImage | None = None
        self._text = ""

    def sizeHint(self) -> QSize:
        """Wide rather than high."""
        return QSize(420, 120)

    def show_picture(self, shown: ForeseenShown) -> None:
        """Show another picture."""
        self.shown = shown
        self._image = to_qimage(shown.pixels)
        # what a frame will show and nobody scouted is hatched
        mask = shown.covered & (shown.pixels[..., 3] == 0)
        y, x = np.indices(mask.shape)
        hatch = np.zeros((*mask.shape, 4), np.uint8)
        tone = theme.colour("dim")
        hatch[mask & ((x + y) % 8 < 2)] = (tone.red(), tone.green(), tone.blue(), 255)
        self._unscouted = to_qimage(hatch)
        self._seams = None
        if shown.seams is not None:
            lines = np.zeros((*mask.shape, 4), np.uint8)
            tone = theme.colour("accent")
            lines[shown.seams & ((x + y) % 8 < 5)] = (tone.red(), tone.green(), tone.blue(), 255)
            self._seams = to_qimage(lines)
        self.update()

    def clear(self, text: str) -> None:
        """Show a sentence instead."""
        self.shown = self._image = self._unscouted = self._seams = None
        self._text = text
        self.update()

    def target(self) -> QRectF:
        """Where the picture lies on the widget."""
        if self._image is None:
            return QRectF()
        room = QRectF(self.rect()).adjusted(_PAD, _PAD, -_PAD, -_PAD)
        scale = min(room.width() / self._image.width(), room.height() / self._image.height())
        w, h = self._image.width() * scale, self._image.height() * scale
        return QRectF(room.center().x() - w / 2, room.center().y() - h / 2, w, h)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), theme.colour("panel"))
        p.setFont(theme.font(theme.SMALL))
        if self._image is None or self.shown is None:
            p.setPen(theme.colour("dim"))
            p.drawText(
                self.rect().adjusted(16, 8, -16, -8),
                int(Qt.AlignmentFlag.AlignCenter) | int(Qt.TextFlag.TextWordWrap),
                self._text,
            )
            return
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        target = self.target()
        scale = target.width() / self._image.width()
        p.save()
        p.setClipRect(target)
        p.fillRect(target, theme.colour("ground"))
        p.drawImage(target, self._image)
        if self._unscouted is not None:
            p.drawImage(target, self._unscouted)
        if self.seams and self._seams is not None:
            p.drawImage(target, self._seams)
        x, y, w, h = self.shown.crop
        crop = QRectF(target.left() + x * scale, target.top() + y * scale, w * scale, h * scale)
        self._dim_beside(p, target, crop)
        if self.frames:
            self._paint_frames(p, target, scale)
        for tone, width in (("ground", 3.0), ("text", 1.4)):
            p.setPen(QPen(theme.colour(tone), width))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(crop)
        if self.thirds:
            self._paint_thirds(p, crop)
        if self.names:
            self._paint_marks(p, target, scale)
        self._paint_sun(p, target, scale)
        p.restore()

    def _dim_beside(self, p: QPainter, target: QRectF, crop: QRectF) -> None:
        veil = theme.colour("ground", 150)
        p.fillRect(QRectF(target.left(), target.top(), target.width(), crop.top() - target.top()), veil)
        p.fillRect(QRectF(target.left(), crop.bottom(), target.width(), target.bottom() - crop.bottom()), veil)
        p.fillRect(QRectF(target.left(), crop.top(), crop.left() - target.left(), crop.height()), veil)
        p.fillRect(QRectF(crop.right(), crop.top(), target.right() - crop.right(), crop.height()), veil)

    def _paint_frames(self, p: QPainter, target: QRectF, scale: float) -> None:
        assert self.shown is not None
        p.setBrush(Qt.BrushStyle.NoBrush)
        wide = self.shown.pixels.shape[1]
        for outline in self.shown.outlines:
            known = outline[np.isfinite(outline).all(1)]
            if len(known) < 3 or np.abs(np.diff(known[:, 0])).max(initial=0) > wide / 2:
                continue
            polygon = QPolygonF(
                [target.topLeft() + QPointF((u + 0.5) * scale, (v + 0.5) * scale) for u, v in known.tolist()]
            )
            for tone, width in (("ground", 2.6), ("text", 1.0)):
                p.setPen(QPen(theme.colour(tone, 190), width))
                p.drawPolygon(polygon)

    def _paint_thirds(self, p: QPainter, crop: QRectF) -> None:
        for tone, width in (("ground", 2.0), ("text", 0.8)):
            p.setPen(QPen(theme.colour(tone, 120), width))
            for k in (1, 2):
                x, y = crop.left() + crop.width() * k / 3, crop.top() + crop.height() * k / 3
                p.drawLine(QPointF(x, crop.top()), QPointF(x, crop.bottom()))
                p.drawLine(QPointF(crop.left(), y), QPointF(crop.right(), y))

    def _paint_marks(self, p: QPainter, target: QRectF, scale: float) -> None:
        assert self.shown is not None
        for mark in self.shown.marks:
            x0, y0, x1, y1 = ((v + 0.5) * scale for v in mark.box)
            box = QRectF(target.left() + x0, target.top() + y0, x1 - x0, y1 - y0)
            p.setBrush(Qt.BrushStyle.NoBrush)
            for tone, width in (("ground", 3.0), ("text", 1.2)):
                p.setPen(QPen(theme.colour(tone), width, Qt.PenStyle.DashLine))
                p.drawRect(box)
            if mark.blur_px * scale > 3:
                p.setPen(QPen(theme.colour("accent"), 1.6))
                p.drawEllipse(box.center(), mark.blur_px * scale / 2, mark.blur_px * scale / 2)
            self._label(p, box.topLeft() + QPointF(0, -3), mark.name)

    def _paint_sun(self, p: QPainter, target: QRectF, scale: float) -> None:
        assert self.shown is not None
        if self.shown.sun is not None:
            at = target.topLeft() + QPointF((self.shown.sun[0] + 0.5) * scale, (self.shown.sun[1] + 0.5) * scale)
            p.setBrush(theme.colour("warn"))
            p.setPen(QPen(theme.colour("ground"), 3))
            p.drawEllipse(at, 8, 8)

    def _label(self, p: QPainter, at: QPointF, text: str) -> None:
        wide = p.fontMetrics().horizontalAdvance(text) + 8
        at = QPointF(max(_PAD, min(at.x(), self.target().right() - wide)), max(at.y(), self.target().top() + 14))
        box = QRectF(at.x(), at.y() - 13, wide, 17)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("ground", 200))
        p.drawRoundedRect(box, 3, 3)
        p.setPen(theme.colour("text"))
        p.drawText(at + QPointF(4, 0), text)
