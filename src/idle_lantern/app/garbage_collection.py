"""Python's cycle collector, run on the interface thread only.

Workers allocate a lot, so the collector would mostly start on a worker thread, and
there it might delete Qt objects that belong to the interface thread, which crashes.
So the automatic start is switched off and a timer looks at the same thresholds.
"""

from __future__ import annotations

import gc

from PyQt6.QtCore import QObject, QTimer

_EVERY_MS = 1000


class InterfaceThreadCollector(QObject):
    """Collects as Python would, but here."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        gc.disable()
        # what is loaded by now stays; to look through it each time would hold the interface for 25 ms
        gc.freeze()
        self._timer = QTimer(self)
        self._timer.setInterval(_EVERY_MS)
        self._timer.timeout.connect(self.collect)
        self._timer.start()

    def collect(self) -> None:
        """Collect the oldest generation whose threshold is passed."""
        thresholds = gc.get_threshold()
        for generation in (2, 1, 0):
            if gc.get_count()[generation] > thresholds[generation] > 0:
                gc.collect(generation)
                return
