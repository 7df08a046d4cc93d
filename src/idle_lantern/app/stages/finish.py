"""Finish: the joined picture developed by a recipe of steps, without ever touching it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QFileDialog

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import finish_coming_back, finish_edits
from idle_lantern.app.stages import finish_heal_model as heal_model
from idle_lantern.app.stages import finish_model as model
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.stages.finish_advice import AdviceList
from idle_lantern.app.stages.finish_clean_model import CleanFrame, let_show_there
from idle_lantern.app.stages.finish_hands import FinishHands
from idle_lantern.app.stages.finish_offer import CleanFrameOffer
from idle_lantern.app.stages.finish_panel import FinishPanel
from idle_lantern.app.stages.finish_single import SingleFrameTold
from idle_lantern.app.widgets.basics import button, column, label, set_look_property
from idle_lantern.app.widgets.comparison import Way
from idle_lantern.app.widgets.histogram_view import HistogramView
from idle_lantern.app.widgets.over_picture import OverPicture, PlaceShown
from idle_lantern.app.widgets.picture_desk import PictureDesk
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.tool_palette import ToolPalette
from idle_lantern.app.widgets.zooming import SIZES, zoom_told
from idle_lantern.core.advice.advice import Advice, JoinedFacts
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.progress import OnlyStops
from idle_lantern.core.finish.finishing import KeptLooks, Tones, tones
from idle_lantern.core.finish.recipe import Recipe
from idle_lantern.core.finish.step import Step
from idle_lantern.core.finish.steps.heal import Heal
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.edits import Edit
from idle_lantern.core.pictures.kept import KeptPicture
from idle_lantern.core.pictures.source import PictureSource

COUNTING, LOOKING_OVER = "Counting tones", "Looking the picture over"
#: Tiles of the joined picture, and of what stands before the step in hand, that are kept in memory.
_KEPT_BYTES, _LOOKS_BYTES = 96_000_000, 128_000_000
#: While a hand is at a figure the picture follows when the last one is shown, asked so often; tones are counted when it rests.
_FOLLOW_MS, _COUNT_MS = 15, 250
_TOOLS = (
    ("Better than before?", ("finish.before", "finish.split", "finish.beside", "finish.single", "finish.cut")),
    ("Where does it work?", ("finish.paint", "finish.rub", "finish.gradient", "finish.round", "finish.mask")),
    ("What shall go?", ("finish.heal", "finish.next_place", "finish.source")),
    ("What is white?", ("finish.grey",)),
)


class FinishStage(Stage):
    """Back home, between join and delivery: every step is one of the outing's recipe."""

    #: The picture shall be levelled, which is done where it is composed.
    level_asked = pyqtSignal()
    #: Another frame shall show at a place: the picture is to be made anew.
    made_anew = pyqtSignal()

    def __init__(self, context: AppContext) -> None:
        super().__init__(context)
        self.view = PictureView()
        self.view.placeholder = "There is no joined picture yet. Join the frames first; here it is finished then."
        self.view.failed.connect(context.tell)
        self.panel = FinishPanel(context)
        self.panel.chosen.connect(self._show_other_step)
        self.panel.trying.connect(self._try)
        self.hands = FinishHands(context, self.view, lambda: self.panel.at, lambda: self.panel.place)
        self.hands.healed.connect(self._show_healed)
        self.offer = CleanFrameOffer()
        self.hands.offered.connect(self.offer.offer)
        self.offer.taken.connect(self._take_clean)
        self.offer.refused.connect(lambda clean: self.hands.cover(clean.points, clean.radius_px))
        self.view.over = OverPicture()
        self.histogram = HistogramView()
        self.cut_told = label("", "dim", wrap=True, name="finish-cut")
        self.go_on = button("Go on to Deliver", lambda: context.ask("go.deliver"), main=True, name="finish-go-on")
        self.advice = AdviceList()
        self.advice.taken.connect(self.take_advice)
        self.single = SingleFrameTold(context)
        self.single.changed.connect(self._show_single)
        self._facts: tuple[PictureSource, JoinedFacts] | None = None
        content = (
            self.histogram,
            self.cut_told,
            self.offer,
            label("Steps", "head"),
            self.panel,
            self.advice,
            self.single,
            zoom_told(self.view),
            None,
        )
        tools = ToolPalette((SIZES, *_TOOLS), context.ask)
        self.picture_desk = PictureDesk(self.view, tools, content, (self.go_on,), "Finish")
        self.setLayout(column(self.picture_desk, space=0))
        self.shows_mask = self.shows_cut = False
        self._of: PictureSource | None = None
        self._kept: PictureSource | None = None
        self._looks = KeptLooks(_LOOKS_BYTES)
        self._looking: Any = None
        self._tried: Step | None = None
        self._shown: object = None
        self._follow = QTimer(self)
        self._follow.setInterval(_FOLLOW_MS)
        self._follow.timeout.connect(self._follow_hand)
        self._count = QTimer(self)
        self._count.setSingleShot(True)
        self._count.setInterval(_COUNT_MS)
        self._count.timeout.connect(self._count_tones)
        self.state.changed.connect(self._refresh)

    # --- actions ---------------------------------------------------------------

    def held_tools(self) -> set[str]:
        """As of ``Stage``."""
        ways = {f"finish.{self.view.comparison.way}"} if self.view.comparison.way else set()
        hands = {f"finish.{self.hands.held}"} if self.hands.held else set()
        shown = {"finish.mask"} if self.shows_mask else set()
        shown |= {"finish.single"} if self.single.frame is not None else set()
        return ways | hands | shown | ({"finish.cut"} if self.shows_cut else set())

    def has_step(self) -> bool:
        """Whether a step is in hand."""
        return self.state.joined is not None and self.panel.step is not None

    def can_move(self, by: int) -> bool:
        """Whether the step in hand has a neighbour there."""
        at = self.panel.at
        return at is not None and self.has_step() and 0 <= at + by < len(self.state.outing.finish.steps)

    def has_mask(self) -> bool:
        """Whether the step in hand works on a part only."""
        step = self.panel.step
        return self.has_step() and step is not None and step.mask is not None

    def has_places(self) -> bool:
        """Whether anything is healed."""
        joined = self.state.joined
        return joined is not None and bool(heal_model.spot_places(self.state.outing, joined))

    def step_place(self) -> None:
        """Go to the next healed place, at 100 %."""
        joined = self.state.joined
        if joined is None:
            return
        places = heal_model.spot_places(self.state.outing, joined)
        self.panel.choose(heal_model.heal_at(self.state.outing.finish.steps))
        at = -1 if self.panel.place is None else self.panel.place
        self.panel.place = (at + 1) % max(1, len(places))
        place = places[self.panel.place] if places else None
        if place is not None:
            self.view.show_place(place[0], place[1])
        self._refresh({"finish"})

    def drop_place(self) -> None:
        """Leave the chosen place as it was joined."""
        edit = None if self.panel.place is None else heal_model.not_healed(self.state.outing, self.panel.place)
        if edit is not None:
            self.state.apply(edit)

    def _take_clean(self, clean: CleanFrame) -> None:
        """Let another frame show at a place: the picture is made anew there, which is seen where frames are joined."""
        joined, place = self.state.joined, self.state.place
        if joined is None or place is None:
            return
        try:
            edit = let_show_there(self.state.outing, place.folder, joined, clean)
        except LanternError as error:
            self.context.tell(error.sentence)
            return
        if self.state.apply(edit):
            self.made_anew.emit()

    def _show_healed(self) -> None:
        """The place that was just healed is the chosen one."""
        joined = self.state.joined
        count = 0 if joined is None else len(heal_model.spot_places(self.state.outing, joined))
        self.panel.place = count - 1 if count else None
        self.panel.choose(heal_model.heal_at(self.state.outing.finish.steps))

    def _show_places(self) -> None:
        """Mark healed places while their step is in hand."""
        joined, over = self.state.joined, self.view.over
        places = [] if joined is None else heal_model.spot_places(self.state.outing, joined)
        if self.panel.place is not None and self.panel.place >= len(places):
            self.panel.place = len(places) - 1 if places else None
        shown = isinstance(self.panel.step, Heal)
        if over is not None:
            over.places = [
                PlaceShown(p[0], p[1], p[2], p[3], present=k == self.panel.place)
                for k, p in enumerate(places)
                if p is not None and shown
            ]
        self.view.update()

    def compare(self, way: Way) -> None:
        """Show what it was beside it, in a way, or no longer."""
        self.view.compare("" if self.view.comparison.way == way else way)
        self.context.tools_changed.emit()

    def ask_single(self) -> None:
        """Lay one wide frame beside the picture, or take it away."""
        if self._kept is not None:
            self.single.ask(self._kept)

    def _show_single(self) -> None:
        """The frame is compared with, in the place of the joined picture, while it is there."""
        source = self.single.source
        self.view.comparison.set_source(
            self._kept if source is None else source, "As joined" if source is None else "One frame"
        )
        if source is not None and not self.view.comparison.way:
            self.view.compare("split")
        self.view.compare(self.view.comparison.way)
        self.context.tools_changed.emit()

    def toggle_mask(self) -> None:
        """Show where the step in hand works, or no longer."""
        self.shows_mask = not self.shows_mask
        self._show_picture()
        self.context.tools_changed.emit()

    def toggle_cut(self) -> None:
        """Show what is cut to white or black, or no longer."""
        self.shows_cut = not self.shows_cut
        self._show_picture()
        self.context.tools_changed.emit()

    def ask_step(self) -> None:
        """Open the list of steps."""
        self.panel.add.setFocus()
        self.panel.add.showPopup()

    def ask_retouched(self) -> None:
        """Choose a picture that was gone on with in another program, and lay it over the joined one."""
        finish_coming_back.ask(self.context, self)

    def save_recipe(self) -> None:
        """Choose a file and write the recipe into it."""
        name, _ = QFileDialog.getSaveFileName(
            self, "Save the recipe", str(Path.home() / "recipe.json"), "Recipes (*.json)"
        )
        if name:
            path = Path(name)
            self._told(lambda: model.save_recipe(self.state.outing, path), f"The recipe is kept in {path}.")

    def use_recipe(self) -> None:
        """Choose a file and finish by its recipe."""
        name, _ = QFileDialog.getOpenFileName(self, "Finish by a recipe", str(Path.home()), "Recipes (*.json)")
        if name:
            self._take(lambda: model.from_file(Path(name)))

    def take_recipe(self) -> None:
        """Choose another outing and finish as that one is."""
        name = QFileDialog.getExistingDirectory(self, "Finish as another outing", str(Path.home()))
        if name:
            self._take(lambda: model.from_outing(Path(name)))

    def _take(self, edit: Callable[[], Edit]) -> None:
        try:
            made = edit()
        except LanternError as error:
            self.context.tell(error.sentence)
            return
        if self.state.apply(made):
            self.context.tell(f"{made.title}. Ctrl + Z takes it back.", problem=False)

    def _told(self, work: Callable[[], None], done: str) -> None:
        try:
            work()
        except LanternError as error:
            self.context.tell(error.sentence)
        else:
            self.context.tell(done, problem=False)

    # --- showing ----------------------------------------------------------------

    def showEvent(self, event: Any) -> None:
        self._refresh({"join", "finish"})
        super().showEvent(event)

    def hideEvent(self, event: Any) -> None:
        self.hands.leave()
        super().hideEvent(event)

    def _refresh(self, topics: set[str]) -> None:
        if not topics & {"join", "finish"}:
            return
        if not self.isVisible():
            return  # all is shown anew when it comes into sight
        self._tried = None
        self._follow.stop()
        if self.state.picture is not self._of:
            self._take_picture()
        self._show_places()
        self.panel.refresh()
        self._show_picture()
        self._count.start()
        self.go_on.setEnabled(self.state.joined is not None)

    def _take_picture(self) -> None:
        """Another joined picture, or none."""
        self._of, joined = self.state.picture, self.state.joined
        self._kept = None if self._of is None else KeptPicture(self._of, _KEPT_BYTES)
        self._looks = KeptLooks(_LOOKS_BYTES)
        self._shown = None
        self.hands.leave()
        self.offer.offer(None)
        size = (joined.canvas.width, joined.canvas.height) if joined else None
        self.view.set_source(self._kept, size)
        self.single.of_picture(self._kept)
        self._show_single()

    def _show_other_step(self) -> None:
        self._show_places()
        self._show_picture()
        self.context.tools_changed.emit()

    def _try(self, step: Step) -> None:
        """Show what a figure would do that a hand is still at, as soon as the last one is shown."""
        self._tried = step
        if not self._follow.isActive():
            self._follow.start()
            self._follow_hand()

    def _follow_hand(self) -> None:
        if self._tried is None:
            self._follow.stop()
        elif not self.view.awaits_tiles:
            step, at = self._tried, self.panel.at
            self._tried = None
            steps = self.state.outing.finish.steps
            if at is not None and at < len(steps):
                self._show(Recipe((*steps[:at], step, *steps[at + 1 :])), rough=True)

    def _show_picture(self) -> None:
        self._show(self.state.outing.finish, rough=False)

    def _show(self, recipe: Recipe, *, rough: bool) -> None:
        joined, place, kept = self.state.joined, self.state.place, self._kept
        if joined is None or place is None or kept is None:
            return
        at = self.panel.at or 0
        step = recipe.steps[at] if at < len(recipe.steps) else None
        mask = step.mask if self.shows_mask and step is not None else None
        now = (recipe, mask, self.shows_cut)
        if now == self._shown and self.view.source is not None:
            self.view.set_variant(self.view.source, rough=rough)
            return
        try:
            ground = model.ground_of(joined, kept, place.folder)
            made = model.shown(kept, recipe, ground, kept=self._looks, held=at, mask=mask, cut=self.shows_cut)
        except LanternError as error:
            self.context.tell(error.sentence)
            return
        self._shown = now
        self.view.set_variant(made, rough=rough)

    def _count_tones(self) -> None:
        """Count the tones of the finished picture, off the thread."""
        joined, place, kept = self.state.joined, self.state.place, self._kept
        if joined is None or place is None or kept is None:
            self._show_tones(None)
            self.advice.show_advice(())
            return
        recipe, ground = self.state.outing.finish, model.ground_of(joined, kept, place.folder)

        def is_shown() -> bool:
            return self.state.is_open(place) and recipe == self.state.outing.finish and kept is self._kept

        def done(found: Tones) -> None:
            if is_shown():
                self._show_tones(found)
                look_over()

        def look_over() -> None:
            medium = model.medium_of(self.state.outing, place.folder, kept.space)
            known = self._facts if self._facts is not None and self._facts[0] is kept else None

            def look(task: Any) -> tuple[JoinedFacts, tuple[Advice, ...]]:
                from idle_lantern.core.advice.looking_over import facts_of, looked_over  # loaded when needed

                facts = facts_of(kept, joined.canvas, model.outlines_of(joined)) if known is None else known[1]
                return facts, looked_over(kept, recipe, ground, joined.canvas, medium, facts, OnlyStops(task))

            def seen(found: tuple[JoinedFacts, tuple[Advice, ...]]) -> None:
                if kept is self._kept:
                    self._facts = kept, found[0]
                if is_shown():
                    self.advice.show_advice(found[1])

            self._looking = self.context.start(LOOKING_OVER, look, seen, lambda _e: None, quiet=True)

        if self._looking is not None:
            self._looking.cancel()  # what is looked over is another picture by now
        self.context.start(
            COUNTING,
            lambda _task: tones(model.shown(kept, recipe, ground)),
            done,
            lambda e: self.context.tell(e.sentence),
            quiet=True,
        )

    def take_advice(self, advice: Advice) -> None:
        """Do what a line of advice proposes."""
        if advice.step is None:
            joined, lean = self.state.joined, None if self._facts is None else self._facts[1].lean
            if joined is not None and lean is not None:
                turn = lean.turn_after(self.state.outing.choices.turn_deg, joined.canvas)
                if self.state.apply(edits.choose(advice.button, turn_deg=turn)):
                    self.level_asked.emit()
            return
        edit, at = finish_edits.advised(self.state.outing, advice.button, advice.step)
        if self.state.apply(edit):
            self.panel.choose(at)

    def _show_tones(self, found: Tones | None) -> None:
        if found is None:
            self.cut_told.setText("")
            return
        self.histogram.show_heights(
            model.histogram_path(found.shares), black=found.black > 1e-3, white=found.white > 1e-3
        )
        told, doubtful = model.cut_told(found.white, found.black)
        self.cut_told.setText(told)
        set_look_property(self.cut_told, "role", "warn" if doubtful else "dim")
