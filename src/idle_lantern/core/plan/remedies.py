"""The edits behind the judgements' remedies: plan -> changed brief."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.depth import closed_enough
from idle_lantern.core.plan.kinds import USUAL_ROUND
from idle_lantern.core.plan.rules_grid import advised_overlap
from idle_lantern.core.plan.rules_marks import holding
from idle_lantern.core.plan.size import focal_for_px, needed_px, told_focal_mm
from idle_lantern.core.plan.sun import daylight_ev
from idle_lantern.core.plan.target_field import fewest_sphere
from idle_lantern.core.plan.tour import proposed
from idle_lantern.core.plan.zone import place_offset_h

if TYPE_CHECKING:
    from idle_lantern.core.plan.planner import Plan


@dataclass(frozen=True)
class Remedy:
    """A titled change of the brief."""

    title: str
    apply: Callable[[Plan], Brief]


def _part(part: str, **changes: Any) -> Callable[[Plan], Brief]:
    return lambda plan: replace(plan.brief, **{part: replace(getattr(plan.brief, part), **changes)})


def _reckoned(part: str, reckon: Callable[[Plan], dict[str, Any]]) -> Callable[[Plan], Brief]:
    return lambda plan: replace(plan.brief, **{part: replace(getattr(plan.brief, part), **reckon(plan))})


def _short_enough(plan: Plan) -> dict[str, Any]:
    limit = plan.setting.limit
    if limit is None:
        return {}
    thirds = math.ceil(3 * math.log2(plan.setting.time_s / limit.time_s) - 0.1)
    return {"iso": round(plan.brief.exposure.iso * 2 ** (thirds / 3))}


def _by_sun(plan: Plan) -> dict[str, Any]:
    # by night stars and lamps are left: no meter goes lower
    ev = max(-6.0, daylight_ev(plan.sun.altitude_deg))
    return {"readings": tuple((a, round(ev, 1)) for a, _ in plan.brief.exposure.readings)}


def _bracket(plan: Plan) -> dict[str, Any]:
    count, shift_ev = plan.setting.bracket_needed
    return {"bracket_count": count, "bracket_shift_ev": shift_ev, "bracket_only_above_ev": 0.0}


def _usual_sphere(plan: Plan) -> dict[str, Any]:
    field = plan.target_field
    return {
        "row_frames": max(USUAL_ROUND, field.row_frames),
        "zenith_frames": max(1, field.zenith_frames),
        "nadir_frames": max(2, field.nadir_frames),
        "fewest": False,
    }


REMEDIES: dict[str, Remedy] = {
    "overlap-third": Remedy("Overlap a third", _part("target_field", overlap=1 / 3)),
    "overlap-half": Remedy("Overlap one half", _part("target_field", overlap=0.5)),
    "overlap-advised": Remedy(
        "Take the advised overlap", _reckoned("target_field", lambda p: {"overlap": round(advised_overlap(p)[0], 4)})
    ),
    "rows-half": Remedy("Rows overlap by half", _part("target_field", overlap_rows=0.5)),
    "evening-order": Remedy(
        "Take the better order",
        _reckoned("site", lambda p: {"stops": proposed(p.brief.site, "this picture", p.shoot_s)}),
    ),
    "hold-marks": Remedy(
        "Hold what must be whole",
        _reckoned("target_field", lambda p: holding(p.target_field, p.brief.scene.marks)),
    ),
    "upright": Remedy("Turn the camera upright", _part("rig", upright=True)),
    "reserve-quarter": Remedy("Keep a quarter for the crop", _part("target_field", reserve=0.25)),
    "spare-ends": Remedy("One frame beyond each end", _part("target_field", spare_ends=1)),
    "row-as-needed": Remedy("As many as needed", _part("target_field", row_frames=0)),
    "no-stops": Remedy("Turn by the scale", _part("support", step_deg=0.0, tilt_step_deg=0.0)),
    "sphere-usual": Remedy("Shoot it the usual way", _reckoned("target_field", _usual_sphere)),
    "sphere-fewest": Remedy("Take the fewest", lambda p: replace(p.brief, target_field=fewest_sphere(p.target_field))),
    "use-head": Remedy("Plan for a panoramic head", _part("support", kind="head")),
    "repeat-thrice": Remedy("Take each three times", _part("run", repeats=3)),
    "aperture-depth": Remedy(
        "Close as far as needed",
        _reckoned(
            "exposure",
            lambda p: {"aperture_school": "own", "aperture": closed_enough(p.rig, p.sharpness), "focus_m": 0.0},
        ),
    ),
    "aperture-sharpest": Remedy("Sharpest aperture", _part("exposure", aperture_school="sharpest")),
    "iso-for-time": Remedy("Raise the ISO", _reckoned("exposure", _short_enough)),
    "iso-base": Remedy("Base ISO", _reckoned("exposure", lambda p: {"iso": p.rig.base_iso})),
    "meter-brightest": Remedy("Meter the brightest part", _part("exposure", metering="brightest")),
    "bracket": Remedy("Bracket", _reckoned("exposure", _bracket)),
    "grey-filter": Remedy(
        "Use a grey filter",
        _reckoned(
            "exposure",
            lambda p: {
                "filter_stops": p.brief.exposure.filter_stops
                + max(1, math.ceil(math.log2(1 / 8000 / p.setting.time_s)))
            },
        ),
    ),
    "balance-mixed": Remedy("Set 4300 K", _part("exposure", white_balance_k=4300.0)),
    "polariser-off": Remedy("Polariser off", _part("exposure", polariser=False)),
    "order-sun": Remedy("Sunny side first", _part("run", order="sun")),
    "order-subject": Remedy("Subject first", _part("run", order="subject")),
    "readings-sun": Remedy("Readings by the sun", _reckoned("exposure", _by_sun)),
    "zone-place": Remedy(
        "Take the place's time", _reckoned("site", lambda p: {"utc_offset_h": place_offset_h(p.brief.site)})
    ),
    "focal-print": Remedy(
        "Take that focal length",
        _reckoned(
            "rig",
            lambda p: {"focal_mm": told_focal_mm(focal_for_px(p.rig, p.target_field, needed_px(p.brief.target)))},
        ),
    ),
}
