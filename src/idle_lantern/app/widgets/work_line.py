"""Work that takes its time, at the foot of the window: what, how far, how long still, and Stop. Its place is always there."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QSizePolicy, QWidget

from idle_lantern.app import theme
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button
from idle_lantern.core.base import units

#: Work that takes no longer shows no line.
_SHOWN_FROM_S = 0.2


class WorkLine(QWidget):
    """Progress of one task."""

    def __init__(self, stop: Callable[[], None], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._text = QLabel()
        self._text.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._text.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Preferred)
        self._bar = QProgressBar()
        self._bar.setRange(0, 1000)
        self._bar.setTextVisible(False)
        self._bar.setAccessibleName("Progress")
        self._bar.setFixedWidth(theme.scaled(120))
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(self._text)
        line.addWidget(self._bar)
        line.addWidget(button("Stop   [Ctrl + .]", stop, name="stop"))
        self.hide()

    def show_task(self, task: Task | None) -> None:
        """Show how far a task is; without one there is nothing to see."""
        self.setVisible(task is not None and task.clock.elapsed_s > _SHOWN_FROM_S)
        if task is None:
            return
        left = task.clock.remaining_s
        stage = f" ({task.clock.stage})" if task.clock.stage not in ("", "work") else ""
        rest = f"  {units.time_left(left)}" if left is not None else ""
        self._text.setText(f"{task.title}{stage}{rest}")
        self._bar.setValue(round(1000 * task.clock.fraction))
