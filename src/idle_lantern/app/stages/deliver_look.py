"""Looking around in the picture that will be delivered: made ready off the thread, over the picture, until it is left."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QObject, pyqtSignal

from idle_lantern.app.context import AppContext
from idle_lantern.app.display import screen_space
from idle_lantern.app.stages import deliver_model as model
from idle_lantern.app.widgets.look_view import LookView
from idle_lantern.app.widgets.picture_view import PictureView

if TYPE_CHECKING:
    from idle_lantern.core.base.arrays import Array
    from idle_lantern.core.deliver.look_around import HeldSphere
    from idle_lantern.core.deliver.sight import Sight

READYING = "Getting ready to look around"
_SHARPENING = "Looking closely"
JOIN_FIRST = "There is no joined picture to look around in yet."


class LookingAround(QObject):
    """``changed`` tells that one looks around now, or no longer, or elsewhere."""

    changed = pyqtSignal()

    def __init__(self, context: AppContext, view: PictureView) -> None:
        super().__init__(view)
        self._context, self._state = context, context.state
        self.view = LookView(view, self._sharpened)
        self.view.left.connect(self.end)
        self.view.turned.connect(self.changed)
        self._of: object = None
        self._is_readying = False

    @property
    def is_looking(self) -> bool:
        """Whether one looks around now."""
        return self.view.is_looking

    def toggle(self) -> None:
        """Look around, or no longer."""
        if self.is_looking:
            self.end()
        else:
            self.begin()

    def begin(self) -> None:
        """Make the picture as it is chosen ready, and look around in it."""
        joined, picture, place = self._state.joined, self._state.picture, self._state.place
        if joined is None or picture is None or place is None:
            self._context.tell(JOIN_FIRST)
            return
        if self._is_readying:
            return
        outing = self._state.outing
        made = model.delivery(outing, joined, picture, place.folder)
        space = screen_space()
        self._of = of = (picture, outing.finish, outing.delivery.operations)

        def work(task: Any) -> HeldSphere:
            from idle_lantern.core.deliver.ball import Ball
            from idle_lantern.core.deliver.look_around import HeldSphere

            return HeldSphere(Ball(made.shown(), joined.canvas), space, task)

        def done(sphere: HeldSphere) -> None:
            if self._of == of and self._state.joined is joined:
                self.view.begin(sphere)
                self.changed.emit()

        def ended() -> None:
            self._is_readying = False

        self._is_readying = True
        self._context.start(
            READYING,
            work,
            done,
            lambda error: self._context.tell(error.sentence),
            weights={"faces": 1.0},
            on_ended=ended,
        )

    def end(self) -> None:
        """The picture lies flat again."""
        self._of = None
        if self.view.is_looking:
            self.view.end()
            over = self.view.parentWidget()
            if over is not None:
                over.setFocus()
            self.changed.emit()

    def keep_to(self) -> None:
        """Another picture, or other steps: what was made ready shows it no longer."""
        outing = self._state.outing
        now = (self._state.picture, outing.finish, outing.delivery.operations)
        if self._of is not None and self._of != now:
            self.end()

    def _sharpened(
        self, sphere: HeldSphere, sight: Sight, size: tuple[int, int], came: Callable[[Array], None]
    ) -> None:
        self._context.start(
            _SHARPENING,
            lambda _task: sphere.sharp(sight, size),
            came,
            lambda e: self._context.tell(e.sentence),
            quiet=True,
        )
