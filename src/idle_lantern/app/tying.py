"""Tying frames by hand: two of them beside each other, one thing clicked in both, made exact where there is detail."""

from __future__ import annotations

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


class _PointTool(PlaceTool):
    """Clicks choose places; those that were chosen are drawn with their numbers."""

    def __init__(self, side: _Side) -> None:
        super().__init__(side.clicked)
        self._side = side

    def draw(self, painter: QPainter, to_widget: Any) -> None:
        """Crosses with a number each; the one that waits for its other half is open."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        marks = [(xy, str(i + 1), True) for i, xy in enumerate(self._side.points)]
        if self._side.waiting is not None:
            marks.append((self._side.waiting, "?", False))
        painter.setFont(theme.font(theme.SMALL, bold=True))
        for (x, y), text, whole in marks:
            at = to_widget(QPointF(x + 0.5, y + 0.5))
            for pen in (QPen(theme.colour("ground", 220), 4), QPen(theme.colour("accent"), 1.6)):
                painter.setPen(pen)
                painter.drawLine(at - QPointF(13, 0), at - QPointF(4, 0))
                painter.drawLine(at + QPointF(4, 0), at + QPointF(13, 0))
                painter.drawLine(at - QPointF(0, 13), at - QPointF(0, 4))
                painter.drawLine(at + QPointF(0, 4), at + QPointF(0, 13))
                if not whole:
                    painter.drawEllipse(at, 17, 17)
            tag = QRectF(at.x() + 9, at.y() + 9, 20, 18)
            painter.fillRect(tag, theme.colour("ground", 220))
            painter.setPen(theme.colour("text"))
            painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, text)


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
        self.points: list[tuple[float, float]] = []
        self.waiting: tuple[float, float] | None = None
        self.info: FrameInfo | None = None
        self.pixels: Picture | None = None
        self.view.set_tool(_PointTool(self))

    def clicked(self, place: QPointF) -> None:
        """A place was chosen: from afar it is gone nearer to, at 100 % it is set."""
        if self.pixels is None:
            return
        if self.view.zoom * self.view.devicePixelRatioF() < _EXACT_ZOOM:
            self.view.show_place(place.x(), place.y())
            self.view.setFocus()
            return
        w, h = self.pixels.width, self.pixels.height
        # pixel centres lie at whole numbers, while the view counts from the corner of the first one
        x, y = place.x() - 0.5, place.y() - 0.5
        if -0.5 <= x <= w - 0.5 and -0.5 <= y <= h - 0.5:
            self.waiting = (x, y)
            self._dialog.look_for_pair()
        self.view.update()


class TieDialog(QDialog):
    """Two frames, the points that tie them, and what is still to be done; each point is an edit of the outing."""

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
        self.list.setAccessibleName("Points between the two frames")
        self.list.setFixedHeight(theme.scaled(92))
        self.remove_button = button("Take it away   [Delete]", self.remove, quiet=True, name="tie-remove")
        self.cut_button = button("Cut what ties them   [X]", self.cut, quiet=True, name="tie-cut")
        self.link_told = label("", "dim", wrap=True, name="tie-link")
        self.done_button = button("Join with these points", self.accept, main=True, name="tie-done")
        views = row(*(self._with_chooser(side) for side in (self.left, self.right)), space=theme.SPACE)
        below = row(
            panel(column(self.list, row(self.remove_button, self.cut_button, None)), "ground"),
            panel(column(self.told, self.snap_told, self.link_told, None), "ground"),
            self.done_button,
            space=theme.SPACE * 2,
        )
        explained = label(
            "Click near a thing: the frame comes to 100 %. Click it exactly, then the same in the other frame. "
            "The wheel zooms, 0 shows all of a frame, Esc drops a point that is half set.",
            "dim",
            wrap=True,
        )
        layout = column(views, explained, below, margin=16)
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
            side.pixels, side.info, side.waiting = None, None, None
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
        if left.waiting is None or right.waiting is None or left.pixels is None or right.pixels is None:
            other = right if left.waiting is not None else left
            self.told.setText(f"Now the same thing in {self._name(other)}.")
            return
        if self._frame(left) == self._frame(right):
            self.told.setText("Both sides show the same frame. Choose another one on one side.")
            return
        lenses = self._lens(left), self._lens(right)
        pixels = left.pixels.pixels, right.pixels.pixels
        exact = model.made_exact(pixels, (left.waiting, right.waiting), lenses, self._ties())
        point = HandPoint(self._frame(left), left.waiting, self._frame(right), exact.xy, exact.sigma_px)
        left.waiting = right.waiting = None
        if self._state.may_change():
            self._state.apply(edits.tie(point))
        self.snap_told.setText(exact.sentence)
        self._show()

    def remove(self) -> None:
        """Take the chosen point away, or the last one."""
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
        self.left.points, self.right.points = [t.left for t in ties], [t.right for t in ties]
        at = self.list.currentRow()
        self.list.clear()
        for i, tie in enumerate(ties, 1):
            miss = "" if tie.miss_px is None else f", misses by {tie.miss_px:.2f} px"
            self.list.addItem(
                f"{i}: {tie.left[0]:.1f}, {tie.left[1]:.1f} and {tie.right[0]:.1f}, {tie.right[1]:.1f}{miss}"
            )
        self.list.setCurrentRow(min(at, len(ties) - 1))
        self.remove_button.setVisible(bool(ties))
        outing, pair = self._state.outing, (self._frame(self.left), self._frame(self.right))
        self.done_button.setEnabled(bool(outing.points or outing.cut_links))
        self.cut_button.setText("Match them again   [X]" if model.is_cut(outing, *pair) else "Cut what ties them   [X]")
        self.cut_button.setEnabled(pair[0] != pair[1])
        self.link_told.setText(model.link_told(outing, self._state.joined, *pair))
        self.told.setText(model.told(ties, self._name(self.left), self._name(self.right)))
        for side in (self.left, self.right):
            side.view.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        held = event.modifiers()
        half_set = self.left.waiting is not None or self.right.waiting is not None
        if event.key() == Qt.Key.Key_Z and held & Qt.KeyboardModifier.ControlModifier:
            (self._state.redo if held & Qt.KeyboardModifier.ShiftModifier else self._state.undo)()
        elif event.key() == Qt.Key.Key_Delete:
            self.remove()
        elif event.key() == Qt.Key.Key_X:
            self.cut()
        elif event.key() == Qt.Key.Key_Escape and half_set:
            self.left.waiting = self.right.waiting = None
            self._show()
        elif event.key() == Qt.Key.Key_0:
            self.left.view.fit()
            self.right.view.fit()
        else:
            super().keyPressEvent(event)
