"""The walk along the suspects of the joined picture: one after the other at 100 %, with a verdict or a cure for each."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QPointF, QRectF, QTimer, pyqtSignal
from PyQt6.QtWidgets import QWidget

from idle_lantern.app import theme
from idle_lantern.app.desk import Desk
from idle_lantern.app.stages import walk_model as model
from idle_lantern.app.stages.picture_hands import PictureHands
from idle_lantern.app.widgets.basics import button, column, label, to_qimage
from idle_lantern.app.widgets.flowing import FlowLayout
from idle_lantern.app.widgets.over_picture import LayerShown, OverPicture, PlaceShown
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.join.asking import JoinResult
from idle_lantern.core.outing import edits

LOOKING = "Laying a frame over the picture"
_BLINK_MS = 700
#: Size on the screen of a place that is clicked.
_OWN_PX = 90.0


class WalkBar(QWidget):
    """Steps through the suspects in a picture view, and acts on the present one."""

    left = pyqtSignal()  # the place that was looked at is left for another one

    def __init__(self, desk: Desk, view: PictureView) -> None:
        super().__init__()
        self._desk, self._state, self._view = desk, desk.state, view
        self._over = view.over = OverPicture()
        self.at = -1
        self._stops: tuple[model.Stop, ...] = ()
        self._joined: JoinResult | None = None
        #: Frames alone at the present stop, as they are read; the one that is shown, and which are tried to be taken.
        self._alone: dict[str, LayerShown] = {}
        self._views: dict[str, Any] = {}
        self._shown = 0
        self._taking = -1
        self._asked = 0
        self._aside = False
        #: A place that somebody chose, looked at in place of a suspect; the tool that the pointer holds.
        self._own: model.Stop | None = None
        self._own_told = ""
        self.hands = PictureHands(desk, view, self._look_at)
        self._blink = QTimer(self)
        self._blink.setInterval(_BLINK_MS)
        self._blink.timeout.connect(self._blink_on)
        self.told = label("", wrap=True, name="walk-told")
        self.next_button = button("Next   [N]", self.step, name="walk-next")
        self.next_button.setAccessibleName("Next suspicious place")
        self.good_button = button("Good   [G]", lambda: self.say("good"), quiet=True, name="walk-good")
        self.mend_button = button("Mend   [M]", lambda: self.say("mend"), quiet=True, name="walk-mend")
        self.later_button = button("Later   [L]", lambda: self.say("later"), quiet=True, name="walk-later")
        self.blink_button = button("Blink   [B]", self.toggle_blink, quiet=True, name="walk-blink")
        self.seams_button = button("Seams   [S]", self.toggle_seams, quiet=True, name="walk-seams")
        self.take_button = button("Other frame   [T]", self.try_next, quiet=True, name="walk-take")
        self.use_button = button("Use it   [U]", self.use, name="walk-use")
        self.sharpest_button = button("Sharpest   [Shift + T]", self.try_sharpest, quiet=True, name="walk-sharpest")
        self.off_button = button("Frame off   [X]", self.switch_off, quiet=True, name="walk-off")
        layout = column(
            self.told,
            FlowLayout(
                self.next_button, self.good_button, self.mend_button, self.later_button, self.blink_button,
                self.take_button, self.sharpest_button, self.use_button, self.off_button, space=theme.SPACE // 2,
            ),
        )  # fmt: skip
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)
        self._state.changed.connect(self._follow)
        self._show()

    @property
    def stop(self) -> model.Stop | None:
        """The present place."""
        if self._own is not None:
            return self._own
        return self._stops[self.at] if 0 <= self.at < len(self._stops) else None

    @property
    def stops(self) -> tuple[model.Stop, ...]:
        """All places of the picture that is shown."""
        return self._stops

    def set_aside(self, aside: bool) -> None:
        """Let the picture be without places and words while it is composed."""
        if aside == self._aside:
            return
        self._aside = self.hands.aside = aside
        self.hands.leave()
        self._leave_layer()
        self._show()

    def can_walk(self) -> bool:
        """Whether there is a place to look at."""
        return bool(self._stops)

    def has_stop(self) -> bool:
        """Whether one is being looked at."""
        return self.stop is not None

    def step(self, way: int = 1) -> None:
        """Go to the next place that is not called good, at 100 %."""
        self._leave()
        self.left.emit()
        self._own = None
        self.at = model.next_open(self._stops, self.at, way)
        stop = self.stop
        if stop is None:
            if self._stops:
                self._desk.tell("Every place was called good.", problem=False)
        else:
            self._view.show_place(stop.u, stop.v)
            self._fetch()
        self._show()

    def say(self, word: str) -> None:
        """Say of the present place whether it is good, and go on."""
        stop = self.stop
        if stop is None or stop is self._own or not self._state.may_change():
            return
        self._state.apply(edits.judge_place(model.verdict_on(stop, word), stop.said))
        self.step()

    def _look_at(self, place: QPointF) -> None:
        """Take a place that was clicked for the present one: its frames can be blinked, tried and used."""
        joined = self._joined
        if joined is None:
            return
        size = _OWN_PX / max(self._view.zoom, 1e-6)
        own = model.own_stop(joined, place.x() - 0.5, place.y() - 0.5, size)
        if own is None:
            self._desk.tell("The picture shows nothing there.")
            return
        self._leave()
        self.left.emit()
        self._own = own
        self._own_told = (
            f"A place that you chose; the picture shows {own.names[0]} there. B blinks its frames, T tries another one."
        )
        self._fetch()
        self._show()

    def look_at_stop(self, stop: model.Stop, told: str) -> None:
        """Take a place that is no suspect for the present one, with what is told of it, and go there at 100 %."""
        self._leave()
        self._own, self._own_told = stop, told
        self._view.show_place(stop.u, stop.v)
        self._fetch()
        self._show()

    def toggle_seams(self) -> None:
        """Draw where the picture goes over from frame to frame, or not."""
        self._over.seams_shown = not self._over.seams_shown
        self._view.update()

    def toggle_blink(self) -> None:
        """Show the frames of the place one after the other, each alone, and then the picture again."""
        if self._blink.isActive():
            self._leave_layer()
        elif self.stop is not None:
            self._taking = -1
            self._shown = 0
            self._blink.start()
            self._blink_on()
        self._show()

    def try_next(self) -> None:
        """Lay the next frame that shows the place over it; ``use`` keeps that."""
        stop = self.stop
        if stop is None:
            return
        self._blink.stop()
        found = self._candidates()
        if not found:
            self._desk.tell("No frame shows the middle of this place." if self._joined else "Join first.")
            return
        self._taking = (self._taking + 1) % len(found)
        self._lay(found[self._taking], stop)
        self._show()

    def try_sharpest(self) -> None:
        """Lay the frame over the place that shows most fine detail there; ``use`` keeps it."""
        stop, found = self.stop, self._candidates()
        if stop is None:
            return
        at = model.sharpest_of(found, self._views)
        if at is None:
            self._desk.tell("The frames of this place are still being read, or only one of them shows it.")
            return
        self._blink.stop()
        self._taking = at
        self._lay(found[at], stop)
        self._show()

    def can_use(self) -> bool:
        """Whether another frame is laid over the place."""
        return self._taking >= 0 and self.stop is not None

    def use(self) -> None:
        """Let the frame that is laid over the place show there: what is painted on the frames says so."""
        stop, joined, place = self.stop, self._joined, self._state.place
        found = self._candidates()
        if stop is None or joined is None or place is None or not self.can_use() or not self._state.may_change():
            return
        try:
            edit = model.take_here(self._state.outing, place.folder, joined, stop, found[self._taking])
        except LanternError as error:
            self._desk.tell(error.sentence)
            return
        self._taking = -1
        self._state.apply(edit)
        self._show()

    def switch_off(self) -> None:
        """Let the frame that is tried here, or else the one that the place is told of, show nowhere in the picture."""
        stop = self.stop
        if stop is None or not self._state.may_change():
            return
        found = self._candidates() if self.can_use() else ()
        frame = found[self._taking].frame if found else next(iter(stop.frames), None)
        ref = self._state.outing.frame(frame)
        if ref is None:
            self._desk.tell("No frame is told of this place.")
            return
        self._leave_layer()
        if self._state.apply(edits.switch_off(ref, off=True)):
            name = ref.file.rsplit("/", 1)[-1]
            self._desk.tell(
                f"{name} shows nowhere now; it still ties the others. Ctrl + Z takes it back.", problem=False
            )

    # --- what is shown ------------------------------------------------------------

    def _candidates(self) -> tuple[model.Candidate, ...]:
        return () if self.stop is None else model.candidates(self.stop, self._joined)

    def _fetch(self) -> None:
        """Read the frames that show the present place, off the thread; each comes when it is there."""
        stop, joined = self.stop, self._joined
        if stop is None or joined is None or joined.solution is None:
            return
        tile = model.tile_about(stop, joined)
        asked = self._asked
        rectangle = QRectF(tile.left, tile.top, tile.width, tile.height)
        wanted = self._candidates()

        def work(task: Any) -> None:
            for candidate in wanted:
                task.advance(0)
                if asked != self._asked:  # the walk has gone on
                    return
                pixels = model.alone(joined, candidate, tile)
                if pixels is not None:
                    task.hand_over((candidate, pixels))

        def came(product: Any) -> None:
            candidate, pixels = product
            if asked == self._asked:
                self._views[candidate.frame] = pixels
                self._alone[candidate.frame] = LayerShown(to_qimage(pixels), rectangle, candidate.name)
                if 0 <= self._taking < len(wanted) and wanted[self._taking] == candidate:
                    self._lay(candidate, stop)

        self._desk.start(
            LOOKING, work, lambda _r: None, lambda e: self._desk.tell(e.sentence), on_partial=came, quiet=True
        )

    def _lay(self, candidate: model.Candidate, stop: model.Stop) -> None:
        layer = self._alone.get(candidate.frame)
        if layer is not None:
            u, v, a, b = model.area_of(stop)
            layer = LayerShown(layer.image, layer.rectangle, layer.name, QRectF(u - a, v - b, 2 * a, 2 * b))
        self._over.layer = layer
        self._view.update()

    def _blink_on(self) -> None:
        layers = [self._alone[c.frame] for c in self._candidates()[:3] if c.frame in self._alone]
        turns = [*layers, None]
        self._over.layer = turns[self._shown % len(turns)]
        self._shown += 1
        self._view.update()

    def _leave_layer(self) -> None:
        self._blink.stop()
        self._taking = -1
        self._over.layer = None
        self._view.update()

    def _leave(self) -> None:
        self._leave_layer()
        self._alone.clear()
        self._views.clear()
        self._asked += 1

    def _follow(self, topics: set[str]) -> None:
        if not topics & {"join", "verdicts", "outing"}:
            return
        joined = self._state.joined
        before = self.stop
        if joined is not self._joined:
            self._leave()
            self._own = None
            self._joined = self.hands.joined = joined
            self.at = -1
            self._over.set_seams(model.seams_of(joined))
        elif not topics & {"verdicts"}:
            return
        self._stops = model.stops_of(self._state.outing, joined)
        if before is not None:  # the same place of a picture made anew, where it is still a suspect
            self.at = next(
                (i for i, s in enumerate(self._stops) if s.kind == before.kind and abs(s.u - before.u) + abs(s.v - before.v) < 40), -1
            )  # fmt: skip
        self._show()

    def _show(self) -> None:
        stop = self.stop
        self._over.places = [
            PlaceShown(s.u, s.v, s.width, s.height, i == self.at, s.verdict)
            for i, s in enumerate(self._stops)
            if not self._aside
        ]
        if self._own is not None:
            self._over.places = [
                *self._over.places,
                PlaceShown(self._own.u, self._own.v, self._own.width, self._own.height, True),
            ]
        told = model.summary(self._stops, self._joined)
        if stop is not None and stop is self._own:
            told = self._own_told
        elif stop is not None:
            said = f", {model.VERDICTS_IN_WORDS[stop.verdict]}" if stop.verdict else ""
            told = (
                f"Place {self.at + 1} of {len(self._stops)}: {model.KINDS_IN_WORDS[stop.kind]}, suspicion {100 * stop.suspicion:.0f} %{said}. "
                f"{stop.sentence}. Frames: {', '.join(stop.names[:3])}."
            )
        if stop is not None:
            found = self._candidates() if self.can_use() else ()
            if found:
                told = f"Here {found[self._taking].name} would show, {self._taking + 1} of {len(found)} that can. T tries the next."
        self.told.setText(told)
        self.setVisible(bool(told) and not self._aside)
        for each in (self.good_button, self.mend_button, self.later_button):
            each.setVisible(stop is not None and stop is not self._own)
        for each in (self.blink_button, self.take_button, self.sharpest_button, self.off_button):
            each.setVisible(stop is not None)
        self.hands.show()
        self.next_button.setVisible(bool(self._stops))
        self.seams_button.setVisible(bool(self._over.seams))
        found = self._candidates() if self.can_use() else ()
        self.use_button.setVisible(bool(found))
        if found:
            self.use_button.setAccessibleName(f"Use {found[self._taking].name} here")
        self.told.setMinimumHeight(theme.scaled(34) if stop is not None else 0)
        self._view.update()
