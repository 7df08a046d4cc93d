"""Where devices are made: the one place that knows which head and camera stand behind the protocols."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from idle_lantern.core.plan.planner import Plan
from idle_lantern.simulator.limits import MOST_MEGAPIXELS
from idle_lantern.simulator.weather import STILL

if TYPE_CHECKING:
    from idle_lantern.simulator.devices import SimulatedRig


#: Somebody who poses stands within so many metres: beyond it the terrace ends.
_TERRACE_M = 4.0


class Devices:
    """The simulated stand-ins, made once for each rig and outing."""

    def __init__(self) -> None:
        self._made: dict[tuple[object, ...], SimulatedRig] = {}
        #: Whether frames have the sensor's own size, however long that takes.
        self.full_size = False
        #: What moves in the invented place while frames are shot.
        self.weather = STILL

    @property
    def most_megapixels(self) -> float:
        """Their frames have at most so many pixels."""
        return math.inf if self.full_size else MOST_MEGAPIXELS

    def of(self, outing_id: str, plan: Plan, shots: int) -> SimulatedRig:
        """Head and camera as a plan sets them; ``shots`` were taken before, which tells the time of the next one."""
        # the island is built when somebody goes shooting, not when the window opens
        from idle_lantern.simulator.devices import SimulatedRig

        # whoever is to stand sharp before a blurred place stands on the terrace
        posed = plan.brief.kind == "shallow" and 1 < plan.brief.scene.subject_m < _TERRACE_M
        somebody = (plan.subject.yaw_deg, plan.brief.scene.subject_m) if posed else None
        aperture, focus_m = plan.sharpness.aperture, plan.sharpness.focus_m
        key = (outing_id, plan.rig, aperture, focus_m, somebody, self.full_size, self.weather)
        if key not in self._made:
            self._made.clear()  # a camera stands at one place at a time
            made = SimulatedRig(plan.rig, most_megapixels=self.most_megapixels, weather=self.weather)
            self._made[key] = made.focused(aperture, focus_m)
            if somebody is not None:
                made.with_somebody(*somebody)
            made.shots = shots
        return self._made[key]
