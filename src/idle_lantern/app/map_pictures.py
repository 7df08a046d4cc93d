"""Pixels on the map: frames whose directions are known, until a joined picture takes their place."""

from __future__ import annotations

import contextlib
import threading
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import QObject

from idle_lantern.app.context import AppContext
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.map_shapes import JoinOnMap, outlines
from idle_lantern.app.widgets.map_view import MapView
from idle_lantern.app.widgets.tables import mapped, table_of
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.unroll import MAP_SIZE, unroll_frame
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry import rotations
from idle_lantern.core.outing import scout_edits
from idle_lantern.core.scouting.scout_picture import front
from idle_lantern.core.shoot.shooting import lens_showing

if TYPE_CHECKING:
    from idle_lantern.app.stages.frames_model import Looked

#: Pixels of the scouting pictures on the map: as fine as a map of a thousand pixels shows a third of the circle.
_GROUND_SIZE = (2880, 1440)


class MapPictures(QObject):
    """Keeps the map's picture in step with the outing."""

    def __init__(self, context: AppContext, map_view: MapView) -> None:
        super().__init__(map_view)
        self._state, self._tasks, self._map, self._grounds = (
            context.state,
            context.tasks,
            map_view,
            context.scout_grounds,
        )
        self._drawn: set[str] = set()
        self._drawing = 0
        self._dragged: tuple[str, tuple[float, float, float]] | None = None
        self._image = np.zeros((MAP_SIZE[1], MAP_SIZE[0], 4), np.uint8)
        self._laying = 0
        self._state.changed.connect(self._refresh)
        self._grounds.changed.connect(self._lay_grounds)
        map_view.ground_dragged.connect(self._drag_ground)

    # --- scouting pictures ------------------------------------------------------

    def _lay_grounds(self) -> None:
        """Draw the scouting pictures where they lie; only the last laying counts."""
        scout_grounds = self._grounds.shown()
        self._laying += 1
        laying = self._laying
        if not scout_grounds:
            self._map.set_scouted(None)
            return

        def work(_task: Task) -> Array:
            from idle_lantern.core.scouting.reprojection import on_sphere

            return on_sphere(scout_grounds, _GROUND_SIZE)

        def done(sheet: Array) -> None:
            if laying == self._laying:
                self._map.set_scouted(sheet)

        self._tasks.start("Laying the scouting pictures", work, done, lambda _e: None, quiet=True)

    def _drag_ground(self, yaw_deg: float, pitch_deg: float, done: bool) -> None:
        """Turn the picture in front as far as the hand went."""
        picture = front(self._state.outing.scouts)
        if picture is None:
            return
        if self._dragged is None or self._dragged[0] != picture.id:
            self._dragged = picture.id, picture.turn_deg
        yaw, pitch, roll = self._dragged[1]
        turn = (round((yaw + yaw_deg + 180) % 360 - 180, 1), round(max(-90.0, min(90.0, pitch + pitch_deg)), 1), roll)
        if done:
            self._dragged = None
        self._state.apply(
            scout_edits.change_scout(
                f"Turn the scouting picture {picture.name}", picture.id, merge="drag-ground", turn_deg=turn
            )
        )

    # --- frames -----------------------------------------------------------------

    def show_picture(self, rgba: Array) -> None:
        """A joined picture, rough or finished, on the map."""
        self._map.set_picture(rgba)

    def show_join(self, join: JoinOnMap) -> None:
        """Links and outlines of a join."""
        self._map.set_join(join)

    def show_look(self, looked: Looked) -> None:
        """Where the careful look found the frames, and what is missing between them; a join tells the first better."""
        if self._state.joined is not None and not self._state.join_is_stale:
            return
        lie = tuple(shape for lens, frame in looked.lie for shape in outlines(lens, [frame]))
        missing = tuple((outlines(lens, [frame])[0], where) for lens, frame, where in looked.missing)
        self._map.set_join(JoinOnMap(shapes=lie, missing=missing))

    def _refresh(self, topics: set[str]) -> None:
        if "outing" in topics and "join" in topics and self._state.joined is None:
            self._clear()
            self._map.set_join(JoinOnMap())
        if "frames" in topics:
            self._draw_shot_frames()
        if "development" in topics and self._state.joined is None and self._drawn:
            self._show_sheet()

    def _clear(self) -> None:
        """Begin anew; what is still being drawn belongs to what was shown before."""
        self._drawing += 1
        self._drawn.clear()
        self._image[...] = 0
        self._map.set_picture(None)

    def _show_sheet(self) -> None:
        """The frames as they are developed; a joined picture is so already."""
        self._map.set_picture(mapped(self._image, table_of(self._state.outing.choices.development)))

    def _draw_shot_frames(self) -> None:
        state, place = self._state, self._state.place
        if state.joined is not None or state.awaits_picture or place is None:
            return
        besides = state.outing.besides()  # of a bracket the exposure that stands for it is shown
        refs = [
            r for r in state.outing.frames if r.yaw_deg is not None and r.pitch_deg is not None and r.id not in besides
        ]
        if self._drawn - {r.id for r in refs}:  # some were taken back: draw the rest anew
            self._clear()
        missing = [(r, state.path_of(r)) for r in refs if r.id not in self._drawn]
        if not missing:
            return
        self._drawn |= {ref.id for ref, _ in missing}
        lens, size = state.outing.rig.lens(), self._image.shape

        drawing, taken = self._drawing, threading.Event()
        taken.set()

        def work(task: Task) -> None:
            # on a sheet of its own, so that the window never sees a half-drawn one; while the window is busy frames
            # gather on one sheet: a sheet for each would fill the memory
            sheet, drawn = np.zeros(size, np.uint8), 0
            for ref, path in missing:
                angles = np.radians([ref.yaw_deg or 0.0, ref.pitch_deg or 0.0, ref.roll_deg or 0.0])
                with contextlib.suppress(LanternError):  # told where frames are listed
                    pixels, own = read(path, 4).in_space(SRGB).pixels, lens_showing(ref.field_deg, lens)
                    unroll_frame(sheet, pixels, own, rotations.from_yaw_pitch_roll(*angles))
                    drawn += 1
                if taken.is_set():
                    taken.clear()
                    task.show(sheet)
                    sheet, drawn = np.zeros(size, np.uint8), 0
            if drawn:
                task.show(sheet)

        def laid(sheet: Array) -> None:
            taken.set()
            if state.is_open(place) and state.joined is None and drawing == self._drawing:
                shown = sheet[..., 3] > 0
                self._image[shown] = sheet[shown]
                self._show_sheet()

        self._tasks.start(
            "Drawing frames on the map", work, lambda _r: None, lambda _e: None, on_partial=laid, quiet=True
        )
