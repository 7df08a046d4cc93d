"""A joined picture as the map shows it: the picture itself, frames and ties, and what nobody looked at yet."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import QObject, QPointF, pyqtSignal
from PyQt6.QtGui import QPolygonF

from idle_lantern.app.context import AppContext
from idle_lantern.app.join_runner import ShownPicture
from idle_lantern.app.stages import join_model as model
from idle_lantern.app.stages.review_walk import SeenWalk
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.map_shapes import JoinOnMap, outlines_of
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.unroll import unroll_canvas
from idle_lantern.core.pictures.source import reduced_in

DRAWING = "Drawing the picture on the map"
#: Longest side of what is drawn onto the map.
_ON_MAP_PX = 4000


class JoinOnTheMap(QObject):
    """Tells the map whenever a picture comes or more of it was seen."""

    picture = pyqtSignal(object)
    ties = pyqtSignal(object)

    def __init__(self, context: AppContext, seen: SeenWalk) -> None:
        super().__init__(seen)
        self._context, self._state, self._seen = context, context.state, seen
        self._latest: ShownPicture | None = None
        self._shapes = JoinOnMap()
        context.joins.rough.connect(self._draw)
        context.joins.shown.connect(self._finished)
        context.joins.without_picture.connect(self._show_again)
        context.state.changed.connect(self._follow)
        seen.changed.connect(self._tell)

    def _finished(self, shown: ShownPicture) -> None:
        self._draw(shown)
        planned = [shot.id for shot in self._state.outing.shots(self._state.shown_frames).values()]
        found = model.on_map(shown.result, planned)
        self._shapes = JoinOnMap(
            outlines_of(found.tied),
            outlines_of(found.loose),
            tuple((QPointF(*a), QPointF(*b), quality) for a, b, quality in found.links),
        )
        self._tell()

    def _show_again(self) -> None:
        """What a stopped join drew is not the outing's picture."""
        joined, picture = self._state.joined, self._state.picture
        if joined is not None and picture is not None:
            self._draw(ShownPicture(picture, joined.canvas, joined))

    def _draw(self, shown: ShownPicture) -> None:
        """Draw a picture for the map off the thread, after the picture itself is shown."""
        self._latest = shown

        def work(_task: Task) -> Array:
            small = reduced_in(shown.source, _ON_MAP_PX, SRGB)
            return unroll_canvas(small[..., :3], small[..., 3] if small.shape[2] == 4 else None, shown.canvas)

        def drawn(sheet: Array) -> None:
            if self._latest is shown:  # another picture, or another outing, may have come meanwhile
                self.picture.emit(sheet)

        self._context.start(DRAWING, work, drawn, lambda e: self._context.tell(e.sentence), quiet=True)

    def _follow(self, topics: set[str]) -> None:
        if {"outing", "join"} <= topics and self._state.joined is None:
            self._latest = None

    def _tell(self) -> None:
        if self._state.joined is not None:
            unseen = tuple(QPolygonF([QPointF(*p) for p in shape]) for shape in self._seen.unseen())
            self.ties.emit(replace(self._shapes, unseen=unseen))
