"""The line below the window while something takes its time: what, how far, how long still, and Stop."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QProgressBar, QWidget

from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button
from idle_lantern.core.base import units

#: Work that takes no longer shows no line.
_SHOWN_FROM_S = 0.2


class WorkLine(QFrame):
    """Progress of one task."""

    def __init__(self, stop: Callable[[], None], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self._text = QLabel()
        self._bar = QProgressBar()
        self._bar.setRange(0, 1000)
        self._bar.setTextVisible(False)
        self._bar.setAccessibleName("Progress")
        line = QHBoxLayout(self)
        line.setContentsMargins(16, 4, 16, 4)
        line.addWidget(self._text)
        line.addWidget(self._bar, 1)
        line.addWidget(button("Stop   [Ctrl + .]", stop, name="stop"))
        self.hide()

    def show_task(self, task: Task | None) -> None:
        """Show how far a task is; without one there is no line."""
        self.setVisible(task is not None and task.clock.elapsed_s > _SHOWN_FROM_S)
        if task is None:
            return
        left = task.clock.remaining_s
        stage = f" ({task.clock.stage})" if task.clock.stage not in ("", "work") else ""
        rest = f"  {units.time_left(left)}" if left is not None else ""
        self._text.setText(f"{task.title}{stage}{rest}")
        self._bar.setValue(round(1000 * task.clock.fraction))
