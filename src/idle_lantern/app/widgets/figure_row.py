"""A figure by slider and by typing: its title, its field, and a slider below them."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QSlider, QWidget

from idle_lantern.app import theme
from idle_lantern.app.widgets.basics import column, label, row
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.app.words import meaning
from idle_lantern.core.base.figures import Figure

#: Wide enough for a figure with its unit, at scale 1.
_FIELD_PX = 82
#: More steps than this no hand can tell apart on a slider.
_MOST_STEPS = 400


class FigureRow(QWidget):
    """``trying`` gets values while the slider is held, ``taken`` the one where it is let go, set by keys or typed."""

    def __init__(
        self,
        figure: Figure,
        parse: Callable[[str], float],
        write: Callable[[float], str],
        trying: Callable[[float], None],
        taken: Callable[[float], None],
        refused: Callable[[str], None],
    ) -> None:
        super().__init__()
        self.figure = figure
        self._trying, self._taken = trying, taken
        self._step = max(figure.step, (figure.most - figure.least) / _MOST_STEPS)
        self._value = figure.least
        name = figure.name.replace(" ", "-").replace("_", "-")
        self.field = QuantityEdit(figure.title, parse, write, figure.step)
        self.field.setObjectName(f"finish-{name}")
        self.field.setFixedWidth(theme.scaled(_FIELD_PX))
        self.field.submitted.connect(lambda v: taken(round(min(max(v, figure.least), figure.most), 6)))
        self.field.refused.connect(refused)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setObjectName(f"finish-{name}-slider")
        self.slider.setAccessibleName(figure.title)
        self.slider.setRange(0, round((figure.most - figure.least) / self._step))
        self.slider.setPageStep(max(1, self.slider.maximum() // 10))
        self.slider.valueChanged.connect(self._moved)
        self.slider.sliderReleased.connect(lambda: taken(self._at_slider()))
        title = label(figure.title)
        title.setBuddy(self.field)
        title.setToolTip(meaning(figure.title))
        head = row(title)
        head.addStretch(1)
        head.addWidget(self.field)
        layout = column(head, self.slider, space=1)
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)

    def show_value(self, value: float) -> None:
        """Stand where the recipe does, unless a hand is at it."""
        self._value = value
        self.field.show_value(value)
        if not self.slider.isSliderDown():
            self.slider.blockSignals(True)
            self.slider.setValue(round((value - self.figure.least) / self._step))
            self.slider.blockSignals(False)

    def _at_slider(self) -> float:
        # the ends are reached whatever the step is
        at = self.slider.value()
        value = self.figure.most if at == self.slider.maximum() else self.figure.least + at * self._step
        return round(value, 6)

    def _moved(self, _at: int) -> None:
        if self.slider.isSliderDown():
            self.field.show_value(self._at_slider())
            self._trying(self._at_slider())
        else:
            self._taken(self._at_slider())
