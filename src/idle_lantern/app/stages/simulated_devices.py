"""What the simulated head and camera do: how fast, how large, in what weather."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.widgets.basics import column
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.core.plan.planner import Plan
from idle_lantern.simulator.limits import MOST_MEGAPIXELS
from idle_lantern.simulator.weather import WEATHERS


class StandIns(QWidget):
    """``changed`` tells that they see something else now."""

    changed = pyqtSignal()

    def __init__(self, context: AppContext) -> None:
        super().__init__()
        self._context = context
        self.quick = QCheckBox("Quick: no waiting")
        self.quick.setObjectName("field-quick")
        self.quick.setChecked(context.settings.quick)
        self.quick.clicked.connect(lambda on: context.keep(replace(context.settings, quick=bool(on))))
        self.full = QCheckBox("Full sensor size")
        self.full.setObjectName("field-full")
        self.full.clicked.connect(self._set_full)
        self.weather = Chooser()
        self.weather.setObjectName("field-weather")
        self.weather.setAccessibleName("Weather of the invented place")
        self.weather.addItems([w.name for w in WEATHERS])
        self.weather.setSizeAdjustPolicy(Chooser.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.weather.setMinimumContentsLength(12)
        self.weather.activated.connect(self._set_weather)
        layout = column(self.quick, self.full, self.weather)
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)

    def show_for(self, plan: Plan) -> None:
        """Offer the full size where the plan's sensor is larger than what is usually rendered."""
        self.full.setVisible(plan.rig.width_px * plan.rig.height_px > 1e6 * MOST_MEGAPIXELS)

    def _set_full(self, on: bool) -> None:
        """Let the simulated camera write frames as large as its sensor, or small ones."""
        self._context.devices.full_size = bool(on)
        self.changed.emit()

    def _set_weather(self, index: int) -> None:
        """Let clouds, waves and light change while the simulated camera shoots, or rest."""
        self._context.devices.weather = WEATHERS[index]
        self.changed.emit()
