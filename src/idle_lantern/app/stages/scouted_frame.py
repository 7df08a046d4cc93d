"""What the next frame should show, as scouted, and how far a frame that was shot looks elsewhere."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtWidgets import QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import field_model as model
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import column, label
from idle_lantern.app.widgets.finder_view import FinderView
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.frames.reading import read
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.shoot.shooting import Shot


class Foretold(QWidget):
    """The piece of the scouting pictures that stands beside the finder; hidden where none is shown."""

    def __init__(self, context: AppContext) -> None:
        super().__init__()
        self._context, self._state = context, context.state
        self._shown_for: tuple[Any, ...] | None = None
        self.finder = FinderView()
        self.finder.setAccessibleName("What the frame should show")
        self.words = label("", "dim", wrap=True, name="foretold")
        self.setLayout(column(label("Scouted: what it should show", "dim"), self.finder, self.words))
        self._state.changed.connect(self._follow)
        self.setVisible(False)

    def _follow(self, topics: set[str]) -> None:
        if topics & {"outing", "scouts"}:
            scouts = self._state.outing.scouts
            self.setVisible(any(p.shown for p in scouts))
            if not scouts:
                self.words.setText("")

    def show_for(self, frame: GridFrame | None) -> None:
        """What a frame should show."""
        scout_grounds = self._context.scout_grounds.shown()
        if not scout_grounds or frame is None:
            self._shown_for = None
            self.finder.clear("")
            return
        outing = self._state.outing
        wanted = (frame, outing.rig, tuple(p.turn_deg for p in outing.scouts), len(scout_grounds))
        if self._shown_for == wanted:
            return
        self._shown_for = wanted
        lens = self._state.plan.rig.lens_of(frame)

        def work(_task: Task) -> Any:
            from idle_lantern.core.scouting.reprojection import through_lens  # loads the engine, which no start needs

            return through_lens(lens, frame.world_from_camera, scout_grounds)

        def done(pixels: Any) -> None:
            if self._shown_for == wanted:
                self.finder.show_look(
                    pixels, frame.pitch_deg, frame.roll_deg, model.height_deg(self._state.plan), f"{frame.number}"
                )

        self._context.start("What the frame should show", work, done, self._failed, quiet=True)

    def compare(self, shot: Shot) -> None:
        """Tell by how much a frame that was just shot looks elsewhere than scouted."""
        scout_grounds, frame = self._context.scout_grounds.shown(), self._state.plan.frame(shot.number)
        if not scout_grounds or frame is None:
            return
        lens, path, place = self._state.plan.rig.lens_of(frame), self._state.path_of(shot.frames[0]), self._state.place

        def work(_task: Task) -> str:
            from idle_lantern.core.scouting.compared import deviation
            from idle_lantern.core.scouting.reprojection import through_lens

            piece = through_lens(lens, frame.world_from_camera, scout_grounds)
            return model.compared(
                frame, deviation(piece, read(path, 2).in_space(SRGB).pixels, lens), math.degrees(lens.field_rad()[0])
            )

        def done(sentence: str) -> None:
            if place is not None and self._state.is_open(place):
                self.words.setText(sentence)

        self._context.start("Comparing with the scouting picture", work, done, lambda _e: None, quiet=True)

    def _failed(self, error: LanternError) -> None:
        self._context.tell(error.sentence)
