"""What the hand does on the picture that is finished: paint where a step works, draw a gradient or a round part, pick a grey."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QObject, QPointF, pyqtSignal

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import finish_heal_model as heal_model
from idle_lantern.app.stages import finish_mask_model as mask_model
from idle_lantern.app.stages import finish_model as model
from idle_lantern.app.stages.finish_clean_model import CleanFrame, clean_frame
from idle_lantern.app.widgets.held_bar import HeldBar
from idle_lantern.app.widgets.picture_tools import BrushTool, LineTool, PictureTool, PlaceTool
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.finish.healing import Spot
from idle_lantern.core.finish.masks import Mask
from idle_lantern.core.outing.edits import Edit

#: A round part that is drawn falls off over this share of its radius, in degrees of 15.
_ROUND_FEATHER_DEG = 8.0
SEEKING = "Finding clean ground"
_HINTS = {
    "paint": "Paint where the step works.",
    "rub": "Paint over parts where the step shall not work any more.",
    "gradient": "Drag from where the step does nothing to where it does all.",
    "round": "Drag from the middle of a round part to its rim.",
    "heal": "Paint over what shall go: the ground beside it covers it.",
    "source": "Click on the ground that shall cover the chosen place.",
    "grey": "Click on something that should be grey: the white balance follows.",
}


class FinishHands(QObject):
    """The tools of the picture; one is held at a time. ``step`` and ``place`` tell which step of the recipe and which healed place
    are in hand, None for none."""

    healed = pyqtSignal()
    #: Another frame shows the place without what shall go.
    offered = pyqtSignal(object)

    def __init__(
        self,
        context: AppContext,
        view: PictureView,
        step: Callable[[], int | None],
        place: Callable[[], int | None],
    ) -> None:
        super().__init__(view)
        self._context, self._state, self._view, self._step, self._place = context, context.state, view, step, place
        self._held = ""
        self.bar = HeldBar(view, self.leave)
        view.tool_left.connect(self.leave)

    @property
    def held(self) -> str:
        """The tool in hand, empty for none."""
        return self._held

    def use(self, name: str) -> None:
        """Hold a tool; the same once more puts it down."""
        self._held = "" if name == self._held else name
        tool: PictureTool | None = None
        if self._held in ("paint", "rub"):
            rubs = self._held == "rub"
            tool = BrushTool(rubs, lambda points, radius: self._paint(points, radius, rubs=rubs))
        elif self._held in ("gradient", "round"):
            tool = LineTool(self._drawn)
        elif self._held == "heal":
            tool = BrushTool(False, self._heal)
        elif self._held:
            tool = PlaceTool(self._pick if self._held == "grey" else self._take_ground)
        self.bar.hold(tool, _HINTS.get(self._held, ""))
        self._context.tools_changed.emit()

    def leave(self) -> None:
        """Put the tool down."""
        if self._held:
            self.use("")

    def _paint(self, points: list[tuple[float, float]], radius_px: float, *, rubs: bool) -> None:
        joined, at = self._state.joined, self._step()
        if joined is None or at is None:
            return
        stroke = mask_model.stroke_of(joined, points, radius_px, rubs=rubs)
        if stroke is not None:
            self._state.apply(mask_model.stroked(self._state.outing, at, stroke))

    def _heal(self, points: list[tuple[float, float]], radius_px: float) -> None:
        """Offer what another frame shows under a stroke, or else heal it; both are sought off the thread."""
        joined, picture, where = self._state.joined, self._state.picture, self._state.place
        if joined is None or picture is None or where is None or not self._state.may_change():
            return

        def done(clean: CleanFrame | None) -> None:
            if not self._state.is_open(where) or self._state.joined is not joined:
                return
            if clean is None:
                self.cover(points, radius_px)
            else:
                self.offered.emit(clean)

        self._context.start(
            SEEKING,
            lambda _t: clean_frame(joined, picture, points, radius_px),
            done,
            lambda _e: self.cover(points, radius_px),
            quiet=True,
        )

    def cover(self, points: Sequence[tuple[float, float]], radius_px: float) -> None:
        """Heal along a stroke; the ground is sought off the thread."""
        joined, picture, where = self._state.joined, self._state.picture, self._state.place
        if joined is None or picture is None or where is None or not self._state.may_change():
            return
        ground = model.ground_of(joined, picture, where.folder)

        def done(spots: list[Spot]) -> None:
            if self._state.is_open(where) and self._state.joined is joined:
                self._state.apply(heal_model.healed(self._state.outing, spots))
                self.healed.emit()

        self._context.start(
            SEEKING,
            lambda _t: heal_model.spots_of(joined, picture, ground, points, radius_px),
            done,
            lambda e: self._context.tell(e.sentence),
            quiet=True,
        )

    def _take_ground(self, place: QPointF) -> None:
        joined, number, picture, where = self._state.joined, self._place(), self._state.picture, self._state.place
        if joined is None or number is None or picture is None or where is None:
            return
        source = mask_model.place_deg(joined, place.x() - 0.5, place.y() - 0.5)
        if source is None:
            return
        ground = model.ground_of(joined, picture, where.folder)
        edit = heal_model.other_ground(self._state.outing, picture, ground, number, source)
        if edit is not None and self._state.apply(edit):
            self.leave()

    def _drawn(self, one: QPointF, other: QPointF) -> None:
        joined, at, name = self._state.joined, self._step(), self._held
        if joined is None or at is None:
            return
        ends = (one.x() - 0.5, one.y() - 0.5), (other.x() - 0.5, other.y() - 0.5)
        mask: Mask | None
        if name == "gradient":
            mask = mask_model.drawn_gradient(joined, *ends)
        else:
            mask = mask_model.drawn_round(joined, *ends, _ROUND_FEATHER_DEG)
        if mask is not None:
            self._state.apply(mask_model.masked(self._state.outing, at, mask))
            self.leave()

    def _pick(self, place: QPointF) -> None:
        joined, picture, where = self._state.joined, self._state.picture, self._state.place
        if joined is None or picture is None or where is None:
            return
        try:
            edit: Edit = model.balanced(
                self._state.outing, picture, model.ground_of(joined, picture, where.folder), place.x(), place.y()
            )
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        if self._state.apply(edit):
            self.leave()
