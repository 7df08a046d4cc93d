"""The map: the sphere round the camera with the frames on it through all stages.

Unrolled, azimuth runs across and altitude up, both at one scale; the globe and the poles show the same (``map_forms``).
A frame is drawn by its true outline; its state is told by line and pattern (``map_paint``). The edges of the wanted field,
marks and the scouting picture can be dragged; frames are chosen by click or arrow keys.
"""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QContextMenuEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QTransform,
    QWheelEvent,
)
from PyQt6.QtWidgets import QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.app.display import to_qimage
from idle_lantern.app.state import AppState
from idle_lantern.app.widgets import map_hands
from idle_lantern.app.widgets.map_forms import FORMS, STRIP_PX, Form, MapLook, Outline, fitted, form_of, zoomed
from idle_lantern.app.widgets.map_paint import MapContent, MapPaint
from idle_lantern.app.widgets.map_shapes import JoinOnMap, planned_outlines
from idle_lantern.core.base.arrays import Array


class MapView(QWidget):
    """The sphere with the frames on it."""

    chosen = pyqtSignal(int)
    #: A menu is asked for at a place of the window, about a direction (azimuth, altitude) in degrees.
    menu_asked = pyqtSignal(object, float, float)
    #: The scouting picture is dragged by so many degrees since the drag began; whether it was let go.
    ground_dragged = pyqtSignal(float, float, bool)
    look_changed = pyqtSignal()
    #: A direction (azimuth, altitude) in degrees was clicked.
    pointed = pyqtSignal(float, float)

    def __init__(self, state: AppState, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.state = state
        self.setAccessibleName("Map of frames")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(STRIP_PX)
        self.editable = True
        self.look = MapLook()
        self.shapes: list[Outline] = []
        self.image: QImage | None = None
        #: The scouting pictures of the outing, on the sphere.
        self.scouted: QImage | None = None
        self._sheets: list[Array | None] = [None, None]
        #: Whether dragging moves the scouting picture in front.
        self.drags_ground = False
        self.chosen_mark: int | None = None
        self.join = JoinOnMap()
        self.show_links = self.show_found = False
        #: What of the picture stands in the window, as an area in degrees.
        self.sight: QPolygonF | None = None
        self._drag: str | int | None = None  # an edge, "ground", "view", or the place of a mark in the list
        self._from, self._held = QPointF(), None  # type: tuple[QPointF, Form | None]
        self._ground_by = (0.0, 0.0)  # how far the scouting picture was dragged so far
        self._form: tuple[object, Form] | None = None
        self._painted: QPixmap | None = None
        state.changed.connect(self._refresh)
        self._refresh({"plan"})

    # --- what it shows ----------------------------------------------------------

    def set_picture(self, rgba: Array | None) -> None:
        """A picture of the whole sphere to lie under the frames, (H, W, 4)."""
        self._sheets[0], self.image = rgba, None if rgba is None else to_qimage(rgba)
        self.update()

    def set_scouted(self, rgba: Array | None) -> None:
        """The scouting pictures on the whole sphere, to lie under everything, (H, W, 4)."""
        self._sheets[1], self.scouted = rgba, None if rgba is None else to_qimage(rgba)
        self.update()

    def show_sheets_again(self) -> None:
        """Show what lies on it as the screen has it now."""
        self.set_picture(self._sheets[0])
        self.set_scouted(self._sheets[1])

    def set_join(self, join: JoinOnMap) -> None:
        """Links and frames of a join to lie on the map."""
        self.join = join
        self._form = None
        self.update()

    def set_sight(self, sight: QPolygonF | None) -> None:
        """What of the picture stands in the window; None where all of it does."""
        self.sight = sight
        super().update()  # it lies over what was painted: a picture that moves under the hand must not wait for the map

    def _refresh(self, topics: set[str]) -> None:
        if "plan" in topics:
            self.shapes = planned_outlines(self.state.plan.rig, self.state.shown_frames)
            self._form = None
            marks = len(self.state.plan.brief.scene.marks)
            if self.chosen_mark is not None and self.chosen_mark >= marks:
                self.chosen_mark = None
        self.update()

    def used_numbers(self) -> set[int]:
        """Planned frames that the present picture is made of."""
        ids = set(self.state.joined.frame_ids) if self.state.joined is not None else set()
        return {r.number for r in self.state.outing.frames if r.id in ids and r.number is not None}

    # --- look -------------------------------------------------------------------

    def set_form(self, name: str) -> None:
        """Unrolled, as a globe, or both poles; the view starts anew."""
        self._look(MapLook(name))

    def next_form(self) -> None:
        """The form after the present one."""
        names = list(FORMS)
        self.set_form(names[(names.index(self.look.form) + 1) % len(names)])

    def zoom_by(self, factor: float, about: QPointF | None = None) -> None:
        """Enlarge about a place, which stays where it is; the middle without one."""
        place = about or QPointF(self.rect().center())
        before = self.form.angles(place)
        self._look(replace(self.look, zoom=zoomed(self.look, factor)))
        after = self.form.angles(place)
        if before is not None and after is not None and self.look.form == "unrolled":
            self._pan(before[0] - after[0], before[1] - after[1])

    def toggle_circle(self) -> None:
        """Show the whole circle, or what is planned again."""
        self._look(replace(self.look, form="unrolled", circle=not self.look.circle))

    def show_all(self) -> None:
        """Fit the map to its height and width again."""
        self._look(MapLook(self.look.form))

    def _pan(self, yaw_deg: float, pitch_deg: float) -> None:
        look = self.look
        pitch = max(-180.0, min(180.0, look.pitch_deg + pitch_deg))
        self._look(replace(look, yaw_deg=(look.yaw_deg + yaw_deg + 180) % 360 - 180, pitch_deg=pitch))

    def _look(self, look: MapLook) -> None:
        self.look, self._form = look, None
        self.look_changed.emit()
        self.update()

    # --- geometry ---------------------------------------------------------------

    @property
    def form(self) -> Form:
        """The form at the present size, field and look."""
        key = (self.size(), self.state.plan.target_field, self.look)
        if self._form is None or self._form[0] != key:
            self._form = key, form_of(self.look, self.state.plan.target_field, self._boxes(), self.size())
        return self._form[1]

    def to_screen(self) -> QTransform:
        """Degrees (azimuth, altitude) to widget pixels of the unrolled form; one scale both ways."""
        return fitted(self.state.plan.target_field, self._boxes(), self.size(), self.look).transform

    def _boxes(self) -> list[QRectF]:
        """What the unrolled map has to show beside the wanted field, in degrees."""
        marks = [
            QRectF(m.yaw_deg - m.width_deg / 2, m.pitch_deg - m.tall_deg / 2, m.width_deg, m.tall_deg)
            for m in self.state.plan.brief.scene.marks
        ]
        return [*(shape.boundingRect() for shape in (*self.shapes, *self.join.shapes)), *marks]

    def edge_at(self, pos: QPointF) -> str | None:
        """Which edge of the wanted field lies under the pointer."""
        editable = self.editable and self.state.outing.shows_plan
        return map_hands.edge_at(self.state.plan.target_field, self.form, pos) if editable else None

    def mark_at(self, pos: QPointF) -> int | None:
        """Which mark lies under the pointer."""
        return map_hands.mark_at(self.state.plan.brief.scene.marks, self.form, pos) if self.editable else None

    def frame_at(self, pos: QPointF) -> int | None:
        """Number of the frame whose middle is nearest among those under the pointer."""
        return map_hands.frame_at(self.state.shown_frames, self.shapes, self.form, pos)

    def update(self, *_: object) -> None:
        """Something that is shown changed: paint it anew."""
        self._painted = None
        super().update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """What was painted before, where only something over the map changed: a map of many frames takes its time."""
        dense = self.devicePixelRatioF()
        if self._painted is None or self._painted.size() != self.size() * dense:
            self._painted = QPixmap(self.size() * dense)
            self._painted.setDevicePixelRatio(dense)
            self._paint(self._painted)
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._painted)
        if self.sight is not None:
            rims = self.form.rims(self.sight)
            for tone, width in (("ground", 4.0), ("accent", 1.6)):
                painter.setPen(QPen(theme.colour(tone), width))
                for rim in rims:
                    painter.drawPolyline(rim)
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("accent"), 2))
            painter.drawRect(self.rect().adjusted(1, 1, -1, -1))
        painter.end()

    def _paint(self, onto: QPixmap) -> None:
        painter = QPainter(onto)
        shown = MapContent(
            state=self.state,
            size=self.size(),
            shapes=self.shapes,
            used=self.used_numbers(),
            image=self.image,
            scouted=self.scouted,
            editable=self.editable and self.state.outing.shows_plan,
            chosen_mark=self.chosen_mark,
            join=self.join if self.show_found else None,
            show_links=self.show_links,
            dragged=self._drag is not None,
        )
        MapPaint(shown, painter, self.form).all()
        painter.end()

    # --- hands ------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        pos = event.position()
        self._from = pos
        if event.button() == Qt.MouseButton.MiddleButton:
            self._drag = "view"
            return
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self._held = self.form  # a map that rescales under the hand runs away
        if self.drags_ground and self.editable and self.scouted is not None:
            self._drag, self._ground_by = "ground", (0.0, 0.0)
            return
        mark = self.mark_at(pos)
        if mark is not None:
            self._drag = self.chosen_mark = mark
            self.update()
            return
        self._drag = self.edge_at(pos)
        if self._drag is None:
            number = self.frame_at(pos)
            if number is None and self.look.form != "unrolled":
                self._drag = "view"
                return
            self.state.select(number)
            if number is not None:
                self.chosen.emit(number)
            at = self.form.angles(pos)
            if at is not None:
                self.pointed.emit(*at)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        pos = event.position()
        if self._drag is None:
            self._show_cursor(pos)
            return
        if self._drag == "view":
            before, now = self.form.angles(self._from), self.form.angles(pos)
            if before is not None and now is not None:
                by = pos - self._from if self.look.form != "unrolled" else None
                if by is None:
                    self._pan(before[0] - now[0], before[1] - now[1])
                else:  # a ball follows the hand, whatever lies under it
                    self._pan(-by.x() / self.form.px_per_deg, by.y() / self.form.px_per_deg)
            self._from = pos
            return
        at = (self._held or self.form).angles(pos)
        if at is None:
            return
        if self._drag == "ground":
            self._drag_ground(at)
        elif isinstance(self._drag, int):
            marks = self.state.plan.brief.scene.marks
            if self._drag < len(marks):
                self.state.apply(map_hands.mark_moved(marks, self._drag, at))
        else:
            self.state.apply(map_hands.edge_moved(self.state.plan.target_field, self._drag, at))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._drag is None or event is None:
            return
        if self._drag == "ground":
            self.ground_dragged.emit(*self._ground_by, True)
        self._drag = self._held = None
        self.state.history.seal()
        self.update()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None and event.angleDelta().y():
            self.zoom_by(1.25 ** (event.angleDelta().y() / 120), event.position())
            event.accept()

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is None or not self.editable:
            return
        if event.reason() == QContextMenuEvent.Reason.Keyboard:
            self.ask_menu()
            return
        at = self.form.angles(QPointF(event.pos()))
        if at is not None:
            self.menu_asked.emit(event.globalPos(), *at)

    def ask_menu(self) -> None:
        """The menu about the chosen frame's middle, or the middle of the picture."""
        plan = self.state.plan
        frame = plan.frame(self.state.selected) if self.state.selected else None
        at = (frame.yaw_deg, frame.pitch_deg) if frame else (plan.subject.yaw_deg, plan.subject.pitch_deg)
        place = self.form.point(*at) or QPointF(self.rect().center())
        self.menu_asked.emit(self.mapToGlobal(place.toPoint()), *at)

    def _show_cursor(self, pos: QPointF) -> None:
        ground = self.drags_ground and self.editable
        mark = not ground and self.mark_at(pos) is not None
        edge = None if ground or mark else self.edge_at(pos)
        self.setCursor(map_hands.cursor_for(edge, mark=mark, ground=ground))

    def _drag_ground(self, at: tuple[float, float]) -> None:
        start = (self._held or self.form).angles(self._from) or at
        self._ground_by = ((at[0] - start[0] + 180) % 360 - 180, at[1] - start[1])
        self.ground_dragged.emit(*self._ground_by, False)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        frames = self.state.shown_frames
        if step is not None and frames:
            present = self.state.selected or 0
            number = min(max(1, present + step), len(frames))
            self.state.select(number)
            self.chosen.emit(number)
        else:
            super().keyPressEvent(event)
