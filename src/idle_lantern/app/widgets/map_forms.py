"""Forms of the map: how directions become places on the widget. Unrolled, as a globe seen from inside, or as both poles.

A form is made anew for each size, field and view; it is asked for places, outlines and back for directions.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Protocol

import cv2
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize
from PyQt6.QtGui import QImage, QPolygonF, QTransform

from idle_lantern.app.display import plain_qimage
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.sphere import azimuth_altitude, direction
from idle_lantern.core.plan.target_field import TargetField

FORMS = {"unrolled": "Unrolled", "globe": "Globe", "poles": "Zenith and nadir"}
#: Pixels about the map, for its scales.
PAD_X = 26
PAD_TOP = 14
PAD_BOTTOM = 22
_CLOSEST, _FARTHEST = 12.0, 0.5
#: A picture on a curved form is drawn with so many pixels across at most.
_MOST_ACROSS = 900


@dataclass(frozen=True)
class MapLook:
    """How the map is looked at: its form, how much it is enlarged, and what was moved to the middle, in degrees."""

    form: str = "unrolled"
    zoom: float = 1.0
    yaw_deg: float = 0.0
    pitch_deg: float = 0.0

    @property
    def fitted(self) -> bool:
        """Whether it shows all, as it does by itself."""
        return self.zoom == 1.0 and self.yaw_deg == 0.0 and self.pitch_deg == 0.0


def zoomed(look: MapLook, factor: float) -> float:
    """The enlargement after one by ``factor``, within what is of use."""
    return min(max(look.zoom * factor, _FARTHEST), _CLOSEST)


class Form(Protocol):
    """Directions (degrees of azimuth and altitude) to places on the widget, and back."""

    def point(self, azimuth_deg: float, altitude_deg: float) -> QPointF | None:
        """The place of a direction, None where the form does not show it."""

    def polygons(self, shape: QPolygonF) -> list[QPolygonF]:
        """An outline, continuous in azimuth, as it lies on the widget: once, several times or not at all."""

    def path(self, angles: list[tuple[float, float]]) -> list[QPolygonF]:
        """A line through directions, in pieces where parts of it are not shown."""

    def angles(self, place: QPointF) -> tuple[float, float] | None:
        """The direction at a place, None beside the map."""

    def image(self, picture: QImage, key: int) -> list[tuple[QRectF, QImage]]:
        """A picture of the whole sphere as it lies on the widget; ``key`` tells whether it is another one."""

    @property
    def px_per_deg(self) -> float:
        """Scale in the middle."""

    @property
    def outline(self) -> list[QPolygonF | QRectF]:
        """What the sphere takes of the widget."""


class Unrolled:
    """Azimuth across and altitude up at one scale, one full turn about the field's middle."""

    def __init__(self, transform: QTransform, field: TargetField, size: QSize) -> None:
        self.transform = transform
        self._back, _ = transform.inverted()
        self._field, self._size = field, size
        self.middle_deg = (field.left_deg + field.right_deg) / 2

    @property
    def px_per_deg(self) -> float:
        """Scale everywhere."""
        return self.transform.m11()

    @property
    def outline(self) -> list[QPolygonF | QRectF]:
        """The part of the widget that shows one full turn about the field's middle, never anything twice."""
        return [self.turn]

    @property
    def turn(self) -> QRectF:
        """The same as a rectangle."""
        left, right = (self.transform.map(QPointF(self.middle_deg + by, 0)).x() for by in (-180, 180))
        right = min(self._size.width(), right)
        return QRectF(max(0.0, left), 0, right - max(0.0, left), self._size.height())

    def near_middle(self, azimuth_deg: float) -> float:
        """The azimuth's copy that lies nearest to the field's middle."""
        return self.middle_deg + (azimuth_deg - self.middle_deg + 180) % 360 - 180

    def point(self, azimuth_deg: float, altitude_deg: float) -> QPointF | None:
        return self.transform.map(QPointF(self.near_middle(azimuth_deg), altitude_deg))

    def polygons(self, shape: QPolygonF) -> list[QPolygonF]:
        drawn = self.transform.map(shape)
        return [drawn.translated(turn * self.px_per_deg, 0) if turn else drawn for turn in self.turns(shape)]

    def turns(self, shape: QPolygonF) -> list[int]:
        """Copies of a shape that may show where the map runs past a full turn."""
        w, box = self._field, shape.boundingRect()
        if box.width() > 350:
            return [0] if abs(self.middle_deg) < 1 else [-360, 0, 360]
        shown = [
            turn
            for turn in (-720, -360, 0, 360, 720)
            if box.right() + turn > w.left_deg - 8 and box.left() + turn < w.right_deg + 8
        ]
        if w.full_circle:
            return shown
        if len(shown) < 2:
            return shown
        return [min(shown, key=lambda k: abs(box.center().x() + k - self.middle_deg))]

    def path(self, angles: list[tuple[float, float]]) -> list[QPolygonF]:
        start = self.near_middle(angles[0][0])
        at = [QPointF(start, angles[0][1])]
        for (before, _), (now, altitude) in zip(angles, angles[1:]):
            at.append(QPointF(at[-1].x() + (now - before + 180) % 360 - 180, altitude))
        return [self.transform.map(QPolygonF(at))]

    def angles(self, place: QPointF) -> tuple[float, float] | None:
        at = self._back.map(place)
        return at.x(), max(-90.0, min(90.0, at.y()))

    def image(self, picture: QImage, key: int) -> list[tuple[QRectF, QImage]]:
        target = self.transform.mapRect(QRectF(-180, -90, 360, 180))
        return [(target.translated(k * self.px_per_deg, 0), picture) for k in (-360, 0, 360)]


class Disc:
    """A part of the sphere about one direction on a disc: ``globe`` by parallel rays, else evenly by angle (polar)."""

    def __init__(self, middle: QPointF, radius: float, camera: Array, *, globe: bool) -> None:
        self._middle, self._radius, self._camera, self._globe = middle, radius, camera, globe
        self._images: dict[int, tuple[QRectF, QImage]] = {}

    @property
    def px_per_deg(self) -> float:
        """Scale in the middle."""
        return self._radius * (math.radians(1) if self._globe else 1 / 90)

    @property
    def outline(self) -> list[QPolygonF | QRectF]:
        turn = np.linspace(0, 2 * math.pi, 120)
        return [self._polygon(np.stack([np.cos(turn), np.sin(turn)], -1) * self._radius)]

    def _polygon(self, off: Array) -> QPolygonF:
        x, y = off.T
        return QPolygonF(
            [QPointF(a, b) for a, b in zip((x + self._middle.x()).tolist(), (y + self._middle.y()).tolist())]
        )

    def _places(self, angles: Array) -> tuple[Array, Array]:
        """Places from the disc's middle (N, 2) of directions (N, 2) in degrees, and which of them face the viewer."""
        rays = direction(*np.radians(angles).T) @ self._camera
        front = rays[:, 2] >= (0.0 if self._globe else -1e-3)
        if self._globe:
            return rays[:, :2] * self._radius, front
        off = np.arccos(np.clip(rays[:, 2], -1, 1)) / (math.pi / 2)
        flat = np.maximum(np.hypot(rays[:, 0], rays[:, 1]), 1e-12)
        return rays[:, :2] / flat[:, None] * (off * self._radius)[:, None], front

    def point(self, azimuth_deg: float, altitude_deg: float) -> QPointF | None:
        off, front = self._places(np.array([[azimuth_deg, altitude_deg]]))
        return self._middle + QPointF(*off[0]) if front[0] else None

    def polygons(self, shape: QPolygonF) -> list[QPolygonF]:
        angles = np.array([(shape[i].x(), shape[i].y()) for i in range(shape.count())])
        if (
            np.ptp(angles[:, 0]) > 350 and np.abs(angles[:, 1]).max() > 89.9
        ):  # a cap: only its open rim is an outline here
            angles = angles[np.abs(angles[:, 1]) < 89.9]
        off, front = self._places(angles)
        if not front.any():
            return []
        # what turns away is drawn along the edge of the disc
        flat = np.maximum(np.hypot(*off.T), 1e-9)
        off = np.where(front[:, None], off, off / flat[:, None] * self._radius)
        return [self._polygon(off)]

    def path(self, angles: list[tuple[float, float]]) -> list[QPolygonF]:
        off, front = self._places(np.array(angles))
        pieces, at = [], 0
        while at < len(front):
            if not front[at]:
                at += 1
                continue
            end = at
            while end < len(front) and front[end]:
                end += 1
            if end - at > 1:
                pieces.append(self._polygon(off[at:end]))
            at = end
        return pieces

    def angles(self, place: QPointF) -> tuple[float, float] | None:
        off = place - self._middle
        x, y = off.x() / self._radius, off.y() / self._radius
        reach = math.hypot(x, y)
        if reach > 1:
            return None
        if self._globe:
            ray = np.array([x, y, math.sqrt(max(0.0, 1 - reach * reach))])
        else:
            s = math.sin(reach * math.pi / 2) / max(reach, 1e-9)
            ray = np.array([x * s, y * s, math.cos(reach * math.pi / 2)])
        azimuth, altitude = azimuth_altitude(self._camera @ ray)
        return math.degrees(float(azimuth)), math.degrees(float(altitude))

    def image(self, picture: QImage, key: int) -> list[tuple[QRectF, QImage]]:
        if key not in self._images:
            self._images[key] = self._drawn(picture)
        return [self._images[key]]

    def _drawn(self, picture: QImage) -> tuple[QRectF, QImage]:
        side = max(8, min(_MOST_ACROSS, int(2 * self._radius)))
        at = (np.arange(side, dtype=np.float32) + 0.5) / side * 2 - 1
        x, y = np.meshgrid(at, at)
        reach = np.hypot(x, y)
        inside = reach <= 1
        if self._globe:
            rays = np.stack([x, y, np.sqrt(np.maximum(0, 1 - reach * reach))], -1)
        else:
            s = np.sin(reach * math.pi / 2) / np.maximum(reach, 1e-9)
            rays = np.stack([x * s, y * s, np.cos(reach * math.pi / 2)], -1)
        azimuth, altitude = azimuth_altitude(rays @ self._camera.T)
        image = picture.convertToFormat(QImage.Format.Format_RGBA8888)
        bits = image.constBits()
        assert bits is not None
        sheet = np.frombuffer(bits.asstring(image.sizeInBytes()), np.uint8).reshape(image.height(), -1)[
            :, : image.width() * 4
        ]
        sheet = sheet.reshape(image.height(), image.width(), 4)
        u = (azimuth / (2 * math.pi) + 0.5) * image.width() - 0.5
        v = (0.5 - altitude / math.pi) * image.height() - 0.5
        drawn = cv2.remap(
            np.ascontiguousarray(sheet), u.astype(np.float32), v.astype(np.float32), cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_WRAP,
        )  # fmt: skip
        drawn[~inside] = 0
        box = QRectF(
            self._middle.x() - self._radius, self._middle.y() - self._radius, 2 * self._radius, 2 * self._radius
        )
        return box, plain_qimage(drawn)


class Poles:
    """Zenith and nadir side by side, as the head sees them tilted back and bent down: yaw 0 below and above."""

    def __init__(self, discs: tuple[Disc, Disc]) -> None:
        self.discs = discs

    @property
    def px_per_deg(self) -> float:
        """Scale at the poles."""
        return self.discs[0].px_per_deg

    @property
    def outline(self) -> list[QPolygonF | QRectF]:
        return [*self.discs[0].outline, *self.discs[1].outline]

    def point(self, azimuth_deg: float, altitude_deg: float) -> QPointF | None:
        return self.discs[altitude_deg < 0].point(azimuth_deg, altitude_deg)

    def polygons(self, shape: QPolygonF) -> list[QPolygonF]:
        return [drawn for disc in self.discs for drawn in disc.polygons(shape)]

    def path(self, angles: list[tuple[float, float]]) -> list[QPolygonF]:
        return [piece for disc in self.discs for piece in disc.path(angles)]

    def angles(self, place: QPointF) -> tuple[float, float] | None:
        return next((found for disc in self.discs if (found := disc.angles(place)) is not None), None)

    def image(self, picture: QImage, key: int) -> list[tuple[QRectF, QImage]]:
        return [drawn for disc in self.discs for drawn in disc.image(picture, key)]


def fitted(field: TargetField, boxes: list[QRectF], size: QSize, look: MapLook) -> Unrolled:
    """The unrolled form that shows the field and the shapes in ``boxes`` (degrees), enlarged as the look says."""
    bounds = QRectF(field.left_deg, field.low_deg, field.sweep_deg, field.high_deg - field.low_deg)
    for box in boxes:
        if box.width() < 350:
            bounds = bounds.united(box.translated(360 * round((bounds.center().x() - box.center().x()) / 360), 0))
    low, high = max(-90.0, bounds.top()), min(90.0, bounds.bottom())
    left, right = bounds.left(), bounds.right()
    if field.full_circle:
        left, right = field.left_deg, field.right_deg
    tall = size.height() - PAD_TOP - PAD_BOTTOM
    scale = look.zoom * min((size.width() - 2 * PAD_X) / max(1.0, right - left), tall / max(1.0, high - low))
    transform = QTransform()
    transform.translate(size.width() / 2, PAD_TOP + tall / 2)
    transform.scale(scale, -scale)
    transform.translate(-(left + right) / 2 - look.yaw_deg, -(low + high) / 2 - look.pitch_deg)
    return Unrolled(transform, field, size)


def form_of(look: MapLook, field: TargetField, boxes: list[QRectF], size: QSize) -> Form:
    """The form for a look."""
    if look.form == "unrolled":
        return fitted(field, boxes, size, look)
    tall = max(20.0, (size.height() - PAD_TOP - 6) / 2)
    middle = QPointF(size.width() / 2, PAD_TOP + tall)
    if look.form == "globe":
        yaw = math.radians((field.left_deg + field.right_deg) / 2 + look.yaw_deg)
        pitch = math.radians(max(-90.0, min(90.0, (field.low_deg + field.high_deg) / 2 + look.pitch_deg)))
        camera = rotations.from_yaw_pitch_roll(np.array(yaw), np.array(pitch), np.array(0.0))
        return Disc(middle, tall * look.zoom, camera, globe=True)
    radius = tall * look.zoom
    yaw = math.radians(look.yaw_deg)
    discs = tuple(
        Disc(
            middle + QPointF(side * min(radius + 12, size.width() / 4), 0),
            radius,
            rotations.from_yaw_pitch_roll(np.array(yaw), np.array(pole), np.array(0.0)),
            globe=False,
        )
        for side, pole in ((-1, math.pi / 2), (1, -math.pi / 2))
    )
    return Poles((discs[0], discs[1]))
