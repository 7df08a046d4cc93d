"""Where the window stands, and how its height is shared between map and page: both fit by themselves and are remembered."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PyQt6.QtCore import QEvent, QObject, QTimer
from PyQt6.QtGui import QScreen
from PyQt6.QtWidgets import QMainWindow, QSplitter

from idle_lantern.app.settings import Settings
from idle_lantern.app.widgets.map_forms import STRIP_PX

#: Sizes in pixels, width and height.
USUAL = (1280, 800)
SMALLEST = (1000, 640)
_FRAME = (4, 40)  # what frame and title bar of the desktop may take
#: Share of the height that the map takes by stage where the page needs no certain height; 0 is a strip.
_MAP_SHARE = {"field": 0.30, "frames": 0.0, "join": 0.0, "finish": 0.0, "deliver": 0.0, "logbook": 0.24}
#: While planning the map takes what the fields do not need, between these shares.
_LEAST, _MOST = 0.26, 0.68
#: The least where the planned field is tall for its width: a sphere, a grid; pages scroll then.
_TALL = 0.42
#: Share of a map that was a strip.
_UNFOLDED = 0.30


class Placing(QObject):
    """Keeps the window on its screen and the hinge below the map where it serves, or where it was dragged to."""

    def __init__(
        self,
        window: QMainWindow,
        splitter: QSplitter,
        settings: Callable[[], Settings],
        keep: Callable[[Settings], None],
        needed_height: Callable[[], int],
        is_tall: Callable[[], bool],
    ) -> None:
        super().__init__(window)
        self._window, self._splitter = window, splitter
        self._settings, self._keep, self._needed, self._is_tall = settings, keep, needed_height, is_tall
        self.stage = "plan"
        splitter.splitterMoved.connect(self._dragged)
        handle = splitter.handle(1)
        if handle is not None:
            handle.installEventFilter(self)
            handle.setToolTip("Drag to share the height between map and page; double-click lets it fit by itself")

    def place(self, screen: QScreen | None) -> None:
        """Size of the last time, or the usual one, where frame and title bar still fit on the screen."""
        kept = self._settings()
        self._window.setMinimumSize(*SMALLEST)
        width, height = (kept.window_width or USUAL[0], kept.window_height or USUAL[1])
        if screen is not None:
            room = screen.availableGeometry()
            width, height = min(width, room.width() - _FRAME[0]), min(height, room.height() - _FRAME[1])
        self._window.resize(max(width, SMALLEST[0]), max(height, SMALLEST[1]))
        if kept.window_maximized:
            self._window.showMaximized()

    def remember(self) -> None:
        """Keep the present size for the next start."""
        full = self._window.isMaximized() or self._window.isFullScreen()
        kept = replace(self._settings(), window_maximized=full)
        if not full:
            kept = replace(kept, window_width=self._window.width(), window_height=self._window.height())
        self._keep(kept)

    def fit(self) -> None:
        """Put the hinge where the stage wants it."""
        height = max(400, self._splitter.height())
        above = max(STRIP_PX, round(height * self._share(height)))
        self._splitter.setSizes([above, height - above])

    def fold_map(self) -> None:
        """Make a strip of the map of this stage, or a map of the strip."""
        height = max(400, self._splitter.height())
        folded = self._splitter.sizes()[0] <= STRIP_PX + 2
        self._keep_share(_UNFOLDED if folded else STRIP_PX / height)
        self.fit()

    def fit_by_itself(self) -> None:
        """Forget where the hinge of this stage was dragged to."""
        shares = {stage: share for stage, share in self._settings().map_shares.items() if stage != self.stage}
        self._keep(replace(self._settings(), map_shares=shares))
        self.fit()

    def soon(self) -> None:
        """Fit once the window has its new size."""
        QTimer.singleShot(0, self.fit)

    def _share(self, height: int) -> float:
        return self._settings().map_shares.get(self.stage) or self._by_itself(height)

    def _by_itself(self, height: int) -> float:
        if self.stage in _MAP_SHARE:
            return _MAP_SHARE[self.stage]
        least = _TALL if self._is_tall() else _LEAST
        return min(max(1 - self._needed() / height, least), _MOST)

    def _dragged(self) -> None:
        above, below = self._splitter.sizes()
        self._keep_share(above / max(1, above + below))

    def _keep_share(self, share: float) -> None:
        share = round(share, 3)
        self._keep(replace(self._settings(), map_shares={**self._settings().map_shares, self.stage: share}))

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.MouseButtonDblClick:
            self.fit_by_itself()
            return True
        return super().eventFilter(watched, event)
