"""Composing the joined picture: projection, level, crop and rim, each seen at once."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF
from PyQt6.QtWidgets import QWidget

from idle_lantern.app import theme
from idle_lantern.app.cropping import crop_box
from idle_lantern.app.desk import Desk
from idle_lantern.app.stages import compose_model as model
from idle_lantern.app.widgets.basics import button, column, form, label, row, to_qimage
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.picture_cards import CardShown, PictureCards
from idle_lantern.app.widgets.picture_tools import CropTool, LineTool, PictureTool, PlaceTool, TurnTool
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.app.widgets.slider_row import SliderRow
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.picture import Picture
from idle_lantern.core.geometry.projections import PROJECTIONS
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.asking import JoinResult
from idle_lantern.core.outing import edits
from idle_lantern.core.outing.model import JoinChoices
from idle_lantern.core.pictures.source import HeldPicture

Array = NDArray[Any]

DRAWING = "Drawing the projections"
_FIELD_PX, _TITLES_PX = 72, 56
_ANGLES = ("Yaw", "Pitch", "Roll")
_CHOOSER_PX = 172
#: Steps of panini's sliders from 0 to 1.
_STEPS = 50
#: Degrees of roll where a hand moves over the picture's whole width with Shift.
_ROLL_DEG = 90.0


class ComposePanel(QWidget):
    """The side of Join while the picture is composed; ``cards`` are placed under the picture by the stage."""

    def __init__(self, desk: Desk, view: PictureView) -> None:
        super().__init__()
        self._desk, self._state, self._view = desk, desk.state, view
        self.active = False
        self._small: Array | None = None
        self._joined: JoinResult | None = None
        self._before: model.Turn = (0.0, 0.0, 0.0)
        self._trying: JoinChoices | None = None
        self.cards = PictureCards(self.choose_projection)
        self.reason = label("", "dim", wrap=True, name="compose-reason")
        self.distance = self._slider(
            "distance", "Eye behind", "Distance of the eye", 3.0, "Panini: distance of the eye"
        )
        self.straighten = self._slider(
            "straighten", "Lines across", "Lines across straightened", 1.0, "Panini: lines across"
        )
        self.look = SliderRow(
            "Look", "compose-look", "Where the picture looks, up or down", -90.0, 90.0, 1, model.look_told,
            trying=lambda value: self._try(replace(self._choices, turn_deg=model.looking(self._choices.turn_deg, value))),
            taken=lambda value: self._look(value, "Look up or down", merge="look"),
        )  # fmt: skip
        self.planet_button = button("Planet", lambda: self._look(-90.0, "Planet"), name="compose-planet")
        self.ball_button = button("Mirror ball", lambda: self._look(90.0, "Mirror ball"), name="compose-ball")
        self._round = QWidget()
        self._round.setLayout(column(self.look, row(self.planet_button, self.ball_button, None)))
        self.fields = {name: self._angle(k, name) for k, name in enumerate(_ANGLES)}
        self.turn_button = button("Turn   [R]", lambda: self.use_tool("turn"), name="compose-turn")
        self.line_button = button("Line   [E]", lambda: self.use_tool("line"), name="compose-line")
        self.centre_button = button("Centre   [Q]", lambda: self.use_tool("centre"), name="compose-centre")
        self.plain_button = button("As levelled", self.as_levelled, quiet=True, name="compose-plain")
        self.ratio = Chooser()
        self.ratio.setObjectName("compose-ratio")
        self.ratio.addItems([words for words, _ratio in model.RATIOS])
        self.ratio.activated.connect(self._choose_ratio)
        self.crop_button = button("By hand   [K]", lambda: self.use_tool("crop"), name="compose-crop")
        self.crop_told = label("", "dim", wrap=True, name="compose-crop-told")
        self.rim = Chooser()
        self.rim.setObjectName("compose-rim")
        self.rim.addItems(list(model.RIMS.values()))
        self.rim.activated.connect(self._choose_rim)
        self.rim_told = label("", "dim", wrap=True, name="compose-rim-told")
        self.hint = label("", wrap=True, name="compose-hint")
        self._tools = {
            "turn": self.turn_button,
            "line": self.line_button,
            "centre": self.centre_button,
            "crop": self.crop_button,
        }
        for each in self._tools.values():
            each.setCheckable(True)
        self._tool = ""
        self._lay_out()
        self._state.changed.connect(self._follow)
        view.tool_left.connect(self._leave_tool)

    def _leave_tool(self) -> None:
        if self.active:
            self.use_tool("")

    def _lay_out(self) -> None:
        crop = form([("Crop", self.ratio), ("Rim", self.rim)])
        crop.setColumnMinimumWidth(0, theme.scaled(_TITLES_PX))
        crop.addWidget(self.crop_button, 0, 2)
        self.ratio.setFixedWidth(theme.scaled(_CHOOSER_PX))
        crop.removeWidget(self.rim)  # its words are longer
        crop.addWidget(self.rim, 1, 1, 1, 2)
        angles = row(*(part for name, field in self.fields.items() for part in (label(name), field)), None)
        layout = column(
            label("Projection", "head"),
            self.reason,
            self.distance,
            self.straighten,
            self._round,
            6,
            label("Level", "head"),
            angles,
            row(self.turn_button, self.line_button, self.centre_button, None),
            self.hint,
            row(self.plain_button, None),
            6,
            label("Crop and rim", "head"),
            crop,
            self.crop_told,
            self.rim_told,
            None,
        )
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)

    def _slider(self, choice: str, title: str, spoken: str, most: float, done: str) -> SliderRow:
        def changed(value: float) -> dict[str, Any]:
            return {choice: value}

        return SliderRow(
            title,
            f"compose-{choice}",
            spoken,
            0.0,
            most,
            _STEPS,
            model.SLIDERS[choice],
            trying=lambda value: self._try(replace(self._choices, **changed(value))),
            taken=lambda value: self._apply(done, merge=choice, **changed(value)),
        )

    def _angle(self, k: int, name: str) -> QuantityEdit:
        edit = QuantityEdit(name, model.angle, model.write_angle, 0.1)
        edit.setObjectName(f"compose-{name.lower()}")
        edit.setFixedWidth(theme.scaled(_FIELD_PX))
        edit.submitted.connect(lambda value: self._set_angle(k, value))
        edit.refused.connect(self._desk.tell)
        edit.mended.connect(lambda: self._desk.tell("", problem=False))
        return edit

    @property
    def _choices(self) -> JoinChoices:
        return self._state.outing.choices

    # --- opening ------------------------------------------------------------------

    def can_compose(self) -> bool:
        """Whether there is a picture whose frames are there."""
        return self._state.joined is not None and self._state.solution is not None

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
        self.use_tool("")

    # --- projection ---------------------------------------------------------------

    def choose_projection(self, name: str) -> None:
        """Let the picture have another projection."""
        if name != self._choices.projection and self._state.may_change():
            self._apply(f"Choose the projection {name}", projection=name)
        self.cards.mark(self._choices.projection if self._choices.projection != "auto" else self._present())

    def next_projection(self) -> None:
        """The next one, round and round."""
        self.choose_projection(model.next_projection(PROJECTIONS, self._present()))

    def _present(self) -> str:
        return "" if self._joined is None else self._joined.canvas.projection.name

    def _look(self, up_deg: float, title: str, merge: str = "") -> None:
        """Let the middle of a round picture lie so far up: the ground at -90 degrees, the sky at 90."""
        self._turn_to(model.looking(self._choices.turn_deg, up_deg), title, merge=merge)

    # --- level --------------------------------------------------------------------

    def _set_angle(self, k: int, value: float) -> None:
        turn = list(self._choices.turn_deg)
        turn[k] = (value + 180) % 360 - 180
        self._turn_to((turn[0], turn[1], turn[2]), f"Turn the picture: {_ANGLES[k].lower()}", merge=f"turn {k}")

    def _turn_to(self, turn: model.Turn, title: str, merge: str = "") -> None:
        self._apply(title, merge=merge, turn_deg=turn)

    def as_levelled(self) -> None:
        """Take every turn by hand back."""
        self._turn_to((0.0, 0.0, 0.0), "Level as the join did")

    def _line_drawn(self, one: QPointF, other: QPointF) -> None:
        joined = self._joined
        if joined is None:
            return
        try:
            turn, what = model.line_turn(joined, self._choices.turn_deg, (one.x(), one.y()), (other.x(), other.y()))
        except LanternError as error:
            self._desk.tell(error.sentence)
            return
        self._turn_to(turn, f"Make a line {what}")
        self._desk.tell(f"What you drew is {what} now. Another line makes the other way right.", problem=False)

    def _centre_chosen(self, place: QPointF) -> None:
        if self._joined is None:
            return
        try:
            turn = model.centred_on(self._joined, self._choices.turn_deg, (place.x(), place.y()))
        except LanternError as error:
            self._desk.tell(error.sentence)
            return
        self.use_tool("")
        self._turn_to(turn, "Put a place in the middle")

    def _turning(self, du: float, dv: float, rolls: bool) -> None:
        joined = self._joined
        if joined is None:
            return
        if rolls:
            turn = model.turned(self._before, 0.0, 0.0, du / joined.canvas.width * _ROLL_DEG)
        else:
            turn = model.dragged(joined, self._before, du, dv)
        self._try(replace(self._choices, turn_deg=turn))
        for value, field in zip(turn, self.fields.values()):
            field.show_value(value)

    def _turned(self) -> None:
        if self._trying is not None:
            self._turn_to(self._trying.turn_deg, "Turn the picture by hand")

    def _step(self, yaw: float, pitch: float, roll: float) -> None:
        self._turn_to(model.turned(self._choices.turn_deg, yaw, pitch, roll), "Turn the picture", merge="turn by keys")
        self._before = self._choices.turn_deg

    def _foretold(self) -> float | None:
        """What the plan foretold of the crop, where that is reckoned already: it takes a moment."""
        return self._state.plan.crop.expected if self._state.judgements is not None else None

    # --- crop and rim ---------------------------------------------------------------

    def _choose_ratio(self, index: int) -> None:
        words, ratio = model.RATIOS[index]
        if self._joined is None or not self._state.may_change():
            return

        def apply(outing: Any) -> Any:
            return replace(outing, crop_box=None, choices=replace(outing.choices, ratio=ratio, crop=True))

        self._state.apply(edits.Edit(f"Crop: {words}", apply))
        if self._tool == "crop":
            self.use_tool("crop", again=True)

    def _cropped(self, box: Rectangle) -> None:
        if self._joined is not None and self._state.may_change():
            self._state.apply(edits.crop_to(model.box_for(self._joined, box, self._choices.ratio), merge="crop"))

    def _choose_rim(self, index: int) -> None:
        name = list(model.RIMS)[index]
        if name != self._choices.rim:
            self._apply(f"Rim: {model.RIMS[name]}", rim=name)

    # --- tools ----------------------------------------------------------------------

    def use_tool(self, name: str, *, again: bool = False) -> None:
        """Let the pointer draw a line, turn, centre or crop; the same once more, or nothing, lets it move the picture."""
        self._untry()
        joined = self._joined
        self._tool = "" if (name == self._tool and not again) or joined is None else name
        tool: PictureTool | None = None
        if joined is not None and self._tool:
            self._before = self._choices.turn_deg
            if self._tool == "turn":
                tool = TurnTool(self._turning, self._turned, self._step)
            elif self._tool == "line":
                tool = LineTool(self._line_drawn)
            elif self._tool == "centre":
                tool = PlaceTool(self._centre_chosen)
            else:
                ratio = self._choices.ratio
                size = joined.canvas.width, joined.canvas.height
                box = crop_box(self._state.outing, joined)
                tool = CropTool(box, size, None if ratio is None else ratio[0] / ratio[1], self._cropped)
        self._view.set_tool(tool)
        if tool is not None:
            self._view.setFocus()
        self._show()

    def _hint(self) -> str:
        return {
            "turn": "Drag the picture, with Shift to roll it. Arrow keys turn by 0.1°, comma and full stop roll; with Shift by 1°.",
            "line": "Drag along a mast or wall and it becomes upright, along the horizon and it becomes level.",
            "centre": "Click on what shall lie straight ahead.",
            "crop": "Drag edges, corners or the middle. Arrow keys move it, with Shift they draw it larger or smaller.",
        }.get(self._tool, "")

    # --- trying and showing -----------------------------------------------------------

    def _apply(self, title: str, *, merge: str = "", **changes: Any) -> None:
        self._trying = None
        if not self._state.may_change():
            self._untry()
            return
        self._state.apply(edits.choose(title, merge=merge and f"compose {merge}", **changes))
        self._before = self._choices.turn_deg

    def _try(self, choices: JoinChoices) -> None:
        """Show the picture under other choices while the hand is still at them."""
        if self._small is None or self._joined is None:
            return
        try:
            pixels, size = model.preview(self._joined, self._small, choices)
        except LanternError as error:
            self._desk.tell(error.sentence)
            return
        self._trying = choices
        self._view.crop = None
        self._view.set_source(HeldPicture(Picture(np.ascontiguousarray(pixels[..., :3]), pixels[..., 3])), size)

    def _untry(self) -> None:
        """Back to the picture that is there."""
        if self._trying is not None and self._joined is not None and self._state.picture is not None:
            self._trying = None
            self._view.set_source(self._state.picture, (self._joined.canvas.width, self._joined.canvas.height))
            self._show()

    def _fetch(self) -> None:
        """Read the picture small, and draw every projection of it, off the thread."""
        joined, source, outing = self._state.joined, self._state.picture, self._state.outing
        self._joined = joined
        if not self.active or joined is None or source is None or joined.solution is None:
            self._small = None
            self.cards.show_cards([], "")
            return

        def work(task: Any) -> tuple[Array, list[model.Card]]:
            small = model.small_picture(source)
            task.advance(0)
            return small, model.cards(outing, joined, small)

        def came(product: tuple[Array, list[model.Card]]) -> None:
            if self._joined is joined:
                self._small = product[0]
                self._show_cards(product[1])

        self._desk.start(DRAWING, work, came, lambda e: self._desk.tell(e.sentence), quiet=True)

    def _show_cards(self, cards: list[model.Card]) -> None:
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
        if "outing" in topics and "join" in topics and self.active and self._state.joined is None:
            self.use_tool("")
        if self._state.joined is not self._joined and self.active:
            self._trying = None
            self._fetch()
            if self._tool:
                self.use_tool(self._tool, again=True)
        if topics & {"choices", "join"}:
            self._show()

    def _show(self) -> None:
        choices, joined = self._choices, self._state.joined
        for value, field in zip(choices.turn_deg, self.fields.values()):
            field.show_value(value)
        self.plain_button.setVisible(any(choices.turn_deg))
        panini = choices.projection == "panini"
        for slider, value in ((self.distance, choices.distance), (self.straighten, choices.straighten)):
            slider.setVisible(panini)
            slider.show_value(value)
        self._round.setVisible(self._present() == "stereographic")
        self.look.show_value(-choices.turn_deg[1])
        self.ratio.setCurrentIndex(model.ratio_index(self._state.outing))
        self.rim.setCurrentIndex(list(model.RIMS).index(choices.rim))
        self.crop_told.setText(model.crop_told(self._state.outing, joined, self._foretold()))
        self.rim_told.setText(model.rim_told(joined))
        self.rim_told.setVisible(bool(self.rim_told.text()))
        for name, each in self._tools.items():
            each.setChecked(name == self._tool)
        self.hint.setText(self._hint())
        self.hint.setVisible(bool(self._tool))
        self.cards.mark(self._present())
