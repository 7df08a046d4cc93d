"""Check lists and cautions by kind of picture and gear: what to pack and set, and what can hurt.

Facts of the trade (common practice, no source). Cautions are short and leave the word to local rules and trained people.
"""

from __future__ import annotations

from collections.abc import Iterator

from idle_lantern.core.base import units
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.planner import Plan

#: A long lens gathers the sun from here on; wind of such a speed throws tripods over; the sea has tides where a plan is by water.
_LONG_MM, _STRONG_MS = 70.0, 10.0
_LOW_KG = 2.0


def before_leaving(brief: Brief) -> tuple[str, ...]:
    """What to pack and to look up."""
    return tuple(_before_leaving(brief))


def _before_leaving(brief: Brief) -> Iterator[str]:
    kind, support, exposure = brief.kind, brief.support.kind, brief.exposure
    yield "Batteries charged, one spare; card empty, one spare"
    yield "Front and back of the lens clean, sensor looked at against a plain sky"
    if support == "head":
        yield "Panoramic head, its plate, the rail setting of this lens written on the card"
    if support in ("head", "tripod"):
        yield "Tripod with all three feet, a level for the base" + (
            ", a weight to hang under it" if 0 < brief.support.legs_kg < _LOW_KG or brief.scene.wind_ms >= 8 else ""
        )
        yield "Cable or radio release, or the delay tried at home"
    if exposure.filter_stops:
        yield f"Grey filter of {exposure.filter_stops:g} stops, its thread fits"
    if exposure.polariser:
        yield "Polariser: only for a narrow field"
    if brief.scene.sky == "indoors":
        yield "Permission to stand there with a tripod; when are the people gone, which lamps can be on"
    else:
        yield "Weather, wind, and where the sun stands at that hour looked up"
    if kind == "sphere":
        yield "Something to stand on for the nadir frame from the hand, or a pole"
    if kind == "two-lens":
        yield "Monopole or light stand that hides under the camera, remote release"
    if kind == "gigapixel":
        yield f"Time for the whole run, and cards for it ({brief.rig.raw_mb:g} MB a frame)"
    if support == "air":
        yield "Rules of the place for flying cameras, permission, insurance, batteries warm"
    if kind == "shallow":
        yield "Somebody who can stand still, and knows where to look"


def before_first_frame(brief: Brief) -> tuple[str, ...]:
    """What to set and to look at on the spot."""
    return tuple(_before_first(brief))


def _before_first(brief: Brief) -> Iterator[str]:
    support, kind = brief.support.kind, brief.kind
    if support in ("head", "tripod"):
        yield "Base level all the way round; camera level across"
    if support == "head":
        yield "Axis at the no-parallax point" + (f"; rail at {brief.rig.rail_mm:.0f} mm" if brief.rig.rail_mm else "")
    yield "Mode, aperture, time, ISO, focus, white balance: all by hand"
    if support in ("head", "tripod"):
        yield "Flash off, stabiliser off on the tripod, shutter by cable or timer"
    else:
        yield "Flash off; feet together, turn the body about the camera and not the camera about the body"
    if brief.exposure.bracket_count > 1:
        yield f"Bracket of {brief.exposure.bracket_count} in steps of {brief.exposure.bracket_step_ev:g} EV, tried once"
    if kind == "shallow":
        yield "Focus on the subject, then locked; aperture open"
    if kind == "sphere":
        yield "Own feet, shadow and bag out of the picture; two frames straight down, turned by 90°"
    if kind == "gigapixel":
        yield "Clicks counted aloud; each row's end looked at"
    if brief.scene.subject in ("walking", "running"):
        yield "Where people come from, seen; against them, not with them"
    if brief.exposure.polariser:
        yield "Polariser set once and not touched, or taken off"
    yield "Once round with the histogram before starting"
    if brief.run.bookends:
        yield "A hand before the lens: a frame that says where the run begins, and one where it ends"
    yield "Look at the last frame at 100 % before moving on"


def cautions(plan: Plan) -> tuple[str, ...]:
    """What can hurt here, in a sentence each."""
    return tuple(_cautions(plan))


def _cautions(plan: Plan) -> Iterator[str]:
    brief, site = plan.brief, plan.brief.site
    support, outside = brief.support.kind, brief.scene.sky != "indoors"
    if outside and plan.sun.altitude_deg > -1:
        low, high = plan.target_field.low_deg, plan.target_field.high_deg
        yaw = site.yaw_of(plan.sun.bearing_deg)
        middle = (plan.target_field.left_deg + plan.target_field.right_deg) / 2
        near = abs((yaw - middle + 180) % 360 - 180) < plan.target_field.sweep_deg / 2 + 10
        if near and low - 10 < plan.sun.altitude_deg < high + 10:
            yield (
                f"The sun stands in or by the picture (yaw {units.angle(yaw, 0)}): never look at it through an optical finder"
                + (", and keep a long lens off it" if brief.rig.focal_mm >= _LONG_MM else "")
                + "."
            )
    if outside:
        yield "Look up from the finder before you step: edges, tides and waves, roads and rails do not wait."
        if brief.scene.wind_ms >= _STRONG_MS:
            yield f"{brief.scene.wind_ms:g} m/s of wind can throw a tripod over; weigh it down and hold it."
        if support in ("head", "tripod"):
            yield "When it thunders, leave the tripod and go: it is a lightning rod."
    else:
        yield "Cables and legs where people walk: tape them down, or keep somebody beside them."
    if support == "air":
        yield "Flying cameras: the aviation rules of the place come first; not over people, in sight, and down before the battery asks."
    if plan.sun.altitude_deg < -6 and outside:
        yield "In the dark: a lamp for the feet, somebody who knows where you are."
    yield "Local rules and trained people decide."
