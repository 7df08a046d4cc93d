"""What stands in place of a stage that works by a plan while the outing has none."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QWidget

from idle_lantern.app.widgets.basics import button, column, label, row


class NoPlan(QWidget):
    """A sentence and the two ways on: to the frames, or to a plan for them."""

    def __init__(self, sentence: str, look_at_frames: Callable[[], object], make_plan: Callable[[], object]) -> None:
        super().__init__()
        words = label(sentence, "big", wrap=True, name="no-plan")
        words.setMaximumWidth(720)
        self.frames_button = button("Look at the frames", look_at_frames, main=True, name="no-plan-frames")
        self.plan_button = button("Make a plan for it", make_plan, name="no-plan-make")
        self.hide()
        self.setLayout(column(None, words, 8, row(self.frames_button, self.plan_button, None), None, None, margin=32))
