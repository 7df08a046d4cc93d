"""Where devices are made: the one place that knows which head and camera stand behind the protocols."""

from __future__ import annotations

from typing import TYPE_CHECKING

from idle_lantern.core.plan.rig import Rig
from idle_lantern.core.sim.limits import MOST_MEGAPIXELS

if TYPE_CHECKING:
    from idle_lantern.core.sim.devices import SimulatedRig


class Devices:
    """The simulated stand-ins, made once for each rig and outing."""

    #: Their frames have at most so many pixels.
    most_megapixels = MOST_MEGAPIXELS

    def __init__(self) -> None:
        self._made: dict[tuple[str, Rig], SimulatedRig] = {}

    def of(self, outing_id: str, rig: Rig, shots: int) -> SimulatedRig:
        """Head and camera of a plan; ``shots`` were taken before, which tells the time of the next one."""
        # the island is built when somebody goes shooting, not when the window opens
        from idle_lantern.core.sim.devices import SimulatedRig

        key = (outing_id, rig)
        if key not in self._made:
            self._made.clear()  # a camera stands at one place at a time
            self._made[key] = SimulatedRig(rig)
            self._made[key].shots = shots
        return self._made[key]
