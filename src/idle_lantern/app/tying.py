"""Tying frames by hand: two of them beside each other, one thing clicked or drawn along in both, made exact where there is detail."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QKeyEvent, QPainter, QPen
from PyQt6.QtWidgets import QDialog, QListWidget, QWidget

from idle_lantern.app import theme
from idle_lantern.app import tie_model as model
from idle_lantern.app.desk import Desk
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.picture_tools import PlaceTool
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.picture import Picture
from idle_lantern.core.frames.frameset import names_of
from idle_lantern.core.frames.reading import FrameInfo, probe, read
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.model import HandPoint
from idle_lantern.core.pictures.source import HeldPicture

READING = "Reading two frames"
#: Below this zoom a click only goes nearer.
_EXACT_ZOOM = 0.9
#: A line shorter than this on the screen was no line.
_SHORTEST_PX = 20


_EXPLAINED = {
    False: "Click near a thing: the frame comes to 100 %. Click it exactly, then the same in the other frame. "
    "The wheel zooms, 0 shows all of a frame, Esc drops a point that is half set.",
    True: "Drag along something straight, then along the same in the other frame: a wall, a mast, the horizon. Each may show "
    "another part of it. 0 shows all of a frame, Esc drops a line that is half set.",
}


class _TieTool(PlaceTool):
    """Clicks choose places, or drags draw lines; those that were set are drawn with their numbers."""

    def __init__(self, side: _Side) -> None:
        super().__init__(side.clicked)
        self._side = side
        self._begun: QPointF | None = None
        self._end = QPointF()

    def press(self, place: QPointF, pos: QPointF, zoom: float) -> None:
        """A line begins."""
        if self._side.draws_lines:
            self._begun = self._end = place

    def move(self, place: QPointF, pos: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """It follows the hand."""
        self._end = place

    def release(self, place: QPointF) -> None:
        """The line or place is chosen."""
        if not self._side.draws_lines:
            super().release(place)
        elif self._begun is not None:
            begun, self._begun = self._begun, None
            self._side.drawn(begun, place)

    def draw(self, painter: QPainter, to_widget: Any) -> None:
        """Crosses and lines with a number each; the one that waits for its other half is open."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(theme.SMALL, bold=True))
        marks = [(places, str(i + 1)) for i, places in enumerate(self._side.ties)]
        if self._side.waiting:
            marks.append((self._side.waiting, "?"))
        for places, text in marks:
            at = [to_widget(QPointF(x + 0.5, y + 0.5)) for x, y in places]
            _draw_mark(painter, at, text)
        if self._begun is not None:
            _draw_mark(painter, [to_widget(self._begun), to_widget(self._end)], "")


def _draw_mark(painter: QPainter, at: list[QPointF], text: str) -> None:
    """A cross that leaves its middle free, or a line that leaves what it lies on free, and its number."""
    first = at[0]
    for pen in (QPen(theme.colour("ground", 220), 4), QPen(theme.colour("accent"), 1.6)):
        painter.setPen(pen)
        if len(at) > 1:
            for offset in _beside(*at):
                painter.drawLine(at[0] + offset, at[1] + offset)
        else:
            for dx, dy in ((-1, 0), (1, 0), (0, -1), (0, 1)):
                painter.drawLine(first + QPointF(13 * dx, 13 * dy), first + QPointF(4 * dx, 4 * dy))
            if text == "?":
                painter.drawEllipse(first, 17, 17)
    if text:
        tag = QRectF(first.x() + 9, first.y() + 9, 20, 18)
        painter.fillRect(tag, theme.colour("ground", 220))
        painter.setPen(theme.colour("text"))
        painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, text)


def _beside(one: QPointF, other: QPointF) -> tuple[QPointF, QPointF]:
    """The ways to both sides of a line, so far that the line itself stays free."""
    way = other - one
    length = max(math.hypot(way.x(), way.y()), 1e-6)
    across = QPointF(-way.y(), way.x()) * (5 / length)
    return across, -across


class _Side:
    """One of the two frames: its view, its chooser, what is marked on it."""

    def __init__(self, dialog: TieDialog, name: str, names: list[str]) -> None:
        self._dialog = dialog
        self.view = PictureView()
        self.view.setAccessibleName(f"Frame on the {name}")
        self.view.setObjectName(f"tie-{name}-view")
        self.chooser = Chooser()
        self.chooser.setObjectName(f"tie-{name}")
        self.chooser.setAccessibleName(f"Frame on the {name}")
        self.chooser.addItems(names)
        self.ties: list[tuple[model.Place, ...]] = []
        self.waiting: tuple[model.Place, ...] = ()
        self.zoom = 1.0  # at which what waits was drawn
        self.info: FrameInfo | None = None
        self.pixels: Picture | None = None
        self.view.set_tool(_TieTool(self))

    @property
    def draws_lines(self) -> bool:
        """Whether lines are drawn now instead of points clicked."""
        return self._dialog.lines_button.isChecked()

    def clicked(self, place: QPointF) -> None:
        """A place was chosen: from afar it is gone nearer to, at 100 % it is set."""
        if self.pixels is None:
            return
        if self.view.zoom * self.view.devicePixelRatioF() < _EXACT_ZOOM:
            self.view.show_place(place.x(), place.y())
            self.view.setFocus()
            return
        self._set(place)

    def drawn(self, one: QPointF, other: QPointF) -> None:
        """A line was drawn, at any zoom: it is long, and is made exact by the edge it lies on."""
        if math.hypot(other.x() - one.x(), other.y() - one.y()) * self.view.zoom < _SHORTEST_PX:
            self._dialog.told.setText(
                "Drag along something straight: an eaves, a mast, the horizon, as long as it shows."
            )
            self.view.update()
            return
        self._set(one, other)

    def _set(self, *places: QPointF) -> None:
        if self.pixels is None:
            return
        w, h = self.pixels.width, self.pixels.height
        # pixel centres lie at whole numbers, while the view counts from the corner of the first one
        found = tuple((p.x() - 0.5, p.y() - 0.5) for p in places)
        if all(-0.5 <= x <= w - 0.5 and -0.5 <= y <= h - 0.5 for x, y in found):
            self.waiting, self.zoom = found, self.view.zoom * self.view.devicePixelRatioF()
            self._dialog.look_for_pair()
        self.view.update()


class TieDialog(QDialog):
    """Two frames, the points and lines that tie them, and what is still to be done; each point is an edit of the outing."""

    def __init__(self, desk: Desk, chosen: str | None, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Tie frames by hand")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowModality(Qt.WindowModality.WindowModal)
        self.resize(1180, 740)
        self._desk, self._state = desk, desk.state
        self._refs = self._state.outing.frames_to_join()
        self._names = list(names_of([self._state.path_of(r) for r in self._refs]))
        self.left, self.right = _Side(self, "left", self._names), _Side(self, "right", self._names)
        self._asked = 0
        self.told = label("", wrap=True, name="tie-told")
        self.snap_told = label("", "dim", wrap=True, name="tie-snap")
        self.list = QListWidget()
        self.list.setObjectName("tie-list")
        self.list.setAccessibleName("Points and lines between the two frames")
        self.list.setFixedHeight(theme.scaled(92))
        self.lines_button = button("Draw lines   [L]", self.change_kind, name="tie-lines")
        self.lines_button.setCheckable(True)
        self.remove_button = button("Take it away   [Delete]", self.remove, quiet=True, name="tie-remove")
        self.cut_button = button("Cut what ties them   [X]", self.cut, quiet=True, name="tie-cut")
        self.link_told = label("", "dim", wrap=True, name="tie-link")
        self.done_button = button("Join with these ties", self.accept, main=True, name="tie-done")
        views = row(*(self._with_chooser(side) for side in (self.left, self.right)), space=theme.SPACE)
        below = row(
            panel(column(self.list, row(self.lines_button, self.remove_button, self.cut_button, None)), "ground"),
            panel(column(self.told, self.snap_told, self.link_told, None), "ground"),
            self.done_button,
            space=theme.SPACE * 2,
        )
        self.explained = label("", "dim", wrap=True, name="tie-explained")
        layout = column(views, self.explained, below, margin=16)
        layout.setStretch(0, 1)
        self.setLayout(layout)
        pair = model.pair_to_tie(self._state.outing, self._state.joined, chosen)
        ids = [r.id for r in self._refs]
        self.left.chooser.setCurrentIndex(ids.index(pair[0]) if pair else 0)
        self.right.chooser.setCurrentIndex(ids.index(pair[1]) if pair else min(1, len(ids) - 1))
        for side in (self.left, self.right):
            side.chooser.currentIndexChanged.connect(lambda _i: self._read())
        self._state.changed.connect(self._follow)
        self.finished.connect(self._leave)
        self._read()

    def _follow(self, topics: set[str]) -> None:
        if "choices" in topics:
            self._show()

    def _leave(self) -> None:
        """What is still being read comes to nobody."""
        self._asked += 1

    def _with_chooser(self, side: _Side) -> QWidget:
        return panel(column(form([("Frame", side.chooser)]), side.view), "ground")

    def _frame(self, side: _Side) -> str:
        return self._refs[side.chooser.currentIndex()].id

    def _name(self, side: _Side) -> str:
        return self._names[side.chooser.currentIndex()]

    def _read(self) -> None:
        """Read both frames off the thread."""
        self._asked += 1
        asked = self._asked
        paths = [self._state.path_of(self._refs[s.chooser.currentIndex()]) for s in (self.left, self.right)]
        for side in (self.left, self.right):
            side.pixels, side.info, side.waiting = None, None, ()
            side.view.set_source(None)

        def work(task: Any) -> list[tuple[FrameInfo, Picture]]:
            found = []
            for path in paths:
                task.advance(0)
                found.append((probe(path), read(path)))
            return found

        def came(both: list[tuple[FrameInfo, Picture]]) -> None:
            if asked != self._asked:
                return
            for side, (info, picture) in zip((self.left, self.right), both):
                side.info, side.pixels = info, picture
                side.view.set_source(HeldPicture(picture))
            self._show()

        self._desk.start(READING, work, came, lambda e: self._desk.tell(e.sentence), quiet=True)
        self._show()

    def look_for_pair(self) -> None:
        """When both frames have a place that waits, they are one point."""
        left, right = self.left, self.right
        if not left.waiting or not right.waiting or left.pixels is None or right.pixels is None:
            other = right if left.waiting else left
            what = "line" if self.lines_button.isChecked() else "thing"
            self.told.setText(f"Now the same {what} in {self._name(other)}.")
            return
        if self._frame(left) == self._frame(right):
            self.told.setText("Both sides show the same frame. Choose another one on one side.")
            return
        lenses = self._lens(left), self._lens(right)
        pixels = left.pixels.pixels, right.pixels.pixels
        ids = self._frame(left), self._frame(right)
        if len(left.waiting) > 1:
            lines = (left.waiting[0], left.waiting[1]), (right.waiting[0], right.waiting[1])
            first, second = model.line_made_exact(pixels, lines, lenses, (left.zoom, right.zoom))
            sigma = math.hypot(first.sigma_px, second.sigma_px)
            point = HandPoint(ids[0], first.ends[0], ids[1], second.ends[0], sigma, first.ends[1], second.ends[1])
            sentence = second.sentence
        else:
            exact = model.made_exact(pixels, (left.waiting[0], right.waiting[0]), lenses, self._ties())
            point = HandPoint(ids[0], left.waiting[0], ids[1], exact.xy, exact.sigma_px)
            sentence = exact.sentence
        left.waiting = right.waiting = ()
        if self._state.may_change():
            self._state.apply(edits.tie(point))
        self.snap_told.setText(sentence)
        self._show()

    def change_kind(self) -> None:
        """Lines are drawn instead of points clicked, or points again; what is half set is dropped."""
        self.left.waiting = self.right.waiting = ()
        self._show()

    def remove(self) -> None:
        """Take the chosen tie away, or the last one."""
        ties = self._ties()
        if not ties or not self._state.may_change():
            return
        at = self.list.currentRow()
        self._state.apply(edits.untie([ties[at if 0 <= at < len(ties) else -1].point]))
        self.snap_told.setText("")

    def cut(self) -> None:
        """Let the two frames not be matched with each other any more, or again."""
        one, other = self._frame(self.left), self._frame(self.right)
        if one != other and self._state.may_change():
            self._state.apply(edits.cut_link(one, other, not model.is_cut(self._state.outing, one, other)))

    def _lens(self, side: _Side) -> Lens | None:
        return None if side.info is None else model.lens_for(self._state.joined, side.info)

    def _ties(self) -> list[model.Tie]:
        lenses = self._lens(self.left), self._lens(self.right)
        return model.ties_between(self._state.outing, self._frame(self.left), self._frame(self.right), lenses)

    def _show(self) -> None:
        try:
            ties = self._ties()
        except LanternError as error:
            self._desk.tell(error.sentence)
            return
        self.left.ties, self.right.ties = [t.left for t in ties], [t.right for t in ties]
        at = self.list.currentRow()
        self.list.clear()
        for i, tie in enumerate(ties, 1):
            self.list.addItem(tie.told(i))
        self.list.setCurrentRow(min(at, len(ties) - 1))
        if at < 0:  # what was set last is in sight
            self.list.scrollToBottom()
        self.remove_button.setVisible(bool(ties))
        outing, pair = self._state.outing, (self._frame(self.left), self._frame(self.right))
        self.done_button.setEnabled(bool(outing.points or outing.cut_links))
        self.cut_button.setText("Match them again   [X]" if model.is_cut(outing, *pair) else "Cut what ties them   [X]")
        self.cut_button.setEnabled(pair[0] != pair[1])
        self.link_told.setText(model.link_told(outing, self._state.joined, *pair))
        self.explained.setText(_EXPLAINED[self.lines_button.isChecked()])
        self.told.setText(model.told(ties, self._name(self.left), self._name(self.right)))
        for side in (self.left, self.right):
            side.view.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        held = event.modifiers()
        half_set = bool(self.left.waiting or self.right.waiting)
        if event.key() == Qt.Key.Key_Z and held & Qt.KeyboardModifier.ControlModifier:
            (self._state.redo if held & Qt.KeyboardModifier.ShiftModifier else self._state.undo)()
        elif event.key() == Qt.Key.Key_Delete:
            self.remove()
        elif event.key() == Qt.Key.Key_X:
            self.cut()
        elif event.key() == Qt.Key.Key_Escape and half_set:
            self.left.waiting = self.right.waiting = ()
            self._show()
        elif event.key() == Qt.Key.Key_L:
            self.lines_button.toggle()
            self.change_kind()
        elif event.key() == Qt.Key.Key_0:
            self.left.view.fit()
            self.right.view.fit()
        else:
            super().keyPressEvent(event)
