"""The frame in the hand over the joined picture: dragged, rolled, looked at three ways, laid down."""

from __future__ import annotations

from PyQt6.QtCore import QObject, QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QPainter, QPen

from idle_lantern.app import theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.display import to_qimage
from idle_lantern.app.stages import placing_model as model
from idle_lantern.app.widgets.picture_tools import ToWidget
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.join.request import JoinResult

READING = "Taking a frame into the hand"
_BLINK_MS, _THROUGH = 600, 0.6
#: A key rolls by so many degrees, with Shift by ten times as many.
_ROLL_DEG = 0.2


class FramePlacing(QObject):
    """Takes a frame into the hand as a tool of the view; ``laid`` when it was laid down."""

    laid = pyqtSignal()
    cursor = Qt.CursorShape.SizeAllCursor
    claims: frozenset[int] = frozenset(
        (Qt.Key.Key_X, Qt.Key.Key_B, Qt.Key.Key_Comma, Qt.Key.Key_Period, Qt.Key.Key_Return, Qt.Key.Key_Enter)
    )
    pointer: QPointF | None = None

    def __init__(self, context: AppContext, view: PictureView) -> None:
        super().__init__(view)
        self._context, self._state, self._view = context, context.state, view
        self.held: model.HeldFrame | None = None
        self._joined: JoinResult | None = None
        self._image: tuple[QImage, QRectF] | None = None
        self._grab: tuple[QPointF, model.HeldFrame] | None = None
        self._difference = False
        self._shown = True
        self._blink = QTimer(self)
        self._blink.setInterval(_BLINK_MS)
        self._blink.timeout.connect(self._turn_over)
        view.tool_left.connect(self.leave)
        view.zoomed.connect(lambda _z: self._redraw())
        self._state.changed.connect(self._follow)

    def take(self, frame: str) -> None:
        """Read a frame and take it into the hand."""
        joined, ref = self._state.joined, self._state.outing.frame(frame)
        if joined is None or joined.solution is None or ref is None or not self._state.may_change():
            return
        outing, path, view = self._state.outing, self._state.path_of(ref), self._view
        middle = view.to_picture(QPointF(view.width() / 2, view.height() / 2))

        def done(found: model.HeldFrame) -> None:
            if self._state.joined is joined:
                self.held, self._joined = found, joined
                self._difference, self._shown = False, True
                view.set_tool(self)
                view.setFocus()
                self._redraw()

        self._context.start(
            READING,
            lambda _t: model.held(outing, joined, frame, path, (middle.x(), middle.y())),
            done,
            lambda e: self._context.tell(e.sentence),
            quiet=True,
        )

    def leave(self) -> None:
        """Put the frame back."""
        if self.held is not None:
            self.held = self._image = self._grab = self._joined = None
            self._blink.stop()
            if self._view.tool is self:
                self._view.set_tool(None)

    def lay_down(self) -> None:
        """Tie the frame where it lies."""
        if self.held is None or self._joined is None:
            return
        try:
            edit = model.laid_down(self._joined, self.held, self._view.zoom)
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self.leave()
        if self._state.apply(edit):
            self.laid.emit()

    # --- as a tool ----------------------------------------------------------------

    def press(self, place: QPointF, pos: QPointF, zoom: float) -> None:
        """Grabbed."""
        if self.held is not None:
            self._grab = place, self.held

    def move(self, place: QPointF, pos: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """The frame follows."""
        if self._grab is not None and self._joined is not None:
            start, before = self._grab
            self.held = before.dragged(self._joined, (start.x(), start.y()), (place.x(), place.y()))
            self._redraw()

    def release(self, place: QPointF) -> None:
        """Let go; it stays in the hand until it is laid down."""
        self._grab = None

    def key(self, event: QKeyEvent) -> bool:
        """Comma and stop roll, X and B change how it is looked at, Enter lays it down."""
        held, size = self.held, 10.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        key = event.key()
        if held is None:
            return False
        if key in (Qt.Key.Key_Comma, Qt.Key.Key_Less, Qt.Key.Key_Semicolon):
            self.held = held.rolled(-_ROLL_DEG * size)
        elif key in (Qt.Key.Key_Period, Qt.Key.Key_Greater, Qt.Key.Key_Colon):
            self.held = held.rolled(_ROLL_DEG * size)
        elif key == Qt.Key.Key_X:
            self._difference = not self._difference
        elif key == Qt.Key.Key_B:
            self._shown = True
            self._blink.stop() if self._blink.isActive() else self._blink.start()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.lay_down()
            return True
        else:
            return False
        self._redraw()
        return True

    def draw(self, painter: QPainter, to_widget: ToWidget) -> None:
        """The frame, see-through, as its difference or blinking, with its rim."""
        if self._image is None:
            return
        image, lies = self._image
        target = QRectF(to_widget(lies.topLeft()), to_widget(lies.bottomRight()))
        if self._shown:
            painter.save()
            if self._difference:
                painter.setCompositionMode(QPainter.CompositionMode.CompositionMode_Difference)
            elif not self._blink.isActive():
                painter.setOpacity(_THROUGH)
            painter.drawImage(target, image)
            painter.restore()
        for pen in (QPen(theme.colour("ground", 200), 3.2), QPen(theme.colour("accent"), 1.4, Qt.PenStyle.DashLine)):
            painter.setPen(pen)
            painter.drawRect(target)

    # --- showing ------------------------------------------------------------------

    def _turn_over(self) -> None:
        self._shown = not self._shown
        self._view.update()

    def _redraw(self) -> None:
        if self.held is None or self._joined is None:
            return
        found = model.drawn(self._joined, self.held, self._view.zoom)
        self._image = None if found is None else (to_qimage(found[0]), QRectF(*found[1]))
        self._context.tell(model.told(self.held, self._view.zoom, self._joined), problem=False)
        self._view.update()

    def _follow(self, topics: set[str]) -> None:
        if self.held is not None and self._state.joined is not self._joined:
            self.leave()
