"""Composing the joined picture: projection, level, crop and rim, each seen at once."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QWidget

from idle_lantern.app import words
from idle_lantern.app.context import AppContext
from idle_lantern.app.display import to_qimage
from idle_lantern.app.stages import compose_model as model
from idle_lantern.app.stages.compose_hand import ComposeHand
from idle_lantern.app.stages.join_request_model import must_join_again
from idle_lantern.app.stages.projection_sliders import ProjectionSliders
from idle_lantern.app.widgets.basics import button, column, label, panel_form, row
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.held_bar import HeldBar
from idle_lantern.app.widgets.picture_cards import CardShown, PictureCards
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.geometry.projections import PROJECTIONS
from idle_lantern.core.outing import edits
from idle_lantern.core.plan.crop import CropLoss
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.request.choices import JoinChoices

DRAWING = "Drawing the projections"
_ANGLES = ("Yaw", "Pitch", "Roll")


class ComposePanel(QWidget):
    """The panel of Join while the picture is composed."""

    def __init__(self, context: AppContext, view: PictureView) -> None:
        super().__init__()
        self._context, self._state, self._view = context, context.state, view
        self.active = False
        #: The plan whose crop was reckoned for the words of this panel.
        self._reckoned: Plan | None = None
        self.hand = ComposeHand(context, view, self)
        self.hand.changed.connect(self._show)
        self.hand.turning.connect(self._show_turn)
        self.sliders = ProjectionSliders(self.hand)
        self.cards = PictureCards(self.choose_projection)
        self.reason = label("", "dim", wrap=True, name="compose-reason")
        self.fields = {name: self._angle(k, name) for k, name in enumerate(_ANGLES)}
        self.plain_button = button("As levelled", self.as_levelled, name="compose-plain")
        self.bar = HeldBar(view, lambda: self.hand.use_tool(""))
        self.ratio = Chooser()
        self.ratio.setObjectName("compose-ratio")
        self.ratio.addItems([words for words, _ratio in model.RATIOS])
        self.ratio.activated.connect(self._choose_ratio)
        self.crop_told = label("", "dim", wrap=True, name="compose-crop-told")
        self.rim = Chooser()
        self.rim.setObjectName("compose-rim")
        self.rim.addItems(list(model.RIMS.values()))
        self.rim.activated.connect(self._choose_rim)
        self.rim_told = label("", "dim", wrap=True, name="compose-rim-told")
        self._lay_out()
        self._state.changed.connect(self._follow)
        view.tool_left.connect(lambda: self.hand.use_tool("") if self.active else None)

    def _lay_out(self) -> None:
        crop = panel_form([("Crop", self.ratio), ("Rim", self.rim)])
        layout = column(
            label("Projection", "head"),
            self.reason,
            self.cards,
            self.sliders,
            6,
            label("Level", "head"),
            panel_form(list(self.fields.items())),
            row(self.plain_button, None),
            6,
            label("Crop and rim", "head"),
            crop,
            self.crop_told,
            self.rim_told,
        )
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)

    def _angle(self, k: int, name: str) -> QuantityEdit:
        edit = QuantityEdit(name, model.angle, model.write_angle, 0.1)
        edit.setObjectName(f"compose-{name.lower()}")
        edit.submitted.connect(lambda value: self._set_angle(k, value))
        edit.refused.connect(self._context.tell)
        edit.mended.connect(lambda: self._context.tell("", problem=False))
        return edit

    @property
    def _choices(self) -> JoinChoices:
        return self._state.outing.choices

    # --- opening ------------------------------------------------------------------

    def can_compose(self) -> bool:
        """Whether there is a picture whose frames are there, and which is of the frames that are to be joined."""
        return self._state.solution is not None and not self.needs()

    def needs(self) -> str:
        """Why there is nothing to compose."""
        if self._state.solution is None:
            return "There is no picture to compose yet: join the frames first."
        return must_join_again(self._state.outing, self._state.joined)

    def open(self) -> None:
        """Begin to compose."""
        self.active = True
        self._view.setFocus()
        self._fetch()
        self._show()

    def close_down(self) -> None:
        """Stop composing; what was only tried is taken back."""
        self.active = False
        self._view.setFocus()
        self.hand.use_tool("")

    # --- projection ---------------------------------------------------------------

    def choose_projection(self, name: str) -> None:
        """Let the picture have another projection."""
        if name != self._choices.projection and self._state.may_change():
            self.hand.apply(f"Choose the projection {words.PROJECTIONS[name]}", projection=name)
        self.cards.mark(self._choices.projection if self._choices.projection != "auto" else self._present())

    def next_projection(self) -> None:
        """The next one, round and round."""
        chosen = self._choices.projection  # its picture may still be on its way
        self.choose_projection(model.next_projection(PROJECTIONS, self._present() if chosen == "auto" else chosen))

    def _present(self) -> str:
        return "" if self.hand.joined is None else self.hand.joined.canvas.projection.name

    # --- level --------------------------------------------------------------------

    def _set_angle(self, k: int, value: float) -> None:
        turn = list(self._choices.turn_deg)
        turn[k] = (value + 180) % 360 - 180
        self.hand.turn_to((turn[0], turn[1], turn[2]), f"Turn the picture: {_ANGLES[k].lower()}", merge=f"turn {k}")

    def as_levelled(self) -> None:
        """Take every turn by hand back."""
        self.hand.turn_to((0.0, 0.0, 0.0), "Level as the join did")

    def _foretold(self) -> CropLoss | None:
        """What the plan foretold of the crop, where there is one and that is reckoned already: it takes a moment."""
        plan = self._state.plan
        if not self._state.outing.shows_plan:
            return None
        return plan.crop if self._state.judgements is not None or self._reckoned is plan else None

    # --- crop and rim ---------------------------------------------------------------

    def _choose_ratio(self, index: int) -> None:
        words, ratio = model.RATIOS[index]
        if self.hand.joined is None or not self._state.may_change():
            return

        self._state.apply(edits.compose(f"Crop: {words}", box=None, ratio=ratio, crop=True))
        if self.hand.tool == "crop":
            self.hand.use_tool("crop", again=True)

    def _choose_rim(self, index: int) -> None:
        name = list(model.RIMS)[index]
        if name != self._choices.rim:
            self.hand.apply(f"Rim: {model.RIMS[name]}", rim=name)

    # --- showing ------------------------------------------------------------------
    def _fetch(self) -> None:
        """Read the picture small, and draw every projection of it, off the thread."""
        joined, source, outing = self._state.joined, self._state.picture, self._state.outing
        plan = self._state.plan
        self.hand.joined = joined
        if not self.active or joined is None or source is None or joined.solution is None:
            self.hand.small = None
            self.cards.show_cards([], "")
            return

        def work(task: Any) -> tuple[Array, list[model.ProjectionCard]]:
            if outing.shows_plan:
                _ = plan.crop  # told beside the picture's own
            small = model.small_picture(source)
            task.advance(0)
            return small, model.cards(outing, joined, small)

        def came(product: tuple[Array, list[model.ProjectionCard]]) -> None:
            self._reckoned = plan
            if self.hand.joined is joined:
                self._show()
                self.hand.small = product[0]
                self._show_cards(product[1])

        self._context.start(DRAWING, work, came, lambda e: self._context.tell(e.sentence), quiet=True)

    def _show_cards(self, cards: list[model.ProjectionCard]) -> None:
        shown = [
            CardShown(
                c.name,
                c.title,
                None if c.pixels is None else to_qimage(c.pixels),
                c.cannot or c.costs,
                c.suits,
                not c.cannot,
            )
            for c in cards
        ]
        self.cards.show_cards(shown, self._present())
        best = next((c for c in cards if c.suits), None)
        if best is not None:
            self.reason.setText(f"{best.title} suits: {best.suits[0].lower()}{best.suits[1:]}")

    def _follow(self, topics: set[str]) -> None:
        if self.active and topics & {"outing", "frames", "choices", "join"} and not self.can_compose():
            if self._state.joined is not None:  # else another outing is open
                self._context.tell(f"The picture is no longer composed. {self.needs()}")
            self.close_down()
        if self._state.joined is not self.hand.joined and self.active:
            self.hand.forget_trial()
            self._fetch()
            if self.hand.tool:
                self.hand.use_tool(self.hand.tool, again=True)
        if topics & {"choices", "join"}:
            self._show()

    def _show(self) -> None:
        choices, joined = self._choices, self._state.joined
        self._show_turn(choices.turn_deg)
        self.plain_button.setVisible(any(choices.turn_deg))
        self.sliders.show_for(choices, self._present())
        self.ratio.setCurrentIndex(model.ratio_index(self._state.outing))
        self.rim.setCurrentIndex(list(model.RIMS).index(choices.rim))
        self.crop_told.setText(model.crop_told(self._state.outing, joined, self._foretold()))
        self.rim_told.setText(model.rim_told(joined))
        self.rim_told.setVisible(bool(self.rim_told.text()))
        self.bar.show_tool(model.HINTS.get(self.hand.tool, ""))
        self._context.tools_changed.emit()
        self.cards.mark(self._present())

    def _show_turn(self, turn: model.Turn) -> None:
        for value, field in zip(turn, self.fields.values()):
            field.show_value(value)
