"""Rules about light, time and what becomes of the picture."""

from __future__ import annotations

import math
from collections.abc import Iterator

from idle_lantern.core.base import units
from idle_lantern.core.base.errors import shortened
from idle_lantern.core.base.judgement import Judgement, Severity
from idle_lantern.core.base.memory import available_bytes
from idle_lantern.core.geometry.sphere import direction
from idle_lantern.core.plan.cost import cards_needed
from idle_lantern.core.plan.coverage import cameras_of
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.plan.size import focal_for_px, needed_px, told_focal_mm, unfit_formats
from idle_lantern.core.plan.sun import daylight_ev
from idle_lantern.core.plan.tour import proposed, to_drop, tour
from idle_lantern.core.plan.zone import at_sea, place_offset_h, zone_of

#: Lamps and shop windows read so much at any hour; a bright sky reads so much more than the ground (from memory).
_LAMPS_EV, _SKY_OVER_GROUND_EV = 10.0, 3.0
#: Where many programs stop (common practice, no source).
_ELSEWHERE_MP = 500
#: Of so many scenes at most it is tried out which to leave.
_MOST_DROPPED = 6
#: Frames that show the sun are named up to so many.
_MOST_NAMED = 6


def judge_light(plan: Plan) -> Iterator[Judgement]:
    """Sun, low light, golden and blue hours."""
    site, w, sun = plan.brief.site, plan.target_field, plan.sun
    if plan.brief.scene.sky == "indoors":
        return
    hours = place_offset_h(site)
    if abs(hours - site.utc_offset_h) > 0.01 and not at_sea(site):
        yield Judgement(
            "zone-other",
            Severity.NOTE,
            f"The clocks at {units.place(site.latitude_deg, site.longitude_deg)} show UTC{hours:+g} h on {site.date} "
            f"({zone_of(site.latitude_deg, site.longitude_deg)}), but sun and light are reckoned for UTC{site.utc_offset_h:+g} h.",
            "Take the place's own time, unless your watch shows another.",
            "zone-place",
        )
    sun_yaw = site.yaw_of(sun.bearing_deg)
    middle = (w.left_deg + w.right_deg) / 2
    away = abs((sun_yaw - middle + 180) % 360 - 180)
    inside = away < w.sweep_deg / 2 and w.low_deg < sun.altitude_deg < w.high_deg
    towards = direction(math.radians(sun_yaw), math.radians(sun.altitude_deg))
    seeing = [
        frame.number
        for frame, camera in zip(plan.frames, cameras_of(plan.frames))
        if plan.brief.rig.lens_of(frame).sees(towards @ camera)
    ]
    if sun.altitude_deg > -1 and (inside or seeing):
        numbers = ", ".join(map(str, seeing[:_MOST_NAMED])) + (" …" if len(seeing) > _MOST_NAMED else "")
        frames = f"frame{'s' * (len(seeing) != 1)} {numbers}"
        where = "in the picture" if inside else f"outside the wished field, but in {frames}"
        yield Judgement(
            "sun-in-picture",
            Severity.CARE,
            f"At {site.start} the sun stands {where} at yaw {units.angle(sun_yaw, 0)}, {units.angle(sun.altitude_deg, 0)} up: "
            "flare moves from frame to frame.",
            "Shoot that side first. Never look at it through an optical finder, nor point a long lens at it without a proper filter.",
            "order-sun",
        )
    minutes = plan.shoot_s / 60
    if minutes > plan.even_light_min and sun.altitude_deg > -18:
        rising = plan.even_light_min
        yield Judgement(
            "light-moves",
            Severity.CARE,
            f"The run takes {units.duration(plan.shoot_s)}, but from {site.start} on daylight changes by a third of a stop within "
            f"{units.duration(rising * 60)}.",
            "Begin on the sunny side, take fewer frames or a shorter focal length, or wait for steadier light.",
            "order-sun",
        )
    brightest, daylight = max(ev for _, ev in plan.brief.exposure.readings), daylight_ev(sun.altitude_deg)
    if brightest > max(_LAMPS_EV, daylight + _SKY_OVER_GROUND_EV):
        stands = (
            f"{units.angle(sun.altitude_deg)} up"
            if sun.altitude_deg >= 0
            else f"{units.angle(-sun.altitude_deg)} below the horizon"
        )
        yield Judgement(
            "dark-hour",
            Severity.NOTE,
            f"At {site.start} the sun stands {stands}: level ground then reads about {max(daylight, -6):.0f} EV, "
            f"but the readings say {brightest:.1f} EV.",
            "Set the readings to the light of that hour.",
            "readings-sun",
        )


def judge_evening(plan: Plan) -> Iterator[Judgement]:
    """Whether each scene of the evening gets the light that it wants."""
    site, missed = plan.brief.site, plan.evening.missed
    if not missed:
        return
    late = next(v for v in plan.evening.visits if v.name == missed[0] and not v.gets)
    sentence = (
        f"'{shortened(late.name, 60)}' is reached at {late.arrive:%H:%M} and does not get its {late.wants} light"
        f"{f', and {len(missed) - 1} more scenes miss theirs' if len(missed) > 1 else ''}."
    )
    best = proposed(site, "this picture", plan.shoot_s)
    if len(tour(site, "this picture", plan.shoot_s, best).missed) < len(missed):
        yield Judgement(
            "evening-light", Severity.CARE, sentence, "Another order gives more scenes their light.", "evening-order"
        )
        return
    gone = to_drop(site, "this picture", plan.shoot_s) if len(site.stops) <= _MOST_DROPPED else ()
    what = f"Leave out {', '.join(gone)}, or start earlier." if gone else "Start earlier, or come back another day."
    yield Judgement("evening-light", Severity.CARE, sentence, what)


def judge_time(plan: Plan) -> Iterator[Judgement]:
    """How long the run takes, and what moves meanwhile."""
    scene, run = plan.brief.scene, plan.brief.run
    if len(plan.frames) > 150:
        yield Judgement(
            "many-frames",
            Severity.NOTE,
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
            Severity.NOTE,
            f"The subject moves and comes after up to {len(plan.frames) - 1} other frames.",
            "Shoot the subject first, then outward.",
            "order-subject",
        )
    if plan.cost.card_gb > 0.9 * run.card_gb:
        yield Judgement(
            "card-full",
            Severity.CARE,
            f"{plan.time.exposures} exposures of {plan.rig.raw_mb:g} MB take {plan.cost.card_gb:.1f} GB, "
            f"and the card holds {run.card_gb:g} GB.",
            f"Take {cards_needed(plan.cost.card_gb, run.card_gb)} cards, and change between rows, not within one.",
        )
    legs = plan.brief.support.legs_kg
    if plan.brief.support.kind in ("head", "tripod") and 8 <= scene.wind_ms < 12 and 0 < legs < 2:
        yield Judgement(
            "legs-light",
            Severity.NOTE,
            f"Legs of {legs:g} kg in {scene.wind_ms:g} m/s of wind will tremble.",
            "Hang weight under them, leave the centre column down, stand to windward.",
        )
    if plan.brief.support.kind in ("head", "tripod") and scene.wind_ms >= 12:
        yield Judgement(
            "wind-strong",
            Severity.CARE,
            f"{scene.wind_ms:g} m/s can throw a tripod over; with thunder about it is a lightning rod.",
            "Weigh it down, never leave it alone, and go when it thunders.",
        )


def judge_output(plan: Plan) -> Iterator[Judgement]:
    """Size, formats, cards, print."""
    size, target = plan.size, plan.brief.target
    for name, limit in unfit_formats(size):
        yield Judgement(
            f"{name.split()[-1].lower()}-limit",
            Severity.CARE if name == "JPEG" else Severity.NOTE,
            f"The joined picture of {units.grouped(size.width_px)} x {units.grouped(size.height_px)} px does not fit into "
            f"{name}: {limit}.",
            "Nothing to do while shooting; the delivery chooses the format.",
        )
    megapixels = size.pixels / 1e6
    if megapixels > _ELSEWHERE_MP:
        yield Judgement(
            "opens-elsewhere",
            Severity.NOTE,
            f"{units.megapixels(size.pixels)} will not open everywhere: many programs stop at some hundred megapixels.",
            "Ask what those who get it can open; deliver a smaller copy or tiles beside it.",
        )
    free_mib = available_bytes() / 2**20
    if plan.cost.join_mib > free_mib:
        yield Judgement(
            "join-memory",
            Severity.CARE,
            f"Joining takes about {units.file_size(plan.cost.join_mib * 2**20)} of memory, and this machine has "
            f"{units.file_size(free_mib * 2**20)} free.",
            "Close other programs before joining; with less the join goes through the disk and takes longer.",
        )
    longer = max(size.width_px, size.height_px)
    if 0 < longer < needed_px(target):
        have = longer / target.print_mm * 25.4
        yield Judgement(
            "print-small",
            Severity.NOTE,
            f"A print of {units.length(target.print_mm)} would have {have:.0f} dpi instead of {target.dpi:g}.",
            f"Use {told_focal_mm(focal_for_px(plan.rig, plan.target_field, needed_px(target))):g} mm for it, or print smaller.",
            "focal-print",
        )
