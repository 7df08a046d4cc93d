"""What a hand does to the picture while it is composed: turn, draw a line, centre, crop, and try before it is taken."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, QPointF, pyqtSignal

from idle_lantern.app.context import AppContext
from idle_lantern.app.cropping import crop_box
from idle_lantern.app.stages import compose_model as model
from idle_lantern.app.widgets.picture_tools import CropTool, LineTool, PictureTool, PlaceTool, TurnTool
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing import edits
from idle_lantern.core.pictures.source import HeldPicture
from idle_lantern.core.request.choices import JoinChoices
from idle_lantern.core.request.eased import Eased

#: Degrees of roll where a hand moves over the picture's whole width with Shift.
_ROLL_DEG = 90.0
#: A shorter drag on the screen is a click.
_CLICK_PX = 6.0


class ComposeHand(QObject):
    """The tool that the pointer holds, and choices that are tried.

    ``joined`` is the picture that is composed, ``small`` the same reduced, as soon as it is read; ``changed`` asks for all to be
    shown anew, ``turning`` tells a turn that is only tried yet.
    """

    changed = pyqtSignal()
    turning = pyqtSignal(tuple)

    def __init__(self, context: AppContext, view: PictureView, parent: QObject) -> None:
        super().__init__(parent)
        self._context, self._state, self._view = context, context.state, view
        self.joined: JoinResult | None = None
        self.small: Array | None = None
        self.tool = ""
        self._before: model.Turn = (0.0, 0.0, 0.0)
        self._trying: JoinChoices | None = None
        #: Lines of what is eased, of which picture.
        self._lines: tuple[JoinResult, tuple[Eased, ...], list[list[QPointF]]] | None = None

    @property
    def choices(self) -> JoinChoices:
        """What is chosen for the picture."""
        return self._state.outing.choices

    def turn_to(self, turn: model.Turn, title: str, merge: str = "") -> None:
        """Turn the picture."""
        self.apply(title, merge=merge, turn_deg=turn)

    def forget_trial(self) -> None:
        """Another picture came: what was tried on the one before is past."""
        self._trying = None

    def apply(self, title: str, *, merge: str = "", **changes: Any) -> None:
        """Choose something for the picture; what was only tried is taken back where nothing may change."""
        if not self._state.may_change():
            self.untry()
            return
        self._trying = None
        self._state.apply(edits.choose(title, merge=merge and f"compose {merge}", **changes))
        self._before = self.choices.turn_deg

    def try_out(self, **changes: Any) -> None:
        """Show the picture under other choices while the hand is still at them."""
        if self.small is None or self.joined is None:
            return
        choices = replace(self.choices, **changes)
        try:
            pixels, size = model.preview(self.joined, self.small, choices)
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self._trying = choices
        self._view.crop = None
        self._view.set_source(HeldPicture(Picture(np.ascontiguousarray(pixels[..., :3]), pixels[..., 3])), size)

    def untry(self) -> None:
        """Back to the picture that is there."""
        if self._trying is not None and self.joined is not None and self._state.picture is not None:
            self._trying = None
            self._view.set_source(self._state.picture, (self.joined.canvas.width, self.joined.canvas.height))
            self.changed.emit()

    def _line_drawn(self, one: QPointF, other: QPointF) -> None:
        joined = self.joined
        if joined is None:
            return
        try:
            turn, what = model.line_turn(joined, self.choices.turn_deg, (one.x(), one.y()), (other.x(), other.y()))
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self.turn_to(turn, f"Make a line {what}")
        self._context.tell(f"What you drew is {what} now. Another line makes the other way right.", problem=False)

    def _eased(self, one: QPointF, other: QPointF) -> None:
        """A line that shall be straight, or a round thing, was drawn; a click takes one back."""
        joined, eased, round_ = self.joined, self.choices.eased, self.tool == "round"
        if joined is None:
            return
        ends = (one.x() - 0.5, one.y() - 0.5), (other.x() - 0.5, other.y() - 0.5)
        moved = math.hypot(one.x() - other.x(), one.y() - other.y()) * self._view.zoom
        try:
            if moved < _CLICK_PX:
                left = model.without_eased(joined, eased, ends[0], _CLICK_PX * 2 / max(self._view.zoom, 1e-6))
                if left is not None:
                    self.apply("Draw a place as the projection does", eased=left)
                return
            made = model.made_round(joined, *ends) if round_ else model.made_straight(joined, *ends)
            model.check_eased(joined, replace(self.choices, eased=(*eased, made)))
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self.apply("Keep a round thing round" if round_ else "Draw a line straight", eased=(*eased, made))

    def _eased_lines(self) -> list[list[QPointF]]:
        """What is eased, as it lies on the picture that is shown."""
        joined, eased = self.joined, self.choices.eased
        if joined is None or not eased:
            return []
        if self._lines is None or self._lines[0] is not joined or self._lines[1] != eased:
            lines = model.eased_lines(joined, eased)
            self._lines = joined, eased, [[QPointF(u + 0.5, v + 0.5) for u, v in line] for line in lines]
        return self._lines[2]

    def _centre_chosen(self, place: QPointF) -> None:
        if self.joined is None:
            return
        try:
            turn = model.centred_on(self.joined, self.choices.turn_deg, (place.x(), place.y()))
        except LanternError as error:
            self._context.tell(error.sentence)
            return
        self.use_tool("")
        self.turn_to(turn, "Put a place in the middle")

    def _turning(self, du: float, dv: float, rolls: bool) -> None:
        joined = self.joined
        if joined is None:
            return
        if rolls:
            turn = model.turned(self._before, 0.0, 0.0, du / joined.canvas.width * _ROLL_DEG)
        else:
            turn = model.dragged(joined, self._before, du, dv)
        self.try_out(turn_deg=turn)
        self.turning.emit(turn)

    def _turned(self) -> None:
        if self._trying is not None:
            self.turn_to(self._trying.turn_deg, "Turn the picture by hand")

    def _step(self, yaw: float, pitch: float, roll: float) -> None:
        self.turn_to(model.turned(self.choices.turn_deg, yaw, pitch, roll), "Turn the picture", merge="turn by keys")
        self._before = self.choices.turn_deg

    def _cropped(self, box: Rectangle) -> None:
        if self.joined is not None and self._state.may_change():
            self._state.apply(
                edits.crop_to(model.box_for(self.joined, box, self._state.outing.composition.ratio), merge="crop")
            )

    def use_tool(self, name: str, *, again: bool = False) -> None:
        """Let the pointer draw a line, turn, centre or crop; the same once more, or nothing, lets it move the picture."""
        self.untry()
        joined = self.joined
        self.tool = "" if (name == self.tool and not again) or joined is None else name
        tool: PictureTool | None = None
        if joined is not None and self.tool:
            self._before = self.choices.turn_deg
            if self.tool == "turn":
                tool = TurnTool(self._turning, self._turned, self._step)
            elif self.tool == "line":
                tool = LineTool(self._line_drawn)
            elif self.tool in ("straight", "round"):
                tool = LineTool(self._eased, self._eased_lines)
            elif self.tool == "centre":
                tool = PlaceTool(self._centre_chosen)
            else:
                ratio = self._state.outing.composition.ratio
                size = joined.canvas.width, joined.canvas.height
                box = crop_box(self._state.outing, joined)
                tool = CropTool(box, size, None if ratio is None else ratio[0] / ratio[1], self._cropped)
        self._view.set_tool(tool)
        if tool is not None:
            self._view.setFocus()
        self.changed.emit()
