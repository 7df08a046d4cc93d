"""What the hand does on the joined picture: choose a place, hide, keep, move a seam, keep a whole figure."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QPointF

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import hands_model as model
from idle_lantern.app.stages.join_request_model import must_join_again
from idle_lantern.app.widgets.held_bar import HeldBar
from idle_lantern.app.widgets.picture_tools import BrushTool, PictureTool, PlaceTool
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.join.request import JoinResult

OUTLINING = "Finding the outline"
#: How far on the screen a thing may reach from where it was clicked, and at most in the picture.
_FIGURE_PX, _MOST_REACH_PX = 170.0, 1600.0
_HINTS = {
    "place": "Click on a place; B blinks the frames that show it, T tries another one, U keeps that.",
    "hide": "Paint over what must not show: the frames behind it take its place.",
    "figure": "Click on a person or a thing: its outline is found, and one frame alone shows all of it.",
    "keep": "Paint over a thing that one frame alone shall show: no seam runs through it then.",
    "seam": "Press on the side that shall grow and drag across the seam: that frame shows as far as you drag.",
}


class PictureHands:
    """The tools of the joined picture; one is held at a time."""

    def __init__(self, context: AppContext, view: PictureView, chosen: Callable[[QPointF], None]) -> None:
        self._context, self._state, self._view, self._chosen = context, context.state, view, chosen
        self.joined: JoinResult | None = None
        self.aside = False
        self._held = ""
        self.bar = HeldBar(view, self.leave)
        view.tool_left.connect(self.leave)

    @property
    def held(self) -> str:
        """The tool in hand, empty for none."""
        return self._held

    def can_paint(self) -> bool:
        """Whether there is a picture of the frames that are to be joined, whose files are there, and it is not being composed."""
        return not self.needs()

    def needs(self) -> str:
        """Why nothing can be done on the picture by hand; empty where it can."""
        if self.joined is None or self.joined.solution is None:
            return "There is no picture to paint on: join the frames first."
        if self.aside:
            return "The picture is being composed: C goes back to the join."
        return must_join_again(self._state.outing, self.joined)

    def use(self, name: str) -> None:
        """Hold a tool; the same once more puts it down."""
        self._held = "" if name == self._held or not self.can_paint() else name
        tool: PictureTool | None = None
        if self._held in ("place", "figure"):
            tool = PlaceTool(self._chosen if self._held == "place" else self._keep_figure)
        elif self._held:
            paint = {"hide": model.hide_stroke, "keep": model.keep_stroke, "seam": model.move_seam}[self._held]
            tool = BrushTool(self._held == "hide", lambda points, radius: self._paint(paint, points, radius))
        self.bar.hold(tool, _HINTS.get(self._held, ""))
        self._context.tools_changed.emit()

    def leave(self) -> None:
        """Put the tool down."""
        if self._held:
            self.use("")

    def _paint(self, paint: Callable[..., Any], points: list[tuple[float, float]], radius_px: float) -> None:
        joined, place = self.joined, self._state.place
        if joined is None or place is None or not self._state.may_change():
            return
        if self.needs():
            self._context.tell(self.needs())
            return
        try:
            edit = paint(self._state.outing, place.folder, joined, points, radius_px)
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        if isinstance(edit, model.Kept):
            self._context.tell(edit.told, problem=False)
            edit = edit.edit
        self._state.apply(edit)

    def _keep_figure(self, clicked: QPointF) -> None:
        """Let one frame alone show the whole thing that was clicked; its outline is sought off the thread."""
        joined, place = self.joined, self._state.place
        if joined is None or place is None or not self._state.may_change():
            return
        reach = min(_FIGURE_PX / max(self._view.zoom, 1e-6), _MOST_REACH_PX)
        u, v = clicked.x() - 0.5, clicked.y() - 0.5

        def done(found: tuple[Any, int]) -> None:
            if self.joined is not joined or not self._state.is_open(place):
                return
            try:
                edit = model.keep_area(self._state.outing, place.folder, joined, *found)
            except LanternError as error:
                self._context.tell(error.sentence)
                return
            told = "One frame alone shows that now; Ctrl + Z takes it back."
            if isinstance(edit, model.Kept):
                told, edit = edit.told, edit.edit
            if self._state.apply(edit):
                self._context.tell(told, problem=False)

        self._context.start(
            OUTLINING,
            lambda _t: model.figure_at(joined, u, v, reach),
            done,
            lambda e: self._context.tell(e.sentence),
            quiet=True,
        )
