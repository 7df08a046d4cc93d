"""What a practitioner would say of a plan: each rule looks at it and says at most one thing of its kind.

Every judgement carries its number, its reason and what to do; where the remedy is an
edit of the brief, ``remedies.py`` applies it by the judgement's ``remedy_id``.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import TYPE_CHECKING

from idle_lantern.core.base import units
from idle_lantern.core.base.judgement import Judgement, Severity
from idle_lantern.core.plan.cost import cards_needed
from idle_lantern.core.plan.light import polariser_spread_stops
from idle_lantern.core.plan.shallow import distance_advice
from idle_lantern.core.plan.size import needed_px, unfit_formats

if TYPE_CHECKING:
    from idle_lantern.core.plan.planner import Plan

_STOP, _CARE, _NOTE = Severity.STOP, Severity.CARE, Severity.NOTE
_LOW_SUN_DEG = 30.0


def judge(plan: Plan) -> tuple[Judgement, ...]:
    """All that speaks against the plan, the heaviest first."""
    rules = (
        _field,
        _overlap,
        _rows,
        _support,
        _pupil,
        _sharpness,
        _shallow,
        _exposure,
        _filters,
        _light,
        _time,
        _output,
    )
    found = [j for rule in rules for j in rule(plan)]
    return tuple(sorted(found, key=lambda j: -j.severity))


def _some(count: int, thing: str) -> str:
    return f"{count} {thing}{'' if count == 1 else 's'}"


def _field(plan: Plan) -> Iterator[Judgement]:
    if not plan.coverage.complete:
        share = len(plan.coverage.uncovered) / plan.coverage.samples
        support, rig = plan.brief.support, plan.rig
        if plan.given:
            why, todo = (
                "the frame list that was brought in leaves it out",
                "Plan the frames anew, or shoot one more there.",
            )
        elif rig.motion == "lens-shift":
            why = f"the lens shifts only {rig.shift_mm:g} mm" if rig.shift_mm else "the lens does not shift"
            todo = "Want a smaller field, or turn the camera instead."
        elif support.tilt_low_deg > -90 or support.tilt_high_deg < 90:
            why = f"the head tilts only from {units.angle(support.tilt_low_deg, 0)} to {units.angle(support.tilt_high_deg, 0)}"
            todo = "Use a wider lens, hold the camera upright, or shoot that part by hand."
        else:
            why, todo = "this lens does not reach there", "Use a wider lens or a smaller field."
        yield Judgement("hole", _STOP, f"{units.share(share, 1)} of the wanted field lies in no frame: {why}.", todo)
    if plan.target_field.reserve == 0 and not plan.target_field.full_circle and plan.crop.expected > 0.15:
        yield Judgement(
            "no-reserve",
            _NOTE,
            f"The crop will cost about {units.share(plan.crop.expected)} of the picture (edges bow, the base leans "
            f"{units.angle(plan.brief.support.base_tilt_deg)}, pointing errs by {units.angle(plan.brief.support.pointing)}), "
            "and no reserve is planned.",
            "Keep a quarter in reserve: 20 to 30 % is usual.",
            "reserve-quarter",
        )
    if (
        not plan.target_field.full_circle
        and plan.target_field.spare_ends == 0
        and plan.brief.support.kind in ("hand", "air")
    ):
        yield Judgement(
            "no-spare-ends",
            _NOTE,
            "Without a head the ends are easily missed, and no frame is planned beyond them.",
            "Shoot one frame beyond each end.",
            "spare-ends",
        )


def _overlap(plan: Plan) -> Iterator[Judgement]:
    c = plan.coverage
    if (
        c.smallest_overlap is not None
        and c.smallest_between
        and c.smallest_overlap < 0.15
        and plan.rig.motion != "two-lens"
    ):
        a, b = c.smallest_between
        yield Judgement(
            "overlap-small",
            _CARE,
            f"Frames {a} and {b} share only {units.share(c.smallest_overlap)}: "
            "with less than 15 % a little missed turning leaves too few points to match.",
            "Take a third: it costs few frames and forgives a missed step.",
            "overlap-third",
        )
    advised, reason = advised_overlap(plan)
    if (
        plan.rig.motion == "turn"
        and plan.target_field.overlap < advised - 0.08
        and len(plan.frames) > 1
        and plan.target_field.overlap >= 0.15
    ):
        yield Judgement(
            "overlap-advice",
            _NOTE,
            f"{units.share(plan.target_field.overlap)} of overlap is on the small side here: {reason}.",
            f"Take {units.share(advised)}.",
            "overlap-advised",
        )
    chance = plan.hole_chance if plan.brief.support.kind in ("hand", "air") else None
    if chance is not None and chance > 0.05:
        yield Judgement(
            "hole-chance",
            _CARE,
            f"With a pointing error of {units.angle(plan.brief.support.pointing)} {units.share(chance)} of tried runs leave a hole.",
            "Take more overlap, or shoot the run three times.",
            "overlap-half",
        )


def advised_overlap(plan: Plan) -> tuple[float, str]:
    """Recommended overlap along a row and its reason (common practice, no source)."""
    wide_deg = math.degrees(plan.rig.lens().field_rad()[0])
    if plan.brief.exposure.aperture_school == "open" and plan.rig.corner_loss_stops >= 1:
        return (
            0.5,
            f"wide open the corners lose {plan.rig.corner_loss_stops:g} stops, so only the bright middle should count",
        )
    if plan.brief.support.kind in ("hand", "air"):
        return 0.4, "pointed by hand, frames miss their place by some degrees"
    if plan.pupil.tolerance_mm < 10 and plan.brief.scene.near_m < 3 and plan.rig.rail_mm == 0:
        return (
            0.4,
            f"things {plan.brief.scene.near_m:g} m away shift between frames, and more overlap leaves room for the seam",
        )
    if wide_deg < 20:
        return 0.25, "a long lens on a firm head needs no more"
    return 1 / 3, "a third forgives a missed step"


def _rows(plan: Plan) -> Iterator[Judgement]:
    field_w, field_h = (math.degrees(v) for v in plan.rig.lens().field_rad())
    rows = [r for r in plan.rows if r[0].role in ("field", "spare")]
    if (
        plan.target_field.high_deg - plan.target_field.low_deg > field_h * 0.9
        and not plan.rig.upright
        and len(rows) > 1
        and plan.rig.motion == "turn"
    ):
        yield Judgement(
            "turn-upright",
            _NOTE,
            f"SizedCache sideways a frame is {units.angle(field_h)} high, so the picture takes {len(rows)} rows.",
            f"Hold the camera upright: {units.angle(field_w)} of height in one frame.",
            "upright",
        )
    sky = [f for f in plan.frames if f.pitch_deg - field_h / 2 > 1.0 and f.role == "field"]
    shallow = plan.brief.exposure.aperture_school == "open"  # a subject with things behind it, not a sky
    if sky and plan.brief.scene.sky != "indoors" and plan.rig.motion == "turn" and not shallow:
        share = {"clear": "a clear sky has nothing to match", "overcast": "an even sky has nothing to match"}.get(
            plan.brief.scene.sky, "clouds are a weak help and move"
        )
        yield Judgement(
            "sky-row",
            _CARE,
            f"{_some(len(sky), 'frame')} from frame {sky[0].number} on {'hold' if len(sky) > 1 else 'holds'} no land: {share}.",
            "Keep the horizon in the frame with more overlap between the rows; else they are placed by the head's angles.",
            "rows-half",
        )
    for mark in plan.brief.scene.marks:
        if mark.keep_off_seams and not _whole_in_one(plan, mark.yaw_deg, mark.pitch_deg, mark.width_deg):
            yield Judgement(
                f"seam-on-{mark.name}",
                _CARE,
                f"No frame holds '{mark.name}' ({units.angle(mark.width_deg)} wide) well inside: a seam would cross it.",
                "Take more overlap, so that one frame holds it whole.",
                "overlap-half",
            )


def _whole_in_one(plan: Plan, yaw_deg: float, pitch_deg: float, width_deg: float) -> bool:
    """Whether some frame shows the thing whole and a tenth of its width away from its rim."""
    wide, tall = (math.degrees(v) for v in plan.rig.lens().field_rad())
    for f in plan.frames:
        across = abs((f.yaw_deg - yaw_deg + 180) % 360 - 180) * math.cos(math.radians(pitch_deg))
        if across + width_deg / 2 <= 0.45 * wide and abs(f.pitch_deg - pitch_deg) + width_deg / 2 <= 0.45 * tall:
            return True
    return False


def _support(plan: Plan) -> Iterator[Judgement]:
    s = plan.brief.support
    if s.base_tilt_deg >= 1.0 and not plan.target_field.full_circle and s.kind in ("head", "tripod"):
        lost = 2 * math.tan(math.radians(s.base_tilt_deg)) * plan.target_field.sweep_deg / 2
        yield Judgement(
            "base-lean",
            _CARE,
            f"A base that leans {units.angle(s.base_tilt_deg)} moves the ends by {units.angle(lost / 2)} up and down: "
            "the horizon tilts and curves, and the crop loses that height.",
            "Level the base below the axis, not the ball under the camera; look at the bubble all the way round.",
        )
    alike = plan.rig.focal_mm * plan.rig.crop_factor
    if s.kind == "hand" and alike > 60:
        yield Judgement(
            "hand-long",
            _NOTE,
            f"{alike:.0f} mm (as on 36 x 24 mm) held by hand: schools that shoot by hand keep to wide lenses and far scenes.",
            "Use a tripod, or shoot each run three times.",
            "repeat-thrice",
        )
    if s.kind == "air":
        yield Judgement(
            "air-rules",
            _NOTE,
            "From the air: licences, no-fly zones and distances to people are a matter of your local aviation rules.",
            "Keep it in sight; this program knows none of those rules.",
        )
    if s.step_deg and plan.rig.motion == "turn":
        first = plan.rows[0] if plan.rows[0][0].role == "field" else plan.rows[min(1, len(plan.rows) - 1)]
        if len(first) > 1:
            step = abs((first[1].yaw_deg - first[0].yaw_deg + 180) % 360 - 180)
            if abs(step / s.step_deg - round(step / s.step_deg)) > 0.02:
                yield Judgement(
                    "stops-missed",
                    _CARE,
                    f"A step of {units.angle(step)} does not lie on the head's stops of {units.angle(s.step_deg)}.",
                    "Turn by the scale instead, or set other stops.",
                )


def _pupil(plan: Plan) -> Iterator[Judgement]:
    p, rig, support = plan.pupil, plan.rig, plan.brief.support
    if rig.motion != "turn" or len(plan.frames) < 2:
        return
    if p.off_mm > p.tolerance_mm:
        yield Judgement(
            "pupil-off",
            _CARE,
            f"With the axis {p.off_mm:.0f} mm off the no-parallax point things {p.near_m:g} m away shift by {p.shift_px:.0f} px "
            f"against the background; {p.allowed_px:g} px can be hidden.",
            f"Bring it within {p.tolerance_mm:.0f} mm, or keep near things off the overlaps.",
        )
    elif support.kind == "tripod" and p.matters:
        yield Judgement(
            "no-head",
            _CARE,
            f"Turning about the tripod screw will show: the axis must stay within {p.tolerance_mm:.0f} mm of the "
            f"no-parallax point for things {p.near_m:g} m away.",
            "Use a panoramic head, or step back from near things.",
            "use-head",
        )
    elif support.kind == "head" and rig.rail_mm == 0 and p.tolerance_mm < 40:
        yield Judgement(
            "rail-unknown",
            _NOTE,
            f"No rail setting is known for this lens; it must be right within {p.tolerance_mm:.0f} mm here.",
            "Slide the camera until a near and a far upright stay in line at both ends of the frame, then note the scale.",
        )
    elif support.kind == "head" and rig.rail_mm and rig.rail_doubt_mm > p.tolerance_mm:
        yield Judgement(
            "rail-doubt",
            _NOTE,
            f"The rail setting of {rig.rail_mm:.0f} mm is known within {rig.rail_doubt_mm:.1f} mm, "
            f"but things {p.near_m:g} m away ask for {p.tolerance_mm:.1f} mm.",
            "Check a near against a far upright at both ends of the frame before the run.",
        )
    elif support.kind == "hand" and p.tolerance_mm < 20:
        yield Judgement(
            "hand-near",
            _CARE,
            f"By hand the camera turns about the body, not the lens: at {p.near_m:g} m only {p.tolerance_mm:.0f} mm are allowed.",
            "Turn about the front third of the lens, or leave near things out.",
        )


def _sharpness(plan: Plan) -> Iterator[Judgement]:
    s, scene, rig = plan.sharpness, plan.brief.scene, plan.rig
    shallow = plan.brief.exposure.aperture_school == "open"
    if not shallow and (s.near_limit_m > scene.near_m * 1.02 or s.far_limit_m < scene.far_m * 0.98):
        if s.needed_aperture <= rig.narrowest_aperture:
            todo, remedy = (
                f"Close to f/{s.needed_aperture:.1f} and focus at {units.distance(s.focus_m)}.",
                "aperture-depth",
            )
        else:
            todo, remedy = (
                "No aperture of this lens is enough: step back from the nearest thing, or use a shorter focal length.",
                "",
            )
        yield Judgement(
            "depth-short",
            _CARE,
            f"At f/{s.aperture:g} it is sharp from {units.distance(s.near_limit_m)} to {units.distance(s.far_limit_m)}, "
            f"but the picture runs from {units.distance(scene.near_m)} to {units.distance(scene.far_m)}.",
            todo,
            remedy,
        )
    if s.airy_px > 4.0:
        yield Judgement(
            "diffraction",
            _NOTE,
            f"At f/{s.aperture:g} diffraction spreads a point over {s.airy_px:.1f} px: the picture softens.",
            "f/8 to f/11 is sharpest where the depth allows it.",
            "aperture-sharpest" if not shallow else "",
        )
    if s.aperture < rig.widest_aperture - 0.05 or s.aperture > rig.narrowest_aperture + 0.05:
        yield Judgement(
            "aperture-range",
            _STOP,
            f"f/{s.aperture:g} does not exist on this lens: f/{rig.widest_aperture:g} to f/{rig.narrowest_aperture:g}.",
            "Choose one within its range.",
            "aperture-sharpest",
        )


def _shallow(plan: Plan) -> Iterator[Judgement]:
    if plan.brief.exposure.aperture_school == "open" and plan.brief.scene.subject_m > 0:
        yield from distance_advice(plan.brief.scene.subject_m, plan.brief.scene.background_m)


def _exposure(plan: Plan) -> Iterator[Judgement]:
    s, e = plan.setting, plan.brief.exposure
    limit = s.limit
    if limit is not None:
        stops = math.log2(s.time_s / limit.time_s)
        iso = e.iso * 2**stops
        yield Judgement(
            "time-long",
            _CARE,
            f"{units.exposure_time(s.time_s)} is {stops:.1f} stops too long: {limit.reason} ({units.exposure_time(limit.time_s)}).",
            f"Open the aperture by that, or take ISO {iso:.0f}.",
            "iso-for-time",
        )
    elif s.time_s > 1.0 and plan.brief.run.repeats == 1 and plan.brief.support.kind != "head":
        yield Judgement(
            "slow-once",
            _NOTE,
            f"{units.exposure_time(s.time_s)} for each frame, once: one blurred frame ruins the picture.",
            "Take each position three times or more.",
            "repeat-thrice",
        )
    if s.white_over_stops > 0.7 and not (e.bracket_count > 1 and max(s.bracket_ev) * -1 <= -s.white_over_stops + 0.5):
        yield Judgement(
            "clipping",
            _CARE,
            f"White in the brightest part will lie {s.white_over_stops:.1f} stops over full and clip.",
            "Meter by the brightest part, or bracket.",
            "meter-brightest",
        )
    if s.shadow_spare_stops < 0 and e.bracket_count < s.brackets_needed:
        yield Judgement(
            "range",
            _CARE,
            f"The scene's range passes the sensor's by {-s.shadow_spare_stops:.1f} stops: shadows of the darkest part drown in noise.",
            f"Bracket {s.brackets_needed} exposures {e.bracket_step_ev:g} EV apart; aperture, ISO and white balance stay.",
            "bracket",
        )
    if e.iso > plan.rig.base_iso and plan.brief.support.kind in ("head", "tripod") and limit is None:
        slower = s.time_s * e.iso / plan.rig.base_iso
        if all(slower <= x.time_s for x in s.limits):
            yield Judgement(
                "iso-high",
                _NOTE,
                f"ISO {e.iso:g} costs {math.log2(e.iso / plan.rig.base_iso):.1f} stops of range, and nothing here asks for it.",
                f"ISO {plan.rig.base_iso:g} with {units.exposure_time(slower)}.",
                "iso-base",
            )
    if plan.brief.scene.sky == "indoors" and e.white_balance_k >= 5000:
        yield Judgement(
            "white-balance",
            _NOTE,
            f"{e.white_balance_k:g} K suits daylight; under lamps everything turns orange.",
            "Some 4300 K suits a hall of mixed light; fixed, whichever it is.",
            "balance-mixed",
        )
    if s.time_s < 1 / 8000:
        yield Judgement(
            "too-bright",
            _CARE,
            f"f/{s.aperture:g} asks for 1/{1 / s.time_s:.0f} s, shorter than shutters go.",
            f"Use a grey filter of {math.ceil(math.log2(1 / 8000 / s.time_s))} stops.",
            "grey-filter",
        )


def _filters(plan: Plan) -> Iterator[Judgement]:
    if not plan.brief.exposure.polariser:
        return
    site, w = plan.brief.site, plan.target_field
    spread = polariser_spread_stops(site.yaw_of(plan.sun.bearing_deg), plan.sun.altitude_deg, w.left_deg, w.right_deg)
    outside = w.high_deg > 8 and plan.brief.scene.sky in ("clear", "clouds")
    if outside and spread > 0.5:
        yield Judgement(
            "polariser",
            _CARE,
            f"The sky would darken unevenly by {spread:.1f} stops along this sweep (strongest 90° from the sun).",
            "Take the polariser off; it suits water and glare on narrower sweeps.",
            "polariser-off",
        )


def _light(plan: Plan) -> Iterator[Judgement]:
    site, w, sun = plan.brief.site, plan.target_field, plan.sun
    if plan.brief.scene.sky == "indoors":
        return
    sun_yaw = site.yaw_of(sun.bearing_deg)
    middle = (w.left_deg + w.right_deg) / 2
    away = abs((sun_yaw - middle + 180) % 360 - 180)
    if sun.altitude_deg > -1 and away < w.sweep_deg / 2 and w.low_deg < sun.altitude_deg < w.high_deg:
        yield Judgement(
            "sun-in-picture",
            _CARE,
            f"At {site.start} the sun stands in the picture at yaw {units.angle(sun_yaw, 0)}, {units.angle(sun.altitude_deg, 0)} up: "
            "flare moves from frame to frame.",
            "Shoot that side first. Never look at it through an optical finder, nor point a long lens at it without a proper filter.",
            "order-sun",
        )
    minutes = plan.shoot_s / 60
    if minutes > plan.even_light_min and sun.altitude_deg > -18:
        rising = plan.even_light_min
        yield Judgement(
            "light-moves",
            _CARE,
            f"The run takes {units.duration(plan.shoot_s)}, but from {site.start} on daylight changes by a third of a stop within "
            f"{units.duration(rising * 60)}.",
            "Begin on the sunny side, take fewer frames or a shorter focal length, or wait for steadier light.",
            "order-sun",
        )
    if (
        sun.altitude_deg < -1
        and plan.brief.exposure.readings
        and max(ev for _, ev in plan.brief.exposure.readings) > 10
    ):
        yield Judgement(
            "dark-hour",
            _NOTE,
            f"At {site.start} the sun stands {units.angle(-sun.altitude_deg)} below the horizon, "
            f"but the readings say {max(ev for _, ev in plan.brief.exposure.readings):.1f} EV.",
            "Set the readings to the light of that hour.",
            "readings-sun",
        )


def _time(plan: Plan) -> Iterator[Judgement]:
    scene, run = plan.brief.scene, plan.brief.run
    if len(plan.frames) > 150:
        yield Judgement(
            "many-frames",
            _NOTE,
            f"{len(plan.frames)} frames take about {units.duration(plan.shoot_s)}.",
            "Use a shorter focal length or less overlap, unless the print needs the pixels.",
        )
    if (
        scene.subject in ("walking", "running")
        and scene.subject_m > 0
        and run.order not in ("subject", "mirrored", "rings")
    ):
        yield Judgement(
            "subject-late",
            _NOTE,
            f"The subject moves and comes after up to {len(plan.frames) - 1} other frames.",
            "Shoot the subject first, then outward.",
            "order-subject",
        )
    if plan.cost.card_gb > 0.9 * run.card_gb:
        yield Judgement(
            "card-full",
            _CARE,
            f"{plan.time.exposures} exposures of {plan.rig.raw_mb:g} MB take {plan.cost.card_gb:.1f} GB, "
            f"and the card holds {run.card_gb:g} GB.",
            f"Take {cards_needed(plan.cost.card_gb, run.card_gb)} cards, and change between rows, not within one.",
        )
    legs = plan.brief.support.legs_kg
    if plan.brief.support.kind in ("head", "tripod") and 8 <= scene.wind_ms < 12 and 0 < legs < 2:
        yield Judgement(
            "legs-light",
            _NOTE,
            f"Legs of {legs:g} kg in {scene.wind_ms:g} m/s of wind will tremble.",
            "Hang weight under them, leave the centre column down, stand to windward.",
        )
    if plan.brief.support.kind in ("head", "tripod") and scene.wind_ms >= 12:
        yield Judgement(
            "wind-strong",
            _CARE,
            f"{scene.wind_ms:g} m/s can throw a tripod over; with thunder about it is a lightning rod.",
            "Weigh it down, never leave it alone, and go when it thunders.",
        )


def _output(plan: Plan) -> Iterator[Judgement]:
    size, target = plan.size, plan.brief.target
    for name, limit in unfit_formats(size):
        yield Judgement(
            f"{name.split()[-1].lower()}-limit",
            _CARE if name == "JPEG" else _NOTE,
            f"The joined picture of {units.grouped(size.width_px)} x {units.grouped(size.height_px)} px does not fit into "
            f"{name}: {limit}.",
            "Nothing to do while shooting; the delivery chooses the format.",
        )
    longer = max(size.width_px, size.height_px)
    if 0 < longer < needed_px(target):
        have = longer / target.print_mm * 25.4
        yield Judgement(
            "print-small",
            _NOTE,
            f"A print of {units.length(target.print_mm)} would have {have:.0f} dpi instead of {target.dpi:g}.",
            f"Use {plan.rig.focal_mm * needed_px(target) / longer:.0f} mm for it, or print smaller.",
            "focal-print",
        )
