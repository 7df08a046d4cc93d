"""A slider with its title and its figure: what it would do is shown while the hand is at it, and taken when it lets go."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QSlider, QWidget

from idle_lantern.app.widgets.basics import label, row


class SliderRow(QWidget):
    """Values from ``least`` to ``most`` in steps of one by ``steps``.

    ``trying`` gets values while the slider is held, ``taken`` the one where it is let go or set by keys.
    """

    def __init__(
        self,
        title: str,
        name: str,
        spoken: str,
        least: float,
        most: float,
        steps: int,
        write: Callable[[float], str],
        trying: Callable[[float], None],
        taken: Callable[[float], None],
    ) -> None:
        super().__init__()
        self._steps, self._write, self._trying, self._taken = steps, write, trying, taken
        self._value = 0.0
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setObjectName(name)
        self.slider.setAccessibleName(spoken)
        self.slider.setRange(round(least * steps), round(most * steps))
        self.slider.valueChanged.connect(self._moved)
        self.slider.sliderReleased.connect(self._released)
        self.slider.setPageStep(max(1, round((most - least) * steps / 10)))
        self.figure = label(write(0.0), "figure")
        self.setLayout(row(label(title), self.slider, self.figure))

    def show_value(self, value: float) -> None:
        """Stand where the document does, unless a hand is at it."""
        self._value = value
        if not self.slider.isSliderDown():
            self.slider.setValue(round(value * self._steps))
            self.figure.setText(self._write(value))

    def _moved(self, step: int) -> None:
        value = step / self._steps
        self.figure.setText(self._write(value))
        if self.slider.isSliderDown():
            self._trying(value)
        elif abs(value - self._value) > 0.5 / self._steps:
            self._taken(value)

    def _released(self) -> None:
        self._taken(self.slider.value() / self._steps)
