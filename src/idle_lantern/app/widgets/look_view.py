"""Looking around in a sphere over its picture: drag, wheel and keys turn and zoom, a throw glides on, and what stands still becomes sharp."""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QObject, QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QWheelEvent
from PyQt6.QtWidgets import QWidget

from idle_lantern.app import theme
from idle_lantern.app.display import plain_qimage

if TYPE_CHECKING:
    from idle_lantern.core.base.arrays import Array
    from idle_lantern.core.deliver.look_around import HeldSphere
    from idle_lantern.core.deliver.sight import Sight

#: While it moves it is drawn with at most so many pixels, so that it follows the hand.
_MOVING_PX = 900_000
_FRAME_MS, _RESTS_MS = 16, 160
#: A throw loses all but a third of its speed in this time; slower than so many degrees a second it stands.
_GLIDES_S, _STANDS_DEG_S = 0.35, 1.0
#: A hand that rested so long before it let go throws nothing.
_HELD_STILL_S = 0.08

#: Draws a view off the thread and hands it back.
Sharpen = Callable[["HeldSphere", "Sight", tuple[int, int], Callable[["Array"], None]], None]


class LookView(QWidget):
    """Lies over a picture while one looks around in it; ``left`` tells that Escape was pressed."""

    turned = pyqtSignal()
    left = pyqtSignal()

    def __init__(self, over: QWidget, sharpen: Sharpen) -> None:
        super().__init__(over)
        self.setAccessibleName("Looking around: arrow keys turn, plus and minus zoom, Home goes back, Escape ends it")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        self._sharpen = sharpen
        self._sphere: HeldSphere | None = None
        self.sight: Sight | None = None
        self._image: QImage | None = None
        self._sharp_of: tuple[Sight, tuple[int, int]] | None = None
        self.is_sharp = False
        self._hand: QPointF | None = None
        self._hand_s = 0.0
        self._speed = (0.0, 0.0)
        self._glide = QTimer(self)
        self._glide.setInterval(_FRAME_MS)
        self._glide.timeout.connect(self._glide_on)
        self._rests = QTimer(self)
        self._rests.setSingleShot(True)
        self._rests.setInterval(_RESTS_MS)
        self._rests.timeout.connect(self._ask_sharp)
        over.installEventFilter(self)
        self.hide()

    # --- what is looked at ----------------------------------------------------------

    def begin(self, sphere: HeldSphere) -> None:
        """Look around in a sphere, from its first view, or from where one looked before."""
        self._sphere = sphere
        before = self.sight
        first = sphere.first
        held = sphere.limits.held
        self.sight = first if before is None else held(before.yaw_deg, before.pitch_deg, before.field_deg)
        self._fill()
        self.show()
        self.raise_()
        self.setFocus()
        self._moved()

    def end(self) -> None:
        """Look no longer; the picture below is there again."""
        self._glide.stop()
        self._rests.stop()
        self._sphere, self._image = None, None
        self.hide()

    @property
    def is_looking(self) -> bool:
        """Whether one looks around now."""
        return self._sphere is not None

    @property
    def ready(self) -> bool:
        """Whether all that is wanted is shown."""
        return self.is_sharp

    def aim(self, yaw_deg: float, pitch_deg: float, field_deg: float) -> None:
        """Look there, within what the picture shows."""
        if self._sphere is None:
            return
        sight = self._sphere.limits.held(yaw_deg, pitch_deg, field_deg)
        if sight != self.sight:
            self.sight = sight
            self._moved()

    def fit(self) -> None:
        """The first view again."""
        if self._sphere is not None:
            self._glide.stop()
            first = self._sphere.first
            self.aim(first.yaw_deg, first.pitch_deg, first.field_deg)

    def show_full(self) -> None:
        """As near as a pixel of the picture takes one of the screen."""
        if self._sphere is not None and self.sight is not None:
            across = max(self._size_px())
            field = 2 * math.degrees(math.atan(across / 2 / self._sphere.px_per_rad))
            self.aim(self.sight.yaw_deg, self.sight.pitch_deg, field)

    def zoom_by(self, factor: float) -> None:
        """Come nearer by a factor."""
        if self.sight is not None:
            self.aim(self.sight.yaw_deg, self.sight.pitch_deg, self.sight.field_deg / factor)

    # --- drawing ----------------------------------------------------------------------

    def _size_px(self) -> tuple[int, int]:
        ratio = self.devicePixelRatioF()
        return max(1, round(self.width() * ratio)), max(1, round(self.height() * ratio))

    def _moved(self) -> None:
        """Draw quickly, and sharply once it rests."""
        if self._sphere is None or self.sight is None:
            return
        width, height = self._size_px()
        less = min(1.0, math.sqrt(_MOVING_PX / (width * height)))
        self._image = plain_qimage(
            self._sphere.quick(self.sight, (max(1, round(width * less)), max(1, round(height * less))))
        )
        self.is_sharp = False
        self._rests.start()
        self.update()
        self.turned.emit()

    def _ask_sharp(self) -> None:
        if self._sphere is None or self.sight is None:
            return
        sphere, sight, size = self._sphere, self.sight, self._size_px()
        self._sharp_of = (sight, size)

        def came(pixels: Array) -> None:
            if self._sphere is sphere and self._sharp_of == (self.sight, self._size_px()) == (sight, size):
                self._image, self.is_sharp = plain_qimage(pixels), True
                self.update()

        self._sharpen(sphere, sight, size, came)

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.colour("ground"))
        if self._image is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(QRectF(self.rect()), self._image, QRectF(self._image.rect()))

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.Resize and self.isVisible():
            self._fill()
            self._moved()
        return super().eventFilter(watched, event)

    def _fill(self) -> None:
        over = self.parentWidget()
        if over is not None:
            self.setGeometry(over.rect())

    # --- hands ------------------------------------------------------------------------

    def _degrees(self, by: QPointF) -> tuple[float, float]:
        """How far a hand that moved by so many logical pixels turns the view."""
        assert self.sight is not None
        f = self.sight.focal_px((self.width(), self.height()))
        up = max(0.2, math.cos(math.radians(self.sight.pitch_deg)))
        return math.degrees(-by.x() / f) / up, math.degrees(by.y() / f)

    def mousePressEvent(self, a0: QMouseEvent | None) -> None:
        if a0 is not None and a0.button() == Qt.MouseButton.LeftButton:
            self._glide.stop()
            self._hand, self._hand_s, self._speed = a0.position(), time.monotonic(), (0.0, 0.0)
            self.setCursor(Qt.CursorShape.ClosedHandCursor)

    def mouseMoveEvent(self, a0: QMouseEvent | None) -> None:
        if a0 is None or self._hand is None or self.sight is None:
            return
        yaw, pitch = self._degrees(a0.position() - self._hand)
        now = time.monotonic()
        took = max(1e-3, now - self._hand_s)
        self._hand, self._hand_s = a0.position(), now
        self._speed = (0.6 * self._speed[0] + 0.4 * yaw / took, 0.6 * self._speed[1] + 0.4 * pitch / took)
        self.aim(self.sight.yaw_deg + yaw, self.sight.pitch_deg + pitch, self.sight.field_deg)

    def mouseReleaseEvent(self, a0: QMouseEvent | None) -> None:
        if a0 is None or a0.button() != Qt.MouseButton.LeftButton or self._hand is None:
            return
        self._hand = None
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        if time.monotonic() - self._hand_s < _HELD_STILL_S and math.hypot(*self._speed) > _STANDS_DEG_S:
            self._hand_s = time.monotonic()
            self._glide.start()

    def _glide_on(self) -> None:
        now = time.monotonic()
        took, self._hand_s = now - self._hand_s, now
        if self.sight is None or math.hypot(*self._speed) < _STANDS_DEG_S:
            self._glide.stop()
            return
        yaw, pitch = (v * took for v in self._speed)
        self.aim(self.sight.yaw_deg + yaw, self.sight.pitch_deg + pitch, self.sight.field_deg)
        rest = math.exp(-took / _GLIDES_S)
        self._speed = (self._speed[0] * rest, self._speed[1] * rest)

    def wheelEvent(self, a0: QWheelEvent | None) -> None:
        if a0 is not None:
            self.zoom_by(1.15 ** (a0.angleDelta().y() / 120))
            a0.accept()

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is None or self.sight is None:
            return
        turns = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, 1),
            Qt.Key.Key_Down: (0, -1),
        }
        turn = turns.get(Qt.Key(a0.key()))
        step = self.sight.field_deg / 15
        if turn is not None:
            self._glide.stop()
            yaw, pitch = self.sight.yaw_deg + turn[0] * step, self.sight.pitch_deg + turn[1] * step
            self.aim(yaw, pitch, self.sight.field_deg)
        elif a0.key() == Qt.Key.Key_Home:
            self.fit()
        elif a0.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(a0)
