"""What can be wrong with a frame that arrives, each with its figure, a sentence and what to do."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from idle_lantern.core.audit.evenness import LEAST_EV
from idle_lantern.core.base import units
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.inspection.sharpness import Blur
from idle_lantern.core.plan.grid_frame import GridFrame

#: How a frame differs from the plan: yaw, pitch and roll in degrees.
Off = tuple[float, float, float]

#: Less overlap than this with every neighbour is a gap to come (common practice, no source), and so much off the planned
#: direction, as a share of the frame, is told.
LEAST_OVERLAP, _OFF_PLAN = 0.15, 0.12
#: What is told of a frame.
_BLUR_PX = 1.0  # blur
_FULL = 250  # display value of full white
_CLIPPED = 0.04  # share of the frame in full white
_TILTED_DEG = 2.0  # roll
#: Fewer points than this are nothing to match, and settings that differ by less than this share are one.
_FEW_POINTS, _SAME_SHARE = 40, 0.06
#: A field that differs from the planned one by less is the planned one: focal lengths are engraved no better.
_SAME_FIELD = 0.05
#: Settings are compared with those of so many frames before.
_RECENT = 5


@dataclass(frozen=True)
class FrameFault:
    """One thing that is wrong: what, its figure with its unit, a sentence, what to do, and whether it must be shot again."""

    what: str
    figure: float
    unit: str
    sentence: str
    remedy: str
    again: bool = True


def misplaced(
    lens: Lens, overlap: float, neighbour: str, planned: GridFrame | None, off: Off | None
) -> list[FrameFault]:
    """A gap to come, a place beside the planned one, a camera that is not level; ``neighbour`` is empty where none overlaps."""
    faults: list[FrameFault] = []
    back = f"{turn_back(off) if off is not None else 'turn back'} and shoot it again"
    if neighbour and overlap < LEAST_OVERLAP:
        told = f"overlaps {neighbour} by {units.share(overlap)} only"
        faults.append(FrameFault("overlap", 100 * overlap, "%", told, back))
    elif off is not None and planned is not None and _beside(off, planned, lens):
        away = math.hypot(off[0], off[1])
        faults.append(
            FrameFault("off-plan", away, "°", f"looks {units.angle(away)} beside its place", back, again=False)
        )
    if off is not None and abs(off[2]) > _TILTED_DEG:
        told = f"leans {units.angle(abs(off[2]))} to the {'right' if off[2] > 0 else 'left'}"
        faults.append(FrameFault("tilt", off[2], "°", told, "level the camera; the crop loses height", again=False))
    return faults


def _beside(off: Off, planned: GridFrame, lens: Lens) -> bool:
    """Whether a frame looks so far beside its place that it is worth a word."""
    wide, tall = (math.degrees(v) for v in lens.field_rad())
    across = abs(off[0]) * math.cos(math.radians(planned.pitch_deg))
    return across > _OFF_PLAN * wide or abs(off[1]) > _OFF_PLAN * tall


def turn_back(off: Off) -> str:
    """The way back to the planned direction, in words."""
    parts = []
    if abs(off[0]) >= 0.5:
        parts.append(f"turn {'left' if off[0] > 0 else 'right'} by {units.angle(abs(off[0]))}")
    if abs(off[1]) >= 0.5:
        parts.append(f"tilt {'down' if off[1] > 0 else 'up'} by {units.angle(abs(off[1]))}")
    return " and ".join(parts) or "come back a little"


def unmatched(points: int, expected: GridFrame | None) -> FrameFault:
    """A frame that fits none of those before: since it shows nothing, or since it looks elsewhere."""
    if points < _FEW_POINTS:
        told = "shows hardly anything to match"
        return FrameFault(
            "featureless",
            points,
            "points",
            told,
            "it is placed by the plan; keep some land in it if you can",
            again=False,
        )
    where = f" of frame {expected.number}'s neighbours" if expected is not None else ""
    told = f"shows nothing{where} that was shot before"
    return FrameFault("unplaced", 0.0, "", told, "check the direction and shoot it again with more overlap")


def blurred(blur: Blur | None) -> list[FrameFault]:
    """Softness or shake against the neighbours, where it is worth a word."""
    if blur is None or max(blur.sigma_px, blur.shake_px / 2) < _BLUR_PX:
        return []
    if blur.shake_px:
        told = f"is shaken by {blur.shake_px:.1f} px"
        return [FrameFault("blur", blur.shake_px, "px", told, "let the head come to rest, then shoot it again")]
    told = f"is softer than its neighbours by {blur.sigma_px:.1f} px"
    return [FrameFault("blur", blur.sigma_px, "px", told, "check the focus, then shoot it again")]


def uneven(brighter_ev: float) -> list[FrameFault]:
    """Brightness against the neighbours over the same ground; far off it must be shot again."""
    if abs(brighter_ev) <= LEAST_EV:
        return []
    told = f"is {abs(brighter_ev):.1f} EV {'brighter' if brighter_ev > 0 else 'darker'} than its neighbours over the same ground"
    remedy = "lock exposure and sensitivity; shoot it again if the light did not change"
    return [FrameFault("exposure", brighter_ev, "EV", told, remedy, again=abs(brighter_ev) > 2 * LEAST_EV)]


def full_white(pixels: Array) -> list[FrameFault]:
    """Full white over more of a frame (h, w, 3) than a sun and its glints take."""
    share = float((cv2.cvtColor(np.ascontiguousarray(pixels), cv2.COLOR_RGB2GRAY) >= _FULL).mean())
    if share < _CLIPPED:
        return []
    told = f"is full white over {units.share(share)} of it"
    return [FrameFault("clipped", 100 * share, "%", told, "expose less, or bracket this position", again=False)]


def another_lens(shows_deg: tuple[float, float], planned_deg: tuple[float, float]) -> list[FrameFault]:
    """That frames show another field, across and up, than the plan reckons with: another lens, zoom, crop or way of holding."""
    if all(abs(one / other - 1) <= _SAME_FIELD for one, other in zip(shows_deg, planned_deg)):
        return []
    shows, planned = (" × ".join(units.angle(side, 0) for side in field) for field in (shows_deg, planned_deg))
    if all(abs(one / other - 1) <= _SAME_FIELD for one, other in zip(shows_deg, planned_deg[::-1])):
        return [
            FrameFault(
                "field", shows_deg[0], "°", f"shows {shows} where the plan has {planned}: the camera is held the other way",
                "turn it, or turn the plan with U under Plan", False,
            )
        ]  # fmt: skip
    remedy = "set the lens as planned, or plan with this one under Plan, Camera"
    return [FrameFault("field", shows_deg[0], "°", f"shows {shows} where the plan has {planned}", remedy, False)]


def settings_changed(before: Sequence[Metadata], now: Metadata) -> list[FrameFault]:
    """Settings that differ from the usual ones of the last frames, as the files tell them.

    Of two that are as usual the earlier counts: a frame that was set back after a wrong one is right.
    """
    rows: tuple[tuple[str, str, Any], ...] = (
        ("aperture", "aperture", lambda v: f"f/{v:g}"),
        ("iso", "sensitivity", lambda v: f"ISO {v:g}"),
        ("focal_mm", "focal length", lambda v: f"{v:g} mm"),
        ("exposure_s", "exposure time", units.exposure_time),
    )
    faults = []
    for key, words, write in rows:
        recent = Counter(value for m in before[-_RECENT:] if (value := getattr(m, key)))
        one, two = (recent.most_common(1)[0][0] if recent else None), getattr(now, key)
        if one and two and abs(math.log(two / one)) > _SAME_SHARE:
            told = f"has another {words} ({write(two)} where the others have {write(one)})"
            faults.append(FrameFault(key, float(two), "", told, "set it back and shoot it again"))
    return faults
