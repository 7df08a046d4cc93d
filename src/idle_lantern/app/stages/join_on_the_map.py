"""A joined picture as the map shows it: the picture itself, frames and ties, and what nobody looked at yet."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import QObject, QPointF, pyqtSignal
from PyQt6.QtGui import QPolygonF

from idle_lantern.app.context import AppContext
from idle_lantern.app.join_runner import ShownPicture
from idle_lantern.app.stages import join_model as model
from idle_lantern.app.stages.review_walk import SeenWalk
from idle_lantern.app.widgets.map_shapes import JoinOnMap, outlines_of


class JoinOnTheMap(QObject):
    """Tells the map whenever a picture comes or more of it was seen."""

    picture = pyqtSignal(object)
    ties = pyqtSignal(object)

    def __init__(self, context: AppContext, seen: SeenWalk) -> None:
        super().__init__(seen)
        self._state, self._seen = context.state, seen
        self._shapes = JoinOnMap()
        context.joins.rough.connect(lambda shown: self.picture.emit(shown.on_map))
        context.joins.shown.connect(self._finished)
        seen.changed.connect(self._tell)

    def _finished(self, shown: ShownPicture) -> None:
        self.picture.emit(shown.on_map)
        planned = [shot.id for shot in self._state.outing.shots(self._state.plan.frames).values()]
        found = model.on_map(shown.result, planned)
        self._shapes = JoinOnMap(
            outlines_of(found.tied),
            outlines_of(found.loose),
            tuple((QPointF(*a), QPointF(*b), quality) for a, b, quality in found.links),
        )
        self._tell()

    def _tell(self) -> None:
        if self._state.joined is not None:
            unseen = tuple(QPolygonF([QPointF(*p) for p in shape]) for shape in self._seen.unseen())
            self.ties.emit(replace(self._shapes, unseen=unseen))
