"""Frames alone over a place of the joined picture: read off the thread, blinked one after the other, tried in its stead."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QObject, QRectF, QTimer

from idle_lantern.app.context import AppContext
from idle_lantern.app.display import to_qimage
from idle_lantern.app.stages import walk_model as model
from idle_lantern.app.stages.shown_model import Candidate, alone
from idle_lantern.app.widgets.over_picture import LayerShown
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.join.request import JoinResult

LOOKING = "Laying a frame over the picture"
_BLINK_MS = 700
#: Frames that are blinked, the nearest ones.
_BLINKED = 3


class WalkLayers(QObject):
    """What lies over the place that is being looked at; of ``candidates`` the one ``taking`` is tried, -1 for none."""

    def __init__(self, context: AppContext, view: PictureView, parent: QObject) -> None:
        super().__init__(parent)
        self._context, self._view = context, view
        self._stop: model.WalkStop | None = None
        self.candidates: tuple[Candidate, ...] = ()
        self.taking = -1
        #: Frames alone at the place, as they are read.
        self.views: dict[str, Any] = {}
        self._alone: dict[str, LayerShown] = {}
        self._turn = 0
        self._asked = 0
        self._blink = QTimer(self)
        self._blink.setInterval(_BLINK_MS)
        self._blink.timeout.connect(self._blink_on)

    @property
    def tried(self) -> Candidate | None:
        """The frame that is laid over the place to be taken."""
        return self.candidates[self.taking] if 0 <= self.taking < len(self.candidates) else None

    def look_at(self, stop: model.WalkStop, joined: JoinResult | None) -> None:
        """Take another place, and read the frames that show it off the thread; each comes when it is there."""
        self.leave()
        self._stop, self.candidates = stop, model.candidates(stop, joined)
        if joined is None or joined.solution is None:
            return
        tile = model.tile_about(stop, joined)
        rectangle = QRectF(tile.left, tile.top, tile.width, tile.height)
        asked, wanted, space = self._asked, self.candidates, joined.solution.frames.space

        def work(task: Any) -> None:
            for candidate in wanted:
                task.advance(0)
                if asked != self._asked:  # the walk has gone on
                    return
                pixels = alone(joined, candidate, tile)
                if pixels is not None:
                    task.hand_over((candidate, pixels))

        def came(product: Any) -> None:
            candidate, pixels = product
            if asked == self._asked:
                self.views[candidate.frame] = pixels
                self._alone[candidate.frame] = LayerShown(to_qimage(pixels, space), rectangle, candidate.name)
                if self.tried == candidate:
                    self._lay(candidate)

        self._context.start(
            LOOKING, work, lambda _r: None, lambda e: self._context.tell(e.sentence), on_partial=came, quiet=True
        )

    def take(self, at: int) -> None:
        """Lay one of the candidates over the place."""
        self._blink.stop()
        self.taking = at
        if self.tried is not None:
            self._lay(self.tried)

    def toggle_blink(self) -> None:
        """Show the frames one after the other, each alone, and then the picture again; or stop that."""
        if self._blink.isActive():
            self.lift()
        else:
            self.taking, self._turn = -1, 0
            self._blink.start()
            self._blink_on()

    def taken(self) -> None:
        """The frame that was tried is the picture's now; it lies over it until that is made anew."""
        self.taking = -1

    def lift(self) -> None:
        """Show the picture alone."""
        self._blink.stop()
        self.taking = -1
        self._show(None)

    def leave(self) -> None:
        """The place is left."""
        self.lift()
        self._stop, self.candidates = None, ()
        self._alone.clear()
        self.views.clear()
        self._asked += 1

    def _lay(self, candidate: Candidate) -> None:
        layer = self._alone.get(candidate.frame)
        if layer is not None and self._stop is not None:
            u, v, a, b = model.area_of(self._stop)
            layer = LayerShown(layer.image, layer.rectangle, layer.name, QRectF(u - a, v - b, 2 * a, 2 * b))
        self._show(layer)

    def _blink_on(self) -> None:
        layers = [self._alone[c.frame] for c in self.candidates[:_BLINKED] if c.frame in self._alone]
        turns = [*layers, None]
        self._show(turns[self._turn % len(turns)])
        self._turn += 1

    def _show(self, layer: LayerShown | None) -> None:
        if self._view.over is not None:
            self._view.over.layer = layer
        self._view.update()
