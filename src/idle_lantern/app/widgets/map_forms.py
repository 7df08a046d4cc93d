"""Forms of the map: how directions become places on the widget. Unrolled, as a globe seen from inside, or as both poles.

A form is made anew for each size, field and view; it is asked for places, outlines and back for directions.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import cv2
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QImage, QPolygonF, QTransform

from idle_lantern.app.display import plain_qimage
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.frame_outlines import HIGHEST_DEG, POLE_DEG
from idle_lantern.core.geometry.sphere import azimuth_altitude, direction
from idle_lantern.core.plan.target_field import TargetField

FORMS = {"unrolled": "Unrolled", "globe": "Globe", "poles": "Zenith and nadir"}
#: Lower than this the unrolled map is a strip: it shows frames alone, and its height is another scale than its width.
STRIP_PX, _STRIP_UNTIL_PX = 36, 72
#: Pixels about the map, for its scales.
PAD_X = 26
PAD_TOP = 14
PAD_BOTTOM = 22
_CLOSEST, _FARTHEST = 12.0, 0.5
#: A picture on a curved form is drawn with so many pixels across at most.
_MOST_ACROSS = 900


@dataclass(frozen=True)
class MapLook:
    """How the map is looked at: its form, how much it is enlarged, and what was moved to the middle, in degrees.

    Unrolled it fits what is planned, or with ``circle`` the whole circle.
    """

    form: str = "unrolled"
    zoom: float = 1.0
    yaw_deg: float = 0.0
    pitch_deg: float = 0.0
    circle: bool = False

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

    def rims(self, shape: QPolygonF) -> list[QPolygonF]:
        """The lines of an outline that are rims of a frame; those that only close it at a pole are not."""

    def path(self, angles: list[tuple[float, float]] | Array) -> list[QPolygonF]:
        """A line through directions, in pieces where parts of it are not shown."""

    def angles(self, place: QPointF) -> tuple[float, float] | None:
        """The direction at a place, None beside the map."""

    def image(self, picture: QImage, key: int) -> list[tuple[QRectF, QImage]]:
        """A picture of the whole sphere as it lies on the widget; ``key`` tells whether it is another one."""

    #: Outlines that were drawn on it, by the id of their shape.
    known: dict[int, Drawn]

    @property
    def px_per_deg(self) -> float:
        """Scale in the middle."""

    @property
    def outline(self) -> list[QPolygonF | QRectF]:
        """What the sphere takes of the widget."""


def angles_of(shape: QPolygonF) -> list[tuple[float, float]]:
    """The points of an outline, azimuth and altitude in degrees."""
    return [(shape[i].x(), shape[i].y()) for i in range(shape.count())]


#: Outlines as a form draws them: the shape itself, its areas, and its rims where these are not simply the edges of the areas.
Drawn = tuple[QPolygonF, list[QPolygonF], list[QPolygonF]]


def drawn(form: Form, shape: QPolygonF) -> Drawn:
    """An outline on a form, reckoned once: the map is painted many times while a frame is shot."""
    found = form.known.get(id(shape))
    if found is None:  # the shape is kept with it, so that no other can have its id
        whole = isinstance(form, Unrolled) and isinstance(shape, Outline) and shape.is_plain
        found = form.known[id(shape)] = shape, form.polygons(shape), [] if whole else form.rims(shape)
    return found


class Outline(QPolygonF):
    """An area in degrees that knows its rim (``core.geometry.frame_outlines``)."""

    def __init__(self, points: Array) -> None:
        super().__init__([QPointF(x, y) for x, y in points.tolist()])
        self._points = points

    @property
    def is_plain(self) -> bool:
        """Whether its edges are all rim: it holds no pole."""
        return bool((np.abs(self._points[:, 1]) < POLE_DEG).all())

    @cached_property
    def rims(self) -> list[Array]:
        """Its rim as lines (N, 2) in degrees."""
        return rims_of(self._points)


def rims_of(points: Array) -> list[Array]:
    """The rim of an area (N, 2) in degrees as lines; an area without a pole is one closed line."""
    on_rim = np.abs(points[:, 1]) < POLE_DEG
    if on_rim.all():
        return [np.concatenate([points, points[:1]])] if len(points) else []
    runs = np.split(np.arange(len(points)), np.flatnonzero(np.diff(on_rim.astype(int))) + 1)
    return [points[run] for run in runs if on_rim[run[0]] and len(run) > 1]


def rim_lines(shape: QPolygonF) -> list[Array]:
    """The same of an outline on the map."""
    return shape.rims if isinstance(shape, Outline) else rims_of(np.array(angles_of(shape)).reshape(-1, 2))


def holds(shape: QPolygonF, azimuth_deg: float, altitude_deg: float) -> bool:
    """Whether a direction lies in an area."""
    box = shape.boundingRect()
    # a hair beside the lines that only close an area: straight ahead, and along the poles
    azimuth_deg, altitude_deg = azimuth_deg + 1e-5, max(-HIGHEST_DEG, min(HIGHEST_DEG, altitude_deg))
    first = math.ceil((box.left() - azimuth_deg) / 360)
    return any(
        shape.containsPoint(QPointF(azimuth_deg + 360 * k, altitude_deg), Qt.FillRule.OddEvenFill)
        for k in (first, first + 1)
    )


class Unrolled:
    """Azimuth across and altitude up at one scale, one full turn about the field's middle."""

    def __init__(self, transform: QTransform, field: TargetField, size: QSize, *, strip: bool = False) -> None:
        self.transform, self.strip = transform, strip
        self.known: dict[int, Drawn] = {}
        self._back, _ = transform.inverted()
        self._size = size
        self.middle_deg = field.middle_deg

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
        """The copies of a shape, in degrees, that reach into the turn that the map shows."""
        box, left, right = shape.boundingRect(), self.middle_deg - 180, self.middle_deg + 180
        first, last = math.ceil((left - box.right()) / 360), math.floor((right - box.left()) / 360)
        return [360 * k for k in range(first, last + 1)]

    def rims(self, shape: QPolygonF) -> list[QPolygonF]:
        lines = [QPolygonF([QPointF(x, y) for x, y in line.tolist()]) for line in rim_lines(shape)]
        step = 360 * self.px_per_deg
        return [
            drawn if not turn else drawn.translated(turn / 360 * step, 0)
            for line in lines
            for drawn in (self.transform.map(line),)
            for turn in self.turns(shape)
        ]

    def path(self, angles: list[tuple[float, float]] | Array) -> list[QPolygonF]:
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
        self.known: dict[int, Drawn] = {}

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
        return self._places_of(direction(*np.radians(angles).T) @ self._camera)

    def _places_of(self, rays: Array) -> tuple[Array, Array]:
        """The same of rays (N, 3) as the disc's middle sees them."""
        front = rays[:, 2] >= 0.0
        if self._globe:
            return rays[:, :2] * self._radius, front
        off = np.arccos(np.clip(rays[:, 2], -1, 1)) / (math.pi / 2)
        flat = np.maximum(np.hypot(rays[:, 0], rays[:, 1]), 1e-12)
        return rays[:, :2] / flat[:, None] * (off * self._radius)[:, None], front

    def point(self, azimuth_deg: float, altitude_deg: float) -> QPointF | None:
        off, front = self._places(np.array([[azimuth_deg, altitude_deg]]))
        return self._middle + QPointF(*off[0]) if front[0] else None

    def polygons(self, shape: QPolygonF) -> list[QPolygonF]:
        """The area as far as it faces the viewer: where its rim goes behind, the disc's edge closes it."""
        ring = max(rim_lines(shape), key=len, default=np.zeros((0, 2)))
        if len(ring) < 4:
            return []
        rays = direction(*np.radians(ring).T) @ self._camera
        off, front = self._places_of(rays)
        if front.all() or not front.any():
            closed = self._edge(0.0, 2 * math.pi) if self._edge_in(shape, 0.1) else np.zeros((0, 2))
            parts = [closed, off if front.all() else np.zeros((0, 2)), closed[:1]]
            return [self._polygon(np.concatenate(parts))] if sum(map(len, parts)) > 2 else []
        return [self._polygon(loop) for loop in self._closed(shape, rays, off, front)]

    def _closed(self, shape: QPolygonF, rays: Array, off: Array, front: Array) -> list[Array]:
        """Loops of an area whose rim crosses the disc's edge: pieces of the rim, tied by those arcs that lie in the area."""
        start = int(np.flatnonzero(~front)[0])
        order = (np.arange(len(rays) - 1) + start) % (len(rays) - 1)  # the last point is the first again
        rays, off, front = rays[order], off[order], front[order]
        pieces: list[tuple[float, Array, float]] = []
        for run in np.split(np.arange(len(rays)), np.flatnonzero(np.diff(front.astype(int))) + 1):
            if front[run[0]]:
                enters = self._crossing(rays[run[0] - 1], rays[run[0]])
                leaves = self._crossing(rays[run[-1]], rays[(run[-1] + 1) % len(rays)])
                pieces.append((enters, off[run], leaves))
        ends = sorted([p[0] for p in pieces] + [p[2] for p in pieces])
        loops = []
        while pieces:
            first = enters = pieces[0][0]
            loop: list[Array] = []
            while True:
                at = next((k for k, p in enumerate(pieces) if p[0] == enters), None)
                if at is None:
                    break
                _enters, line, leaves = pieces.pop(at)
                loop.append(line)
                here = ends.index(leaves)
                on, back = ends[(here + 1) % len(ends)], ends[here - 1]
                forward = (on - leaves) % (2 * math.pi) or 2 * math.pi
                if self._edge_in(shape, leaves + forward / 2):
                    loop.append(self._edge(leaves, leaves + forward))
                    enters = on
                else:
                    loop.append(self._edge(leaves, leaves - ((leaves - back) % (2 * math.pi) or 2 * math.pi)))
                    enters = back
                if enters == first:
                    break
            loops.append(np.concatenate(loop))
        return loops

    def _crossing(self, one: Array, other: Array) -> float:
        """Where on the disc's edge a line between two rays crosses it, as an angle."""
        share = one[2] / (one[2] - other[2])
        at = one + share * (other - one)
        return math.atan2(at[1], at[0])

    def _edge(self, start: float, end: float) -> Array:
        """Places along the disc's edge from one angle to another."""
        turn = np.linspace(start, end, max(2, int(abs(end - start) * 20)))
        return np.stack([np.cos(turn), np.sin(turn)], -1) * self._radius

    def _edge_in(self, shape: QPolygonF, turn: float) -> bool:
        azimuth, altitude = azimuth_altitude(self._camera @ np.array([math.cos(turn), math.sin(turn), 0.0]))
        return holds(shape, math.degrees(float(azimuth)), math.degrees(float(altitude)))

    def rims(self, shape: QPolygonF) -> list[QPolygonF]:
        return [piece for line in rim_lines(shape) for piece in self.path(line)]

    def path(self, angles: list[tuple[float, float]] | Array) -> list[QPolygonF]:
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
        self.known: dict[int, Drawn] = {}

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

    def rims(self, shape: QPolygonF) -> list[QPolygonF]:
        return [piece for disc in self.discs for piece in disc.rims(shape)]

    def path(self, angles: list[tuple[float, float]] | Array) -> list[QPolygonF]:
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
        else:  # round a pole
            bounds = bounds.united(QRectF(bounds.left(), box.top(), bounds.width(), box.height()))
    low, high = max(-90.0, bounds.top()), min(90.0, bounds.bottom())
    left, right = bounds.left(), bounds.right()
    if field.full_circle or look.circle or right - left > 360:
        left, right = field.middle_deg - 180, field.middle_deg + 180
    transform = QTransform()
    if size.height() < _STRIP_UNTIL_PX:
        transform.translate(size.width() / 2, size.height() / 2)
        transform.scale((size.width() - 16) / max(1.0, right - left), -(size.height() - 6) / max(1.0, high - low))
        transform.translate(-(left + right) / 2, -(low + high) / 2)
        return Unrolled(transform, field, size, strip=True)
    tall = size.height() - PAD_TOP - PAD_BOTTOM
    scale = look.zoom * min((size.width() - 2 * PAD_X) / max(1.0, right - left), tall / max(1.0, high - low))
    transform.translate(size.width() / 2, PAD_TOP + tall / 2)
    transform.scale(scale, -scale)
    transform.translate(-(left + right) / 2 - look.yaw_deg, -(low + high) / 2 - look.pitch_deg)
    return Unrolled(transform, field, size)


def form_of(look: MapLook, field: TargetField, boxes: list[QRectF], size: QSize) -> Form:
    """The form for a look; a low map is a strip, whatever the look."""
    if look.form == "unrolled" or size.height() < _STRIP_UNTIL_PX:
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
