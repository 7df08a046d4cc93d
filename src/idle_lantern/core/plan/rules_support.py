"""Rules about head, stand and the no-parallax point."""

from __future__ import annotations

import math
from collections.abc import Iterator

from idle_lantern.core.base import units
from idle_lantern.core.base.judgement import Judgement, Severity
from idle_lantern.core.plan.planner import Plan


def lean_of_base(lean_deg: float, sweep_deg: float) -> tuple[float, float]:
    """How far the ends of a sweep move, and how much height a crop loses, for a base that leans sideways; degrees.

    The foot of a plane that leans stands at asin(sin lean sin azimuth) from the axis it leans about: never more than the
    lean itself. The crop loses the whole wave within the sweep, whichever way the base leans.
    """
    lean, half = math.radians(lean_deg), math.radians(sweep_deg) / 2

    def height_deg(azimuth_rad: float) -> float:
        return math.degrees(math.asin(math.sin(lean) * math.sin(azimuth_rad)))

    return abs(height_deg(half)), 2 * height_deg(min(half, math.pi / 2))


def judge_support(plan: Plan) -> Iterator[Judgement]:
    """Lean of the base, stops, tilt, chance of a hole."""
    s = plan.brief.support.as_used()
    if s.base_tilt_deg >= 1.0 and not plan.target_field.full_circle and s.kind in ("head", "tripod"):
        ends, wave = lean_of_base(s.base_tilt_deg, plan.target_field.sweep_deg)
        yield Judgement(
            "base-lean",
            Severity.CARE,
            f"A base that leans {units.angle(s.base_tilt_deg)} turns the horizon into a wave: one end of the picture stands "
            f"{units.angle(ends)} too high and the other as much too low, and the crop loses up to {units.angle(wave)} of height.",
            "Level the base below the axis, not the ball under the camera; look at the bubble all the way round.",
        )
    alike = plan.rig.focal_mm * plan.rig.crop_factor
    if s.kind == "hand" and alike > 60:
        yield Judgement(
            "hand-long",
            Severity.NOTE,
            f"{alike:.0f} mm (as on 36 x 24 mm) held by hand: schools that shoot by hand keep to wide lenses and far scenes.",
            "Use a tripod, or shoot each run three times.",
            "repeat-thrice",
        )
    if s.kind == "air":
        yield Judgement(
            "air-rules",
            Severity.NOTE,
            "From the air: licences, no-fly zones and distances to people are a matter of your local aviation rules.",
            "Keep it in sight; this program knows none of those rules.",
        )
    if s.step_deg and plan.rig.motion == "turn" and plan.target_field.full_circle:
        left = 360 % s.step_deg
        if min(left, s.step_deg - left) > 0.01:
            yield Judgement(
                "stops-uneven",
                Severity.NOTE,
                f"Stops of {units.angle(s.step_deg)} do not divide the circle: the last before the first is {units.angle(left)} "
                "instead, and a head that clicks on finds its stops elsewhere in the second round.",
                "Turn the last step by the scale, or set stops that divide 360°.",
                "no-stops",
            )
    if s.step_deg and plan.rig.motion == "turn":
        first = plan.rows[0] if plan.rows[0][0].role == "field" else plan.rows[min(1, len(plan.rows) - 1)]
        if len(first) > 1:
            step = abs((first[1].yaw_deg - first[0].yaw_deg + 180) % 360 - 180)
            if abs(step / s.step_deg - round(step / s.step_deg)) > 0.02:
                yield Judgement(
                    "stops-missed",
                    Severity.CARE,
                    f"A step of {units.angle(step)} does not lie on the head's stops of {units.angle(s.step_deg)}.",
                    "Turn by the scale instead, or set other stops.",
                )


def judge_pupil(plan: Plan) -> Iterator[Judgement]:
    """How far the axis may stand off the no-parallax point."""
    p, rig, support = plan.pupil, plan.rig, plan.brief.support
    if rig.motion != "turn" or len(plan.frames) < 2:
        return
    if p.off_mm > p.tolerance_mm:
        yield Judgement(
            "pupil-off",
            Severity.CARE,
            f"With the axis {p.off_mm:.0f} mm off the no-parallax point things {p.near_m:g} m away shift by {p.shift_px:.0f} px "
            f"against the background; {p.allowed_px:g} px can be hidden.",
            f"Bring it within {p.tolerance_mm:.0f} mm, or keep near things off the overlaps.",
        )
    elif support.kind == "tripod" and p.matters:
        yield Judgement(
            "no-head",
            Severity.CARE,
            f"Turning about the tripod screw will show: the axis must stay within {p.tolerance_mm:.0f} mm of the "
            f"no-parallax point for things {p.near_m:g} m away.",
            "Use a panoramic head, or step back from near things.",
            "use-head",
        )
    elif support.kind == "head" and rig.rail_mm == 0 and p.tolerance_mm < 40:
        yield Judgement(
            "rail-unknown",
            Severity.NOTE,
            f"No rail setting is known for this lens; it must be right within {p.tolerance_mm:.0f} mm here.",
            "Slide the camera until a near and a far upright stay in line at both ends of the frame, then note the scale.",
        )
    elif support.kind == "head" and rig.rail_mm and rig.rail_doubt_mm > p.tolerance_mm:
        yield Judgement(
            "rail-doubt",
            Severity.NOTE,
            f"The rail setting of {rig.rail_mm:.0f} mm is known within {rig.rail_doubt_mm:.1f} mm, "
            f"but things {p.near_m:g} m away ask for {p.tolerance_mm:.1f} mm.",
            "Check a near against a far upright at both ends of the frame before the run.",
        )
    elif support.kind == "hand" and p.tolerance_mm < 20:
        yield Judgement(
            "hand-near",
            Severity.CARE,
            f"By hand the camera turns about the body, not the lens: at {p.near_m:g} m only {p.tolerance_mm:.0f} mm are allowed.",
            "Turn about the front third of the lens, or leave near things out.",
        )
