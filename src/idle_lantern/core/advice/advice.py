"""What is said of a finished picture, as plain values: light to load, so that a window can show them."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.finish.step import Step
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.uprights import least_turn, then_turned

What = Literal[
    "sky", "horizon", "frame", "drift", "band", "haze", "halo", "colours", "noise", "oversharp", "soft", "healed"
]
#: What hurts most comes first.
ORDER: tuple[What, ...] = (
    "healed",
    "sky",
    "horizon",
    "frame",
    "band",
    "drift",
    "haze",
    "halo",
    "colours",
    "oversharp",
    "noise",
    "soft",
)


@dataclass(frozen=True)
class Advice:
    """One thing that a practised eye would object to.

    ``step`` is the step that mends it: a new one, or another state of the one that is there; None where no step does.
    ``button`` says what is done. ``figure`` is what was measured, in ``unit``.
    """

    what: What
    figure: float
    unit: str
    sentence: str
    remedy: str
    button: str = ""
    step: Step | None = None


@dataclass(frozen=True)
class FrameOutline:
    """What a picture shows of a frame: its name, and lines (N, 2) round it in pixels of the canvas."""

    name: str
    lines: tuple[Array, ...] = field(compare=False)


@dataclass(frozen=True)
class JoinedFacts:
    """What no recipe changes: by how much a joined picture leans, its skyline in azimuths and altitudes, and what it shows of which frame."""

    lean: Lean | None = None
    skyline: tuple[tuple[float, float], ...] = ()
    outlines: tuple[FrameOutline, ...] = ()


@dataclass(frozen=True)
class Medium:
    """What the picture is finished for: the space of the file, and a print at full size: its pixels per inch, and from where it is seen.

    Prints held in the hand are seen from 0.3 m (common practice, no source).
    """

    space: ColourSpace
    dpi: float = 300.0
    viewing_m: float = 0.3


@dataclass(frozen=True)
class Lean:
    """By how many degrees a picture leans, the standard error of that, and where up really is in its canvas's frame, (x, y, z)."""

    degrees: float
    sigma_deg: float
    up: tuple[float, float, float] = (0.0, -1.0, 0.0)

    def turn_after(self, turn_deg: tuple[float, float, float], canvas: Canvas) -> tuple[float, float, float]:
        """Yaw, pitch, roll in degrees that the picture of ``canvas``, turned by ``turn_deg``, must be turned by to stand upright."""
        before = rotations.from_yaw_pitch_roll(*np.radians(turn_deg))
        # the canvas looks another way than the turn alone
        ahead = canvas.canvas_from_world @ before.T
        return then_turned(turn_deg, ahead.T @ least_turn(np.array(self.up), np.array([0.0, -1.0, 0.0])) @ ahead)
