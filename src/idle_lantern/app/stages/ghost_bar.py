"""Steps through the things that moved, and shows each once, nowhere or everywhere."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from idle_lantern.app import theme
from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import ghost_model as model
from idle_lantern.app.stages.join_request_model import must_join_again
from idle_lantern.app.stages.walk_bar import WalkBar
from idle_lantern.app.widgets.flowing import FlowLayout
from idle_lantern.app.widgets.tool_palette import ToolButton
from idle_lantern.core.base.errors import LanternError


class GhostBar(QWidget):
    """What can be done with the moving thing that is looked at."""

    def __init__(self, context: AppContext, walk: WalkBar) -> None:
        super().__init__()
        self._context, self._state, self._walk = context, context.state, walk
        self._ghosts: tuple[model.GhostChoice, ...] = ()
        self.at: tuple[int, int] | None = None
        words = {"once": "Once, here", "never": "Not at all", "always": "Everywhere"}
        acts = (ToolButton(f"mover.{name}", context.ask, text) for name, text in words.items())
        self.setLayout(FlowLayout(*acts, space=theme.SPACE // 2))
        walk.left.connect(self._leave)
        self._state.changed.connect(self._follow)
        self.refresh()

    def can_step(self) -> bool:
        """Whether anything moved."""
        return bool(self._ghosts) and self._walk.hands.can_paint()

    def has_place(self) -> bool:
        """Whether a moving thing is being looked at."""
        return self.at is not None

    def step(self) -> None:
        """Go to the next place of a moving thing, at 100 %."""
        joined = self._state.joined
        at = model.step(self._ghosts, self.at)
        if joined is None or at is None:
            return
        place = self._ghosts[at[0]].places[at[1]]
        self._walk.look_at_stop(model.stop_at(joined, place), model.told(self._ghosts, at))
        self.at = at
        self.refresh()

    def show_as(self, way: model.Way) -> None:
        """Show the present thing once at this place, nowhere, or at every place where a frame has it."""
        joined, place = self._state.joined, self._state.place
        if self.at is None or joined is None or place is None or not self._state.may_change():
            return
        why_not = must_join_again(self._state.outing, joined) or model.as_it_is(
            self._ghosts[self.at[0]], way, self.at[1]
        )
        if why_not:
            self._context.tell(why_not)
            return
        try:
            edit = model.show_ghost(self._state.outing, place.folder, joined, self._ghosts[self.at[0]], way, self.at[1])
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self._state.apply(edit)

    def _leave(self) -> None:
        self.at = None
        self.refresh()

    def _follow(self, topics: set[str]) -> None:
        if "join" in topics:
            # the same place of the picture that an act made: what was done there can be compared
            before = None if self.at is None else self._ghosts[self.at[0]].places[self.at[1]]
            self._ghosts = model.ghosts_of(self._state.joined)
            self.at = None if before is None else model.found_again(self._ghosts, before)
            if self.at is not None:
                self._walk.tell_of_place(model.told(self._ghosts, self.at))
            self.refresh()

    def refresh(self) -> None:
        """Show what can be done now."""
        self.setVisible(self.at is not None)
        self._context.tools_changed.emit()
