"""What lies over a picture while it is looked over: places, seams, and one frame alone."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QImage, QPainter, QPainterPath, QPen, QPolygonF

from idle_lantern.app import theme

ToWidget = Callable[[QPointF], QPointF]

#: Length of a corner of a place's bracket, and the least size of a bracket on the screen.
_CORNER, _LEAST = 14.0, 26.0


@dataclass(frozen=True)
class PlaceShown:
    """A place of the picture in its pixels: middle, size, whether it is the present one, and what was said of it."""

    u: float
    v: float
    width: float
    height: float
    present: bool = False
    verdict: str = ""


@dataclass(frozen=True)
class LayerShown:
    """A frame alone on a rectangle of the picture, in its pixels; inside an ellipse only, where one is given. ``name`` tells it."""

    image: QImage
    rectangle: QRectF
    name: str
    ellipse: QRectF | None = None


@dataclass
class OverPicture:
    """Everything that is drawn over the picture; nothing of it changes the picture."""

    places: Sequence[PlaceShown] = ()
    seams: Sequence[Sequence[tuple[float, float]]] = ()
    layer: LayerShown | None = None
    seams_shown: bool = False
    _lines: list[list[QPointF]] = field(default_factory=list)

    def set_seams(self, seams: Sequence[Sequence[tuple[float, float]]]) -> None:
        """Outlines of what each frame shows."""
        self.seams = seams
        self._lines = [[QPointF(u, v) for u, v in line] for line in seams]

    def draw(self, painter: QPainter, to_widget: ToWidget) -> None:
        """Draw it over a picture whose places ``to_widget`` tells."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.layer is not None:
            self._draw_layer(painter, to_widget, self.layer)
        if self.seams_shown:
            for pen in (QPen(theme.colour("ground", 190), 3.2), QPen(theme.colour("accent"), 1.2)):
                painter.setPen(pen)
                for line in self._lines:
                    painter.drawPolygon(QPolygonF([to_widget(p) for p in line]))
        for place in self.places:
            self._draw_place(painter, to_widget, place)

    def _draw_layer(self, painter: QPainter, to_widget: ToWidget, layer: LayerShown) -> None:
        target = QRectF(to_widget(layer.rectangle.topLeft()), to_widget(layer.rectangle.bottomRight()))
        painter.save()
        if layer.ellipse is not None:
            path = QPainterPath()
            path.addEllipse(QRectF(to_widget(layer.ellipse.topLeft()), to_widget(layer.ellipse.bottomRight())))
            painter.setClipPath(path)
        painter.drawImage(target, layer.image)
        painter.restore()
        painter.setFont(theme.font(theme.SMALL, bold=True))
        size = painter.fontMetrics().size(0, layer.name)
        shown = target.intersected(QRectF(painter.viewport()))
        tag = QRectF(shown.left() + 8, shown.top() + 8, size.width() + 14, size.height() + 6)
        painter.fillRect(tag, theme.colour("ground", 220))
        painter.setPen(theme.colour("text"))
        painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, layer.name)

    def _draw_place(self, painter: QPainter, to_widget: ToWidget, place: PlaceShown) -> None:
        """Corners round a place; one that is called good has only dots, one to be mended a second line."""
        middle = to_widget(QPointF(place.u, place.v))
        corner = to_widget(QPointF(place.u + place.width / 2, place.v + place.height / 2))
        half_w, half_h = (max(_LEAST / 2, d) for d in (corner.x() - middle.x(), corner.y() - middle.y()))
        box = QRectF(middle.x() - half_w, middle.y() - half_h, 2 * half_w, 2 * half_h)
        if not box.intersects(QRectF(painter.viewport())):
            return
        tone = theme.colour("accent" if place.present else "text")
        style = Qt.PenStyle.DotLine if place.verdict == "good" else Qt.PenStyle.SolidLine
        width = 2.4 if place.present else 1.4
        for pen in (QPen(theme.colour("ground", 200), width + 2), QPen(tone, width, style)):
            painter.setPen(pen)
            for frame in (box, box.adjusted(5, 5, -5, -5)) if place.verdict == "mend" else (box,):
                painter.drawPath(_corners(frame))


def _corners(box: QRectF) -> QPainterPath:
    length = min(_CORNER, box.width() / 3, box.height() / 3)
    path = QPainterPath()
    for x, dx in ((box.left(), 1), (box.right(), -1)):
        for y, dy in ((box.top(), 1), (box.bottom(), -1)):
            path.moveTo(x + dx * length, y)
            path.lineTo(x, y)
            path.lineTo(x, y + dy * length)
    return path
