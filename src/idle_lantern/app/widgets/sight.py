"""Which part of a picture a widget shows, and where its pixels lie on the screen."""

from __future__ import annotations

import math
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF


@dataclass(frozen=True)
class Sight:
    """A view of a picture.

    Attributes
    ----------
    centre : (u, v)
        The place of the picture in the middle of the widget.
    zoom : float
        Widget pixels for a pixel of the picture.
    widget, picture : (width, height)
        Sizes.
    dense : float
        Screen pixels for a pixel of the widget.
    """

    centre: tuple[float, float]
    zoom: float
    widget: tuple[int, int]
    picture: tuple[int, int]
    dense: float = 1.0

    def to_picture(self, pos: QPointF) -> QPointF:
        """Widget place to picture place."""
        u, v = self.centre
        return QPointF(
            u + (pos.x() - self.widget[0] / 2) / self.zoom,
            v + (pos.y() - self.widget[1] / 2) / self.zoom,
        )

    def to_widget(self, place: QPointF) -> QPointF:
        """Picture place to widget place."""
        u, v = self.centre
        return QPointF(
            (place.x() - u) * self.zoom + self.widget[0] / 2,
            (place.y() - v) * self.zoom + self.widget[1] / 2,
        )

    def snapped(self, place: QPointF) -> QPointF:
        """Picture place to widget place, in whole pixels of the screen."""
        at = self.to_widget(place)
        return QPointF(*(math.floor(x * self.dense + 0.5) / self.dense for x in (at.x(), at.y())))

    @property
    def shown(self) -> QRectF:
        """What the widget shows, in pixels of the picture."""
        return QRectF(self.to_picture(QPointF(0, 0)), self.to_picture(QPointF(*self.widget)))

    @property
    def screen_zoom(self) -> float:
        """Screen pixels for a pixel of the picture."""
        return self.zoom * self.dense

    @property
    def kept_centre(self) -> tuple[float, float]:
        """The centre that keeps the picture in sight: no ground beside it where it fills the widget, else all of it in the middle."""
        inside = []
        for at, size, extent in zip(self.centre, self.picture, self.widget):
            half = extent / self.zoom / 2
            inside.append(size / 2 if half * 2 >= size else min(max(at, half), size - half))
        return inside[0], inside[1]
