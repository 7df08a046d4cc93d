"""Tying frames by hand: two of them beside each other, one thing clicked or drawn along in both, made exact where there is detail."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QDialog, QListWidget, QWidget

from idle_lantern.app import theme
from idle_lantern.app import tie_model as model
from idle_lantern.app.context import AppContext
from idle_lantern.app.tie_side import TieSide
from idle_lantern.app.widgets.basics import button, by_return, column, label, panel, panel_form, row, scrolled
from idle_lantern.app.widgets.flowing import FlowLayout
from idle_lantern.app.widgets.pair_map import PairFrame, PairMap
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.frames.frameset import names_of
from idle_lantern.core.frames.reading import FrameInfo, probe, read
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.outing import edits
from idle_lantern.core.pictures.source import HeldPicture
from idle_lantern.core.request.choices import TiePoint

READING = "Reading two frames"
_EXPLAINED = {
    False: "Click near a thing: the frame comes to 100 %. Click it exactly, then the same in the other frame. "
    "The wheel zooms, 0 shows all of a frame, Esc drops a point that is half set.",
    True: "Drag along something straight, then along the same in the other frame: a wall, a mast, the horizon. Each may show "
    "another part of it. 0 shows all of a frame, Esc drops a line that is half set.",
}


class TieDialog(QDialog):
    """Two frames, the points and lines that tie them, and what is still to be done; each point is an edit of the outing."""

    def __init__(self, context: AppContext, chosen: str | None, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Tie frames by hand")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowModality(Qt.WindowModality.WindowModal)
        self.resize(parent.size() if parent is not None else QSize(1280, 800))
        self._context, self._state = context, context.state
        self._refs = self._state.outing.frames_to_join()
        self._names = list(names_of([self._state.path_of(r) for r in self._refs]))
        self._asked = 0
        self.told = label("", wrap=True, name="tie-told")
        self.left, self.right = (
            TieSide(name, self._names, self.draws_lines, self.look_for_pair, self.told.setText)
            for name in ("left", "right")
        )
        self.snap_told = label("", "dim", wrap=True, name="tie-snap")
        self.list = QListWidget()
        self.list.setObjectName("tie-list")
        self.list.setAccessibleName("Points and lines between the two frames")
        self.list.setMinimumHeight(theme.scaled(120))
        self.map = PairMap()
        self.map.chosen.connect(self._choose_pair)
        self.lines_button = button("Draw lines   [L]", self.change_kind, name="tie-lines")
        self.lines_button.setCheckable(True)
        self.remove_button = button("Take it away   [Delete]", self.remove, name="tie-remove")
        self.cut_button = button("Cut the link   [X]", self.cut, name="tie-cut")
        self.link_told = label("", "dim", wrap=True, name="tie-link")
        self.done_button = by_return(button("Join with these ties", self.accept, main=True, name="tie-done"))
        self.explained = label("", "dim", wrap=True, name="tie-explained")
        words = column(
            panel_form([("Left", self.left.chooser), ("Right", self.right.chooser)]),
            self.told,
            self.snap_told,
            self.list,
            FlowLayout(self.lines_button, self.remove_button),
            8,
            self.link_told,
            self.cut_button,
            8,
            self.explained,
            None,
            margin=theme.SPACE + 2,
        )
        beside = column(
            scrolled(panel(words, "panel")), panel(column(self.done_button, margin=theme.SPACE + 2), "panel"), space=0
        )
        views = row(self.left.view, self.right.view, space=theme.SPACE // 2)
        layout = column(self.map, row(panel(views, "ground"), panel(beside, "side"), space=0), space=0)
        layout.setStretch(1, 1)
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

    def draws_lines(self) -> bool:
        """Whether lines are drawn now instead of points clicked."""
        return self.lines_button.isChecked()

    def _follow(self, topics: set[str]) -> None:
        if "choices" in topics:
            self._show()

    def _leave(self) -> None:
        """What is still being read comes to nobody."""
        self._asked += 1

    def _choose_pair(self, left: int, right: int) -> None:
        """Two frames that were chosen on the map."""
        for side, at in ((self.left, left), (self.right, right)):
            side.chooser.blockSignals(True)
            side.chooser.setCurrentIndex(at)
            side.chooser.blockSignals(False)
        self._read()

    def _show_map(self) -> None:
        directions, links = model.frames_on_strip(self._state.outing, self._state.joined)
        self.map.show_frames([PairFrame(name, *at) for name, at in zip(self._names, directions)], links)
        self.map.show_pair(self.left.chooser.currentIndex(), self.right.chooser.currentIndex())

    def _frame(self, side: TieSide) -> str:
        return self._refs[side.chooser.currentIndex()].id

    def _name(self, side: TieSide) -> str:
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

        self._context.start(READING, work, came, lambda e: self._context.tell(e.sentence), quiet=True)
        self._show()

    def look_for_pair(self) -> None:
        """When both frames have a place that waits, they are one point."""
        left, right = self.left, self.right
        if not left.waiting or not right.waiting or left.pixels is None or right.pixels is None:
            other = right if left.waiting else left
            what = "line" if self.draws_lines() else "thing"
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
            point = TiePoint(ids[0], first.ends[0], ids[1], second.ends[0], sigma, first.ends[1], second.ends[1])
            sentence = second.sentence
        else:
            exact = model.made_exact(pixels, (left.waiting[0], right.waiting[0]), lenses, self._ties())
            point = TiePoint(ids[0], left.waiting[0], ids[1], exact.xy, exact.sigma_px)
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

    def _lens(self, side: TieSide) -> Lens | None:
        return None if side.info is None else model.lens_for(self._state.joined, side.info)

    def _ties(self) -> list[model.Tie]:
        lenses = self._lens(self.left), self._lens(self.right)
        return model.ties_between(self._state.outing, self._frame(self.left), self._frame(self.right), lenses)

    def _show(self) -> None:
        try:
            ties = self._ties()
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self.left.ties, self.right.ties = [t.left for t in ties], [t.right for t in ties]
        self.right.offs = [t.off_px for t in ties]
        self._show_map()
        at = self.list.currentRow()
        self.list.clear()
        for i, tie in enumerate(ties, 1):
            self.list.addItem(tie.told(i))
        self.list.setCurrentRow(min(at, len(ties) - 1))
        if at < 0:  # what was set last is in sight
            self.list.scrollToBottom()
        self.remove_button.setVisible(bool(ties))
        self.list.setVisible(bool(ties))
        outing, pair = self._state.outing, (self._frame(self.left), self._frame(self.right))
        self.done_button.setEnabled(bool(outing.choices.points or outing.choices.cut_links))
        self.cut_button.setText("Match them again   [X]" if model.is_cut(outing, *pair) else "Cut the link   [X]")
        self.cut_button.setEnabled(pair[0] != pair[1])
        self.link_told.setText(model.link_told(outing, self._state.joined, *pair))
        self.explained.setText(_EXPLAINED[self.draws_lines()])
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
