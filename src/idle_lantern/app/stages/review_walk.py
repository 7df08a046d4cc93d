"""The picture walked part by part at 100 %, so that nothing was unseen; what was seen is kept beside it."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, QRectF, QTimer, pyqtSignal

from idle_lantern.app.context import AppContext
from idle_lantern.app.cropping import crop_box
from idle_lantern.app.widgets.basics import label
from idle_lantern.app.widgets.picture_view import PictureView
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.join.request import JoinResult
from idle_lantern.core.outing import document

if TYPE_CHECKING:
    from idle_lantern.core.inspection.viewed import Seen

#: Beside the picture: what of it was looked at.
SEEN = "seen.json"
_SAVE_MS = 800


class SeenWalk(QObject):
    """Follows what the view shows; ``changed`` when more was seen, or another picture is shown."""

    changed = pyqtSignal()

    def __init__(self, context: AppContext, view: PictureView) -> None:
        super().__init__(view)
        self._context, self._state, self._view = context, context.state, view
        self._joined: JoinResult | None = None
        self._kept: Path | None = None
        self.seen: Seen | None = None
        self.told = label("", "dim", name="seen-told")
        self._saving = QTimer(self)
        self._saving.setSingleShot(True)
        self._saving.setInterval(_SAVE_MS)
        self._saving.timeout.connect(self.save)
        view.looked.connect(self._look)
        self._state.changed.connect(self._follow)
        self._show()

    def can_walk(self) -> bool:
        """Whether there is a picture to walk."""
        return self.seen is not None

    def step(self) -> None:
        """Show the next part that nobody looked at, at 100 %."""
        seen, view = self.seen, self._view
        if seen is None:
            return
        scale = view.devicePixelRatioF()
        place = seen.next_part(view.width() * scale, view.height() * scale)
        if place is None:
            self._context.tell("All of the picture was looked at, at 100 %.", problem=False)
            return
        view.show_place(*place)
        view.setFocus()

    def unseen(self) -> list[list[tuple[float, float]]]:
        """What was not looked at, as directions in degrees."""
        return [] if self.seen is None or self._joined is None else self.seen.unseen_on_map(self._joined.canvas)

    def save(self) -> None:
        """Keep what was seen beside the picture; a disk that is full takes nothing from the walk."""
        self._saving.stop()
        if self.seen is not None and self._kept is not None and not self._state.reading:
            with contextlib.suppress(LanternError):
                self.seen.save(self._kept)

    def _look(self, part: QRectF) -> None:
        if self.seen is not None and self.seen.look(part.left(), part.top(), part.right(), part.bottom()):
            self._saving.start()
            self._show()
            self.changed.emit()

    def _follow(self, topics: set[str]) -> None:
        if self._state.joined is self._joined:
            if self.seen is not None and self._joined is not None and "choices" in topics:
                self.seen.want(crop_box(self._state.outing, self._joined))  # what is cut off need not be looked at
                self._show()
                self.changed.emit()
            return
        if self._saving.isActive():
            self.save()
        joined, place = self._state.joined, self._state.place
        self._joined, self.seen, self._kept = joined, None, None
        if joined is not None and place is not None and joined.picture.is_file():
            self._kept = place.folder / document.PICTURES / SEEN
            size = joined.canvas.width, joined.canvas.height
            from idle_lantern.core.inspection.viewed import Seen  # with the engine, which no start needs

            self.seen = Seen.of(joined.picture, size, crop_box(self._state.outing, joined), self._kept)
        self._show()
        self.changed.emit()

    def _show(self) -> None:
        share = 0.0 if self.seen is None else self.seen.share
        self._context.tools_changed.emit()
        self.told.setVisible(share > 0)
        self.told.setText(
            "" if share == 0 else "all seen at 100 %" if share == 1 else f"{min(99, 100 * share):.0f} % seen at 100 %"
        )
