"""Join: run it, watch the rough picture come within seconds and sharpen, look at it at 100 %."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from idle_lantern.app import theme, words
from idle_lantern.app.context import AppContext
from idle_lantern.app.cropping import crop_box
from idle_lantern.app.join_runner import ShownPicture
from idle_lantern.app.masking import MaskDialog
from idle_lantern.app.stages import join_model as model
from idle_lantern.app.stages import join_request_model as request_model
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.stages.choices_panel import TITLES_PX, ChoicesPanel
from idle_lantern.app.stages.compose_panel import ComposePanel
from idle_lantern.app.stages.frame_placing import FramePlacing
from idle_lantern.app.stages.ghost_bar import GhostBar
from idle_lantern.app.stages.join_dialogs import open_masks, open_ties, open_treatments, painting
from idle_lantern.app.stages.join_facts import JoinFacts
from idle_lantern.app.stages.join_on_the_map import JoinOnTheMap
from idle_lantern.app.stages.review_walk import SeenWalk
from idle_lantern.app.stages.walk_bar import WalkBar
from idle_lantern.app.tying import TieDialog
from idle_lantern.app.widgets.basics import button, column, label, panel, panel_form, row, set_look_property
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.flowing import FlowLayout
from idle_lantern.app.widgets.picture_desk import PictureDesk
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.tool_palette import ToolPalette
from idle_lantern.app.widgets.zooming import SIZES, zoom_told
from idle_lantern.core.geometry.projections import PROJECTIONS
from idle_lantern.core.outing import edits, joining

if TYPE_CHECKING:
    from idle_lantern.core.registration.solve.solve import Solution

_CHOICES = ("auto", *PROJECTIONS)
#: Tools by the question behind them, while joining and while composing.
JOINING = (
    ("Look it over", ("walk.next", "seen.next", "walk.seams")),
    ("Who moved?", ("mover.next",)),
    ("Which frame shows a place?", ("walk.place", "walk.keep", "walk.figure")),
    ("What must not show?", ("walk.hide", "join.masks")),
    ("Where does a seam run?", ("walk.seam",)),
    ("Which frames belong together?", ("join.ties",)),
    SIZES,
)
COMPOSING = (
    ("What form has it?", ("compose.projection",)),
    ("Does it stand level?", ("compose.turn", "compose.line", "compose.centre", "compose.levelled")),
    ("What does the projection bend?", ("compose.straight", "compose.round")),
    ("What is cut off?", ("compose.crop",)),
    SIZES,
)


class JoinStage(Stage):
    """From frames to one picture."""

    def __init__(self, context: AppContext) -> None:
        super().__init__(context)
        self.view = PictureView()
        self.view.placeholder = "The joined picture appears here: a rough one within seconds, then the full one."
        self.view.failed.connect(context.tell)
        self.run_button = button("Join the frames   [Ctrl + J]", self.run_join, main=True, name="join")
        self.finish_button = button("Finish", lambda: context.ask("go.finish"), name="go-finish")
        self.projection = Chooser()
        self.projection.setAccessibleName("Projection")
        self.projection.setObjectName("projection")
        self.projection.addItems(["As it suits", *words.PROJECTIONS.values()])
        self.projection.activated.connect(self._choose_projection)
        self.status = label("", wrap=True, name="join-status")
        self.choices = ChoicesPanel(context)
        self.about = JoinFacts(context)
        self.about.asked.connect(self._put_back)
        self.treat_button = button("Compare …", self.compare_treatments, name="join-treatments")
        self.treat_button.setAccessibleName("Compare what becomes of the brackets")
        self.walk = WalkBar(context, self.view)
        self.seen = SeenWalk(context, self.view)
        self.placing = FramePlacing(context, self.view)
        self.placing.laid.connect(self.run_join)
        self.ghosts = GhostBar(context, self.walk)
        self.compose = ComposePanel(context, self.view)
        self.compose_button = button("Compose   [C]", self.toggle_compose, name="compose")
        self.tools = ToolPalette(JOINING + COMPOSING, context.ask)
        self._lay_out()
        self.state.changed.connect(self._refresh)
        context.tasks.changed.connect(self._show_status)
        context.joins.rough.connect(self._show_rough)
        context.joins.shown.connect(self._show_finished)
        # one that was brought back may be older than what was chosen since
        context.joins.shown.connect(lambda _shown: self._follow_choices() if self.isVisible() else None)
        context.joins.ended.connect(self._follow_choices)
        context.joins.without_picture.connect(self._show_again)
        self.on_map = JoinOnTheMap(context, self.seen)
        self._failure = ""
        context.joins.failed.connect(self._show_failure)

    def _lay_out(self) -> None:
        projection = panel_form([("Projection", self.projection)])
        projection.setColumnMinimumWidth(0, theme.scaled(TITLES_PX))
        self._joining = panel(
            column(
                self.status,
                self.walk,
                self.ghosts,
                8,
                label("Picture", "head"),
                row(zoom_told(self.view), self.seen.told, None),
                self.about,
                8,
                label("How it is joined", "head"),
                projection,
                self.choices,
                FlowLayout(self.choices.keep_button, self.treat_button),
            ),
            "panel",
        )
        self.compose.hide()
        below = (self.run_button, row(self.compose_button, None, self.finish_button))
        self.picture_desk = PictureDesk(self.view, self.tools, (self._joining, self.compose, None), below, "Join")
        self.setLayout(column(self.picture_desk, space=0))

    def held_tools(self) -> set[str]:
        """The tool of the join or of composing that is in hand; seams while they are drawn."""
        hands, composing = self.walk.hands.held, self.compose.hand.tool
        held = {f"walk.{hands}"} if hands else {f"compose.{composing}"} if composing else set()
        return held | ({"walk.seams"} if self.walk.seams_shown else set())

    def toggle_compose(self) -> None:
        """Compose the picture, or go back to the join."""
        if not self.compose.active and not self.compose.can_compose():
            self.context.tell(self.compose.needs())
            return
        if self.compose.active:
            self.compose.close_down()
        else:
            self.compose.open()
        self._show_side()

    def _show_side(self) -> None:
        active = self.compose.active
        self._joining.setVisible(not active)
        self.compose.setVisible(active)
        self.tools.show_groups(COMPOSING if active else JOINING)
        self.walk.set_aside(active)
        self.ghosts.refresh()
        self.compose_button.setText("Back   [C]" if active else "Compose   [C]")
        self.compose_button.setAccessibleName("Back to the join" if active else "Compose the picture")
        self.compose_button.setEnabled(active or self.compose.can_compose())

    # --- running ----------------------------------------------------------------

    def can_join(self) -> bool:
        """Whether there is something to join, and no join of another outing runs."""
        joins = self.context.joins
        return len(self.state.outing.frames_to_join()) >= 2 and (not joins.busy or joins.busy_here)

    def cannot_join(self) -> str:
        """Why nothing can be joined now."""
        if len(self.state.outing.frames_to_join()) < 2:
            return "A join needs at least two frames. Shoot them in Field or bring pictures in under Frames."
        return "Another outing is being joined; this one can be joined after it."

    def run_join(self) -> None:
        """Join the frames of the outing; a join of it that runs goes on, unless something else is wanted by now."""
        if not self.can_join():
            self.context.tell(self.cannot_join())
            return
        joins, place = self.context.joins, self.state.place
        if joins.busy and place is not None and joins.request is not None:
            wanted = joining.request_for(self.state.outing, place.folder)
            if joins.request.solution is None and request_model.asks_the_same(joins.request, wanted):
                self.context.tell("This join runs already; its picture comes by itself.", problem=False)
                return
            joins.stop()
        self._start(None)
        if not self.isVisible() and self.context.joins.busy:
            self.context.tell("The frames are being joined; the picture comes under Join.", problem=False)

    def _start(self, solution: Solution | None) -> None:
        place, joins = self.state.place, self.context.joins
        if place is None or (joins.busy and not joins.busy_here) or not self.state.may_change():
            return
        request = joining.request_for(
            self.state.outing, place.folder, solution, self.state.joined if solution is not None else None
        )
        again = joins.failed_request
        if solution is not None and again is not None and request_model.asks_the_same(again, request):
            return  # it failed so: only a person asks for that once more
        if joins.busy and (
            solution is None or joins.request is None or not request_model.outdated(joins.request, request)
        ):
            return
        self._failure = ""
        joins.start_instead(request, place)
        self._show_status()

    def _choose_projection(self, index: int) -> None:
        name = _CHOICES[index]
        if name != self.state.outing.choices.projection:
            title = words.PROJECTIONS.get(name, "that suits")
            self.state.apply(edits.choose(f"Choose the projection {title}", projection=name))

    def _put_back(self, word: str, frame: str) -> None:
        """What was asked for a left-out frame: tie it, use it all the same, or leave it to the join again."""
        if word == "tie":
            self.open_ties(frame)
            return
        if word == "place":
            self.placing.take(frame)
            return
        ref = self.state.outing.frame(frame)
        if ref is not None and word == "on":
            self.state.apply(edits.switch_off(ref, off=False))
        elif ref is not None:
            self.state.apply(edits.put_back(ref, word == "use"))
            self.run_join()

    def can_mask(self) -> bool:
        """Whether there are frames to paint on."""
        return bool(self.state.outing.frames_to_join())

    def open_masks(self) -> MaskDialog | None:
        """Paint what must not show, or must."""
        return open_masks(self.context, self.window(), self._follow_choices)

    def compare_treatments(self) -> None:
        """What can become of brackets, side by side."""
        open_treatments(self.context, self.window())

    def open_ties(self, frame: str | None = None) -> TieDialog | None:
        """Tie frames by points set by hand; ``frame`` is one that nothing ties."""
        return open_ties(self.context, self.window(), self.run_join, frame)

    def _follow_choices(self) -> None:
        """Make the picture anew where it no longer is what was chosen; nothing is matched anew for that."""
        if (
            self.state.solution is not None
            and request_model.differs(self.state.outing, self.state.joined) == "choices"
            and not painting(self.window())
        ):
            self._start(self.state.solution)

    # --- showing ----------------------------------------------------------------

    def _show_rough(self, shown: ShownPicture) -> None:
        self.view.crop = None
        self._show_finished(shown)

    def _show_finished(self, shown: ShownPicture) -> None:
        self.view.set_source(shown.source, shown.size)

    def _show_again(self) -> None:
        """A join was stopped or failed: the outing's picture, or none, takes the place of what it showed so far."""
        joined, picture = self.state.joined, self.state.picture
        if joined is None or picture is None:
            self.view.set_source(None)
        else:
            self._show_finished(ShownPicture(picture, joined.canvas, joined))
        self._show_facts()
        self._show_status()

    def _show_failure(self, sentence: str) -> None:
        self._failure = sentence
        self._show_status()

    def showEvent(self, event: Any) -> None:
        self._refresh({"join", "frames", "choices"})
        super().showEvent(event)

    def _refresh(self, topics: set[str]) -> None:
        if "outing" in topics and "join" in topics and self.state.joined is None:
            self._failure = ""
            self.view.set_source(None)
        if "choices" in topics:
            self.projection.setCurrentIndex(_CHOICES.index(self.state.outing.choices.projection))
        # a development is tried out under Frames step by step: the picture follows when it is looked at
        if topics & {"choices", "masks"} and (self.isVisible() or "development" not in topics):
            self._follow_choices()
        if topics & {"join", "frames", "choices", "masks"}:
            self._show_facts()
            self._show_status()

    def _show_status(self) -> None:
        joins, task = self.context.joins, self.context.tasks.shown
        self.run_button.setEnabled(self.can_join())
        self.treat_button.setVisible(joining.has_brackets(self.state.outing))
        mine = joins.busy_here and task is not None and joins.is_task(task)
        running = model.running_in_words(task.clock) if mine and task is not None else ""
        outing, joined = self.state.outing, self.state.joined
        elsewhere, opening = joins.busy and not joins.busy_here, self.state.awaits_picture
        sentence = model.status(outing, joined, running=running, elsewhere=elsewhere, opening=opening)
        up_to_date = joined is not None and not request_model.differs(outing, joined)
        finished = up_to_date and not joins.busy
        failed = bool(self._failure) and not running and not up_to_date
        can_tie = len(outing.frames_to_join()) >= 2
        told = f"{self._failure} Or tie two frames by hand (Ctrl + T)." if failed and can_tie else self._failure
        self.status.setText(told if failed else sentence)
        self.context.tools_changed.emit()
        set_look_property(self.run_button, "main", not finished)
        set_look_property(self.finish_button, "main", finished)
        self.run_button.setText("Join again   [Ctrl + J]" if finished else "Join the frames   [Ctrl + J]")

    def _show_facts(self) -> None:
        joined = self.state.joined
        self.about.show_facts()
        self.view.crop = crop_box(self.state.outing, joined) if joined else None
        self._show_side()
        self.view.update()
