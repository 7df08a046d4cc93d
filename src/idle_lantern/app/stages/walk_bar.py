"""The walk along the suspects of the joined picture: one after the other at 100 %, with a verdict or a cure for each."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QPointF, pyqtSignal
from PyQt6.QtWidgets import QWidget

from idle_lantern.app import theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import hands_model, shown_model
from idle_lantern.app.stages import walk_model as model
from idle_lantern.app.stages.join_request_model import must_join_again
from idle_lantern.app.stages.picture_hands import PictureHands
from idle_lantern.app.stages.walk_layers import WalkLayers
from idle_lantern.app.widgets.basics import column, label
from idle_lantern.app.widgets.flowing import FlowLayout
from idle_lantern.app.widgets.over_picture import OverPicture, PlaceShown
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.tool_palette import ToolButton
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing import edits

#: Size on the screen of a place that is clicked.
_OWN_PX = 90.0
#: What is said of a suspect, and of no other place.
_VERDICTS = ("good", "mend", "later")


class WalkBar(QWidget):
    """Steps through the suspects in a picture view, and acts on the present one."""

    left = pyqtSignal()  # the place that was looked at is left for another one

    def __init__(self, context: AppContext, view: PictureView) -> None:
        super().__init__()
        self._context, self._state, self._view = context, context.state, view
        self._over = view.over = OverPicture()
        self.at = -1
        #: All suspects of the picture that is shown.
        self.stops: tuple[model.WalkStop, ...] = ()
        self._joined: JoinResult | None = None
        self.layers = WalkLayers(context, view, self)
        self._aside = False
        #: A place that somebody chose, looked at in place of a suspect.
        self._own: model.WalkStop | None = None
        self._own_told = ""
        self.hands = PictureHands(context, view, self._look_at)
        self.told = label("", wrap=True, name="walk-told")
        words = {
            "good": "Good", "mend": "Mend", "later": "Later", "blink": "Blink", "take": "Other frame",
            "sharpest": "Sharpest", "use": "Use it", "off": "Frame off",
        }  # fmt: skip
        #: What can be done at the present place.
        self.acts = {name: ToolButton(f"walk.{name}", context.ask, text) for name, text in words.items()}
        layout = column(
            label("Places to look at", "head"), self.told, FlowLayout(*self.acts.values(), space=theme.SPACE // 2)
        )
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)
        self._state.changed.connect(self._follow)
        self._show()

    @property
    def stop(self) -> model.WalkStop | None:
        """The present place."""
        if self._own is not None:
            return self._own
        return self.stops[self.at] if 0 <= self.at < len(self.stops) else None

    def set_aside(self, aside: bool) -> None:
        """Let the picture be without places and words while it is composed."""
        if aside != self._aside:
            self._aside = self.hands.aside = aside
            self.hands.leave()
            self.layers.lift()
            self._show()

    @property
    def seams_shown(self) -> bool:
        """Whether seams are drawn over the picture."""
        return self._over.seams_shown

    def can_walk(self) -> bool:
        """Whether there is a place to look at."""
        return bool(self.stops)

    def has_stop(self) -> bool:
        """Whether one is being looked at."""
        return self.stop is not None

    def step(self, way: int = 1) -> None:
        """Go to the next place that is not called good, at 100 %."""
        self.layers.leave()
        self.left.emit()
        self._own = None
        self.at = model.next_open(self.stops, self.at, way)
        stop = self.stop
        if stop is not None:
            self._view.show_place(stop.u, stop.v)
            self.layers.look_at(stop, self._joined)
        elif self.stops:
            self._context.tell("Every place was called good.", problem=False)
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
        own = model.own_stop(joined, place.x() - 0.5, place.y() - 0.5, _OWN_PX / max(self._view.zoom, 1e-6))
        if own is None:
            self._context.tell("The picture shows nothing there.")
            return
        self.left.emit()
        self._own = own
        self._own_told = model.own_in_words(own)
        self.layers.look_at(own, joined)
        self._show()

    def look_at_stop(self, stop: model.WalkStop, told: str) -> None:
        """Take a place that is no suspect for the present one, with what is told of it, and go there at 100 %."""
        self._own, self._own_told = stop, told
        self._view.show_place(stop.u, stop.v)
        self.layers.look_at(stop, self._joined)
        self._show()

    def tell_of_place(self, told: str) -> None:
        """Say something else of the place that somebody chose."""
        if self._own is not None:
            self._own_told = told
            self._show()

    def toggle_seams(self) -> None:
        """Draw where the picture goes over from frame to frame, or not."""
        self._over.seams_shown = not self._over.seams_shown
        self._view.update()
        self._context.tools_changed.emit()

    def toggle_blink(self) -> None:
        """Show the frames of the place one after the other, each alone, and then the picture again."""
        if self.stop is not None:
            self.layers.toggle_blink()
        self._show()

    def try_next(self) -> None:
        """Lay the next frame that shows the place over it; ``use`` keeps that."""
        if self.stop is None:
            return
        found = self.layers.candidates
        at = model.next_to_try(found, self.layers.taking)
        if at is None:
            self._context.tell(model.only_one_in_words(found))
            return
        self.layers.take(at)
        self._show()

    def try_sharpest(self) -> None:
        """Lay the frame over the place that shows most fine detail there; ``use`` keeps it."""
        if self.stop is None:
            return
        at = shown_model.sharpest_of(self.layers.candidates, self.layers.views)
        if at is None:
            self._context.tell("The frames of this place are still being read, or only one of them shows it.")
            return
        if self.layers.candidates[at].shown:
            sharpest = self.layers.candidates[at].name
            self._context.tell(f"{sharpest} is the sharpest here, and the picture shows it already.", problem=False)
            return
        self.layers.take(at)
        self._show()

    def can_use(self) -> bool:
        """Whether another frame is laid over the place of a picture that is up to date."""
        tried = self.layers.tried is not None and self.stop is not None
        return tried and not must_join_again(self._state.outing, self._joined)

    def use(self) -> None:
        """Let the frame that is laid over the place show there: what is painted on the frames says so."""
        stop, joined, place, tried = self.stop, self._joined, self._state.place, self.layers.tried
        if stop is None or joined is None or place is None or tried is None or not self._state.may_change():
            return
        try:
            edit = hands_model.take_here(self._state.outing, place.folder, joined, stop, tried)
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self.layers.taken()
        self._state.apply(edit)
        self._show()

    def switch_off(self) -> None:
        """Let the frame that is tried here, or else the one that the place is told of, show nowhere in the picture."""
        stop = self.stop
        if stop is None or not self._state.may_change():
            return
        again = must_join_again(self._state.outing, self._joined)
        if again:
            self._context.tell(again)
            return
        tried = self.layers.tried
        frame = tried.frame if tried is not None else next(iter(stop.frames), None)
        ref = self._state.outing.frame(frame)
        if ref is None:
            self._context.tell("No frame is told of this place.")
            return
        if ref.id in self._state.outing.choices.off:
            self._context.tell(f"{Path(ref.file).name} is switched off already.", problem=False)
            return
        self.layers.lift()
        if self._state.apply(edits.switch_off(ref, off=True)):
            self._context.tell(model.off_in_words(ref.file), problem=False)

    # --- what is shown ------------------------------------------------------------

    def _follow(self, topics: set[str]) -> None:
        if not topics & {"join", "verdicts", "outing"}:
            return
        joined = self._state.joined
        before = self.stop
        own = self._own
        if joined is not self._joined:
            self.layers.leave()
            same_outing = joined is not None and self._joined is not None
            # a place that somebody chose stays chosen in the picture that an act made: what was done there can be compared
            self._own = (
                model.same_place(joined, own) if same_outing and joined is not None and own is not None else None
            )
            self._joined = self.hands.joined = joined
            self.at = -1
            self._over.set_seams(model.seams_of(joined))
        elif not topics & {"verdicts"}:
            return
        self.stops = model.stops_of(self._state.outing, joined)
        if self._own is not None and joined is not None:
            self.layers.look_at(self._own, joined)
        elif before is not None and own is None:  # the same place of a picture made anew, where it is still a suspect
            self.at = model.found_again(before, self.stops)
            if (
                self.at < 0 and joined is not None
            ):  # no suspect any more: the place stays chosen, so that it can be looked at
                self._own = model.same_place(joined, before)
                self._own_told = "" if self._own is None else model.no_suspect_in_words(self._own)
            if joined is not None and self.stop is not None and not self.layers.candidates:
                self.layers.look_at(self.stop, joined)
        self._show()

    def _show(self) -> None:
        stop = self.stop
        shown = () if self._aside else self.stops
        places = [PlaceShown(s.u, s.v, s.width, s.height, i == self.at, s.verdict) for i, s in enumerate(shown)]
        own = [] if (s := self._own) is None else [PlaceShown(s.u, s.v, s.width, s.height, True)]
        self._over.places = [*places, *own]
        tried = self.layers.tried if stop is not None else None
        if stop is None:
            told = model.summary(self.stops, self._joined)
        elif tried is not None:
            told = model.tried_in_words(tried, self.layers.taking, len(self.layers.candidates))
        else:
            told = self._own_told if stop is self._own else model.stop_in_words(stop, self.at, len(self.stops))
        self.told.setText(told)
        self.setVisible(bool(told) and not self._aside)
        for name, act in self.acts.items():
            suspect = stop is not None and stop is not self._own
            act.setVisible(tried is not None if name == "use" else suspect if name in _VERDICTS else stop is not None)
        if tried is not None:
            self.acts["use"].setAccessibleName(f"Use {tried.name} here")
        self._context.tools_changed.emit()
        self._view.update()
