"""What the simulated camera sees towards the next frame, rendered off the thread."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import field_model as model
from idle_lantern.app.stages.hand_held_finder import ByHand
from idle_lantern.app.stages.shooter import Shooter
from idle_lantern.app.widgets.finder_view import FinderView
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.plan.grid_frame import GridFrame

#: Size and tone of the empty finder.
_EMPTY_PX, _EMPTY_GREY = 300, 58


class FinderLooks:
    """Shows looks in a finder; of several that were asked for the latest counts."""

    def __init__(
        self,
        context: AppContext,
        finder: FinderView,
        shooter: Shooter,
        hand: ByHand,
        fails: Callable[[LanternError], None],
    ) -> None:
        self._context, self._state, self._finder, self._shooter, self._hand = (
            context,
            context.state,
            finder,
            shooter,
            hand,
        )
        self._fails = fails
        self._look_for: tuple[int, Any] | None = None

    def forget(self) -> None:
        """Look anew next time."""
        self._look_for = None

    def clear(self) -> None:
        """There is nothing more to look for."""
        self._look_for = None
        self._finder.clear("Go back or on with D and F to shoot a frame once more.")

    def show_none(self, frame: GridFrame | None) -> None:
        """An empty finder of the frame's shape with its thirds and level: a camera of one's own looks through it."""
        self._look_for = None
        if frame is None:
            self._finder.clear("")
            return
        lens = self._state.plan.rig.lens_of(frame)
        side = _EMPTY_PX / max(lens.width, lens.height)
        empty = np.full((round(lens.height * side), round(lens.width * side), 3), _EMPTY_GREY, np.uint8)
        height = model.height_deg(self._state.plan)
        self._finder.show_look(empty, frame.pitch_deg, frame.roll_deg, height, f"{frame.number}")

    def _prepare(self, frame: GridFrame) -> None:
        """Let the stand-in render the next frame while the photographer looks through the finder."""
        if self._shooter.busy or frame.shift_right_mm or frame.shift_up_mm:
            return
        self._shooter.devices().prepare(frame.yaw_deg, frame.pitch_deg, frame.roll_deg)

    def show(self, planned: GridFrame) -> None:
        """Look towards a frame, or where the hand turned the camera for it."""
        frame = self._hand.aimed(planned)
        height, text = model.height_deg(self._state.plan), f"{frame.number}"
        wanted = (frame.number, (self._state.outing.id, self._state.outing.rig, frame))
        if self._look_for == wanted:
            return
        self._look_for = wanted
        devices = self._shooter.devices()
        self._finder.show_look(None, frame.pitch_deg, frame.roll_deg, height, text)

        def done(picture: Picture) -> None:
            if self._look_for == wanted:  # a later look was asked for meanwhile
                self._finder.show_look(picture.pixels, frame.pitch_deg, frame.roll_deg, height, text)
                self._hand.show_ghost(frame)
                self._prepare(frame)

        self._context.start(
            "Finder",
            lambda _t: devices.finder(frame.yaw_deg, frame.pitch_deg, frame.roll_deg),
            done,
            self._fails,
            quiet=True,
        )
