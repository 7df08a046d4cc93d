"""A camera held by hand: where it is pointed, the edge of the last frame as a ghost in the finder, and how much they share."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import field_model as model
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import label
from idle_lantern.app.widgets.finder_view import FinderView
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.frames.reading import read
from idle_lantern.core.outing.model import FrameRef
from idle_lantern.core.plan.grid_frame import GridFrame

#: One press turns the camera by such a share of the frame's width.
_SHARE = 1 / 24
_RIM_PX = 2


class ByHand(QObject):
    """Holds the aim while the plan is for a hand; ``turned`` says that it moved."""

    turned = pyqtSignal()

    def __init__(self, context: AppContext, finder: FinderView, parent: QWidget) -> None:
        super().__init__(parent)
        self._context, self._finder = context, finder
        self.words = label("", "head", wrap=True, name="field-meter")
        self.words.hide()
        self._aim: tuple[float, float] | None = None
        self._of: tuple[str, int | None] | None = None
        self._asked: object = None

    @property
    def active(self) -> bool:
        """Whether the plan is for a hand, with the simulated camera in it."""
        outing = self._context.state.outing
        held = outing.origin == "simulated" and outing.brief.support.kind == "hand"
        return held and not self._context.watcher.active

    def follow(self, number: int | None) -> None:
        """The frame that is next: the camera stays where the last one was taken, and begins at the first place."""
        state = self._context.state
        key = (state.outing.id, number)
        if not self.active:
            self._aim = self._of = None
        elif key != self._of:
            last, frame = self._last(), state.plan.frame(number) if number else None
            if last is not None and last.yaw_deg is not None and last.pitch_deg is not None:
                self._aim = (last.yaw_deg, last.pitch_deg)
            elif frame is not None:
                self._aim = (frame.yaw_deg, frame.pitch_deg)
            self._of = key
        self._tell()

    def aimed(self, frame: GridFrame) -> GridFrame:
        """A planned frame as it is taken where the camera points."""
        if self._aim is None or not self.active:
            return frame
        return replace(frame, yaw_deg=self._aim[0], pitch_deg=self._aim[1])

    def turn(self, right: float, up: float) -> None:
        """Turn the camera by some presses."""
        if self._aim is None:
            return
        step = math.degrees(self._context.state.plan.rig.lens().field_rad()[0]) * _SHARE
        yaw = (self._aim[0] + right * step + 180) % 360 - 180
        self._aim = (yaw, max(-90.0, min(90.0, self._aim[1] + up * step)))
        self._tell()
        self.turned.emit()

    def _last(self) -> FrameRef | None:
        """The frame that was shot last and is joined."""
        frames = self._context.state.outing.frames_to_join()
        return frames[-1] if frames else None

    def _tell(self) -> None:
        last, state = self._last(), self._context.state
        known = last is not None and last.yaw_deg is not None and last.pitch_deg is not None
        if not self.active or self._aim is None or not known:
            self.words.hide()
            self._finder.show_ghost(None)
            return
        assert last is not None
        shared = model.shared(state.plan, (last.yaw_deg or 0.0, last.pitch_deg or 0.0), self._aim)
        number = state.guide.next_number
        self.words.setText(model.meter(state.plan, shared, self._aim, state.plan.frame(number) if number else None))
        self.words.show()

    def show_ghost(self, frame: GridFrame) -> None:
        """Lay the last frame over the finder where it lies, half seen through."""
        last, state = self._last(), self._context.state
        if not self.active or last is None or last.yaw_deg is None or last.pitch_deg is None:
            return
        path, lens = state.path_of(last), state.plan.rig.lens_of(frame)
        yaw, pitch, roll = last.yaw_deg, last.pitch_deg, last.roll_deg or 0.0
        wanted = self._asked = (last.id, frame.yaw_deg, frame.pitch_deg)

        def work(_task: Task) -> Any:
            # drawing through a lens loads the engine, which no start needs
            from idle_lantern.core.scouting.reprojection import as_frame_reprojected, through_lens

            ghost = as_frame_reprojected(read(path, 4).in_space(SRGB), lens, (yaw, pitch, roll))
            return through_lens(lens, frame.world_from_camera, [ghost], 360)

        def done(pixels: Any) -> None:
            if self._asked == wanted:
                self._finder.show_ghost(_with_rim(pixels))

        self._context.start("Ghost of the last frame", work, done, _dropped, quiet=True)


def _with_rim(pixels: Any) -> Any:
    """A ghost with a bright line where it ends: what it shows is the same as what lies below."""
    shown = pixels[..., 3] > 0
    inner = shown.copy()
    for axis in (0, 1):
        for by in (-_RIM_PX, _RIM_PX):
            inner &= np.roll(shown, by, axis)
    result = pixels.copy()
    result[shown & ~inner] = (255, 250, 225, 255)
    return result


def _dropped(_error: LanternError) -> None:
    """A ghost that cannot be drawn is no error: the finder is there."""
