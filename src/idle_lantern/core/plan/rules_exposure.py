"""Rules about sharpness, exposure and filters."""

from __future__ import annotations

import math
from collections.abc import Iterator

from idle_lantern.core.base import units
from idle_lantern.core.base.judgement import Judgement, Severity
from idle_lantern.core.plan.depth import closed_enough
from idle_lantern.core.plan.light import polariser_spread_stops
from idle_lantern.core.plan.limits import LIMITS
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.shallow import distance_advice

#: Times the focal length at which a thing is drawn as large as it is; no lens for frames focuses nearer.
_LIFE_SIZE = 2.0


def judge_sharpness(plan: Plan) -> Iterator[Judgement]:
    """Depth, diffraction, aperture."""
    s, scene, rig = plan.sharpness, plan.brief.scene, plan.rig
    if s.focus_m < _LIFE_SIZE * rig.focal_mm / 1000:
        yield Judgement(
            "focus-near",
            Severity.STOP,
            f"No lens of {rig.focal_mm:g} mm focuses at {units.distance(s.focus_m)}: life size is reached at twice the focal "
            f"length, {units.distance(2 * rig.focal_mm / 1000)}, and most lenses stop at ten times.",
            "Look up the nearest focus on the lens, and step back.",
        )
        return
    shallow = plan.brief.exposure.aperture_school == "open"
    if not shallow and (s.near_limit_m > scene.near_m * 1.02 or s.far_limit_m < scene.far_m * 0.98):
        if s.needed_aperture <= rig.narrowest_aperture:
            todo, remedy = (
                f"Close to f/{closed_enough(rig, s):g} and focus at {units.distance(s.focus_m)}.",
                "aperture-depth",
            )
        else:
            todo, remedy = (
                "No aperture of this lens is enough: step back from the nearest thing, or use a shorter focal length.",
                "",
            )
        yield Judgement(
            "depth-short",
            Severity.CARE,
            f"At f/{s.aperture:g} it is sharp from {units.distance(s.near_limit_m)} to {units.distance(s.far_limit_m)}, "
            f"but the picture runs from {units.distance(scene.near_m)} to {units.distance(scene.far_m)}.",
            todo,
            remedy,
        )
    if s.airy_px > 4.0:
        yield Judgement(
            "diffraction",
            Severity.NOTE,
            f"At f/{s.aperture:g} diffraction spreads a point over {s.airy_px:.1f} px: the picture softens.",
            "f/8 to f/11 is sharpest where the depth allows it.",
            "aperture-sharpest" if not shallow else "",
        )
    if s.aperture < rig.widest_aperture - 0.05 or s.aperture > rig.narrowest_aperture + 0.05:
        yield Judgement(
            "aperture-range",
            Severity.STOP,
            f"f/{s.aperture:g} does not exist on this lens: f/{rig.widest_aperture:g} to f/{rig.narrowest_aperture:g}.",
            "Choose one within its range.",
            "aperture-sharpest",
        )


def judge_shallow(plan: Plan) -> Iterator[Judgement]:
    """Distances for the shallow look, and that focus lies in a plane."""
    if plan.brief.exposure.aperture_school != "open" or not plan.brief.scene.subject_m:
        return
    yield from distance_advice(plan.brief.scene.subject_m, plan.brief.scene.background_m)
    s = plan.sharpness
    coc_px = s.coc_mm / plan.rig.pixel_mm
    if s.corner_blur_px > coc_px:
        yield Judgement(
            "corner-soft",
            Severity.NOTE,
            f"Focus lies in a plane square to each frame: what stands {units.distance(s.focus_m)} away is {s.corner_blur_px:.1f} px soft "
            f"in a frame's corner (sharp is up to {coc_px:.1f} px), and a flat wall there {s.wall_blur_px:.0f} px in the picture's corners.",
            "Let one frame hold the face whole in its middle; half overlap uses only the middles.",
            "overlap-half" if plan.target_field.overlap < 0.5 else "",
        )


def judge_exposure(plan: Plan) -> Iterator[Judgement]:
    """Clipping, noise, time limits, brackets."""
    s, e = plan.setting, plan.brief.exposure
    limit = s.limit
    if limit is not None:
        stops = math.log2(s.time_s / limit.time_s)
        iso = e.iso * 2**stops
        possible = iso <= LIMITS["iso"][2] / 1.3  # the remedy goes by third stops
        yield Judgement(
            "time-long",
            Severity.CARE,
            f"{units.exposure_time(s.time_s)} is {stops:.1f} stops too long: {limit.reason} ({units.exposure_time(limit.time_s)}).",
            f"Open the aperture by that, or take ISO {iso:.0f}."
            if possible
            else "No ISO makes up for that: open the aperture, or come back with more light.",
            "iso-for-time" if possible else "",
        )
    elif s.time_s > 1.0 and plan.brief.run.repeats == 1 and plan.brief.support.kind != "head":
        yield Judgement(
            "slow-once",
            Severity.NOTE,
            f"{units.exposure_time(s.time_s)} for each frame, once: one blurred frame ruins the picture.",
            "Take each position three times or more.",
            "repeat-thrice",
        )
    count, shift_ev = s.bracket_needed
    if count > 1:
        shifted = f", shifted by {shift_ev:+.1f} EV" if abs(shift_ev) > 0.05 else ""
        how = (
            f"Bracket {count} exposures {e.bracket_step_ev:g} EV apart{shifted}; aperture, ISO and white balance stay."
        )
    else:
        how = "Expose for the brightest part."
    even = " even in the shortest exposure" if e.bracket_count > 1 else ""
    if s.white_left_stops > 0.7:
        yield Judgement(
            "clipping",
            Severity.CARE,
            f"White in the brightest part will lie {s.white_left_stops:.1f} stops over full{even} and clip.",
            f"Meter by the brightest part, or: {how[0].lower()}{how[1:]}" if e.metering != "brightest" else how,
            "bracket" if count > 1 else "meter-brightest",
        )
    if s.shadow_left_stops < -0.05:
        even = " even in the longest exposure" if e.bracket_count > 1 else ""
        yield Judgement(
            "range",
            Severity.CARE,
            f"Shadows of the darkest part lie {-s.shadow_left_stops:.1f} stops below what the sensor holds{even} and drown in noise.",
            how,
            "bracket",
        )
    if e.iso > plan.rig.base_iso and plan.brief.support.kind in ("head", "tripod") and limit is None:
        slower = s.time_s * e.iso / plan.rig.base_iso
        if all(slower <= x.time_s for x in s.limits):
            yield Judgement(
                "iso-high",
                Severity.NOTE,
                f"ISO {e.iso:g} costs {math.log2(e.iso / plan.rig.base_iso):.1f} stops of range, and nothing here asks for it.",
                f"ISO {plan.rig.base_iso:g} with {units.exposure_time(slower)}.",
                "iso-base",
            )
    if plan.brief.scene.sky == "indoors" and e.white_balance_k >= 5000:
        yield Judgement(
            "white-balance",
            Severity.NOTE,
            f"{e.white_balance_k:g} K suits daylight; under lamps everything turns orange.",
            "Some 4300 K suits a hall of mixed light; fixed, whichever it is.",
            "balance-mixed",
        )
    if s.time_s < 1 / 8000:
        yield Judgement(
            "too-bright",
            Severity.CARE,
            f"f/{s.aperture:g} asks for 1/{1 / s.time_s:.0f} s, shorter than shutters go.",
            f"Use a grey filter of {math.ceil(math.log2(1 / 8000 / s.time_s))} stops.",
            "grey-filter",
        )


def judge_filters(plan: Plan) -> Iterator[Judgement]:
    """Polariser over wide skies."""
    if not plan.brief.exposure.polariser:
        return
    site, w = plan.brief.site, plan.target_field
    spread = polariser_spread_stops(site.yaw_of(plan.sun.bearing_deg), plan.sun.altitude_deg, w.left_deg, w.right_deg)
    outside = w.high_deg > 8 and plan.brief.scene.sky in ("clear", "clouds")
    if outside and spread > 0.5:
        yield Judgement(
            "polariser",
            Severity.CARE,
            f"The sky would darken unevenly by {spread:.1f} stops along this sweep (strongest 90° from the sun).",
            "Take the polariser off; it suits water and glare on narrower sweeps.",
            "polariser-off",
        )
