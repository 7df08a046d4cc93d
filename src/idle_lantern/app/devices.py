"""Where devices are made: the one place that knows which head and camera stand behind the protocols."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.sim.limits import MOST_MEGAPIXELS
from idle_lantern.core.sim.weather import STILL, Weather

if TYPE_CHECKING:
    from idle_lantern.core.sim.devices import SimulatedRig


class Devices:
    """The simulated stand-ins, made once for each rig and outing."""

    def __init__(self) -> None:
        self._made: dict[tuple[str, Rig, bool, Weather], SimulatedRig] = {}
        #: Whether frames have the sensor's own size, however long that takes.
        self.full_size = False
        #: What moves in the invented place while frames are shot.
        self.weather = STILL

    @property
    def most_megapixels(self) -> float:
        """Their frames have at most so many pixels."""
        return math.inf if self.full_size else MOST_MEGAPIXELS

    def of(self, outing_id: str, rig: Rig, shots: int) -> SimulatedRig:
        """Head and camera of a plan; ``shots`` were taken before, which tells the time of the next one."""
        # the island is built when somebody goes shooting, not when the window opens
        from idle_lantern.core.sim.devices import SimulatedRig

        key = (outing_id, rig, self.full_size, self.weather)
        if key not in self._made:
            self._made.clear()  # a camera stands at one place at a time
            self._made[key] = SimulatedRig(rig, most_megapixels=self.most_megapixels, weather=self.weather)
            self._made[key].shots = shots
        return self._made[key]
