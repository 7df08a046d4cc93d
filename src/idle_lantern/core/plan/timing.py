"""How long the run takes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from idle_lantern.core.plan.brief import Exposure, Run
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.light import Setting, bracketed, reading_at
from idle_lantern.core.plan.order import turning_deg
from idle_lantern.core.plan.rig import Rig

#: Writing one exposure to the card and being ready again.
_READY_S = 0.4
#: The knob of a shift lens turned by hand: twelve millimetres in six seconds (common practice, no source).
_SHIFT_MM_PER_S = 2.0


@dataclass(frozen=True)
class RunTime:
    """Seconds of the run by what they go to, and the exposures made."""

    exposing_s: float
    settling_s: float
    turning_s: float
    exposures: int
    turning_deg: float

    @property
    def total_s(self) -> float:
        """The whole run."""
        return self.exposing_s + self.settling_s + self.turning_s


def run_time(frames: Sequence[GridFrame], rig: Rig, exposure: Exposure, setting: Setting, run: Run) -> RunTime:
    """Exposures with their brackets and repeats, settling and delay at each position, turning between them."""
    exposing, exposures = 0.0, 0
    for frame in frames if rig.motion != "two-lens" else frames[:1]:
        with_bracket = bracketed(reading_at(exposure, frame.yaw_deg), exposure)
        times = setting.times_s if with_bracket else (setting.time_s,)
        each = rig.exposures_each * run.repeats
        exposing += each * (sum(times) + _READY_S * len(times))
        exposures += each * len(times)
    if run.bookends:
        exposing += 2 * (setting.time_s + _READY_S)
        exposures += 2
    positions = 1 if rig.motion == "two-lens" else len(frames)
    path = turning_deg(frames) if rig.motion == "turn" else 0.0
    moving = path / run.turn_deg_per_s + shifting_mm(frames) / _SHIFT_MM_PER_S
    return RunTime(exposing, positions * (run.settle_s + run.delay_s), moving, exposures, path)


def shifting_mm(frames: Sequence[GridFrame]) -> float:
    """How far a shift lens moves over the run: one knob after the other, starting from its middle."""
    at, path = (0.0, 0.0), 0.0
    for frame in frames:
        to = frame.shift_right_mm, frame.shift_up_mm
        path += abs(to[0] - at[0]) + abs(to[1] - at[1])
        at = to
    return path
