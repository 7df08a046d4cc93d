"""Exercises about light: locked settings, a window in a room, a sinking sun, a filter."""

from __future__ import annotations

import math
from dataclasses import replace
from functools import lru_cache

from idle_lantern.core.base import units
from idle_lantern.course.conduct import Conduct, Situation
from idle_lantern.course.criteria import BURNT, COLOUR, DROWNED, EVENED, PLACED, SHARP, UNEVEN, number, within
from idle_lantern.course.exercise import Alternative, Amount, Exercise, Values
from idle_lantern.course.places import LENS, facing_of, island, metered, on_the_terrace, rng_of, row, timed
from idle_lantern.simulator.camera import SCENE_EV
from idle_lantern.simulator.room import metered_ev, net_loft

# --- locked settings -------------------------------------------------------------------------------

_YAWS = (-56.0, -28.0, 0.0, 28.0, 56.0)
#: What the histogram shows that the brightest side takes beyond its reading, in EV.
_OVER = 1.3


def _sun_side(seed: int) -> float:
    """The side on which the sun stands: -1 left, 1 right."""
    return 1.0 if rng_of(seed).random() < 0.5 else -1.0


def _lock_place(seed: int) -> Situation:
    facing = facing_of(seed)
    scene = island(seed, sun_azimuth_deg=facing + 60 * _sun_side(seed), sun_altitude_deg=14.0)
    return on_the_terrace(seed, scene=scene, facing_deg=facing)


@lru_cache(maxsize=4)
def _readings(seed: int) -> tuple[float, ...]:
    """What a meter says in each direction, in EV: it looks at the place there, and the sun's side is brighter."""
    place = _lock_place(seed)
    return tuple(round(metered(place, yaw), 1) for yaw in _YAWS)


def _lock_conduct(seed: int, values: Values) -> Conduct:
    rng, ev = rng_of(seed + 7), _readings(seed)
    takes = []
    for i, take in enumerate(row(-56, 28, 5)):
        if values["exposure"] == "auto":
            stops = SCENE_EV + _OVER - ev[i]
        else:
            held = {"bright": max(ev), "middle": ev[len(ev) // 2], "dark": min(ev)}[str(values["exposure"])]
            stops = SCENE_EV + _OVER - held
        balance = (1.0, 1.0, 1.0)
        if values["balance"] == "auto":
            warm = float(rng.uniform(-0.16, 0.16))
            balance = (1 + warm, 1.0, 1 - warm)
        focus = (1.2, 60.0, 1.5, 60.0, 1.2)[i] if values["focus"] == "auto" else 60.0
        takes.append(replace(take, exposure_ev=stops, white_balance=balance, focus_m=focus))
    return Conduct(tuple(takes), aperture=2.8, defocus=True, seconds=40)


LOCK = Exercise(
    "lock",
    "Lock exposure, focus and white balance",
    "The sun stands on one side. Set the camera for the whole row before the first frame.",
    "One exposure for the brightest side, focus and white balance locked: frames that were each set for themselves never quite fit again.",
    _lock_place,
    (
        Alternative(
            "exposure",
            "Exposure",
            {
                "auto": "automatic",
                "bright": "locked on the brightest side",
                "middle": "locked in the middle",
                "dark": "locked on the darkest side",
            },
            "auto",
        ),
        Alternative("focus", "Focus", {"auto": "automatic", "locked": "locked, far"}, "auto"),
        Alternative("balance", "White balance", {"auto": "automatic", "locked": "daylight"}, "auto"),
    ),
    lambda seed, _values: tuple(
        (f"Meter at {units.angle(yaw, 0)}", f"{ev:.1f} EV") for yaw, ev in zip(_YAWS, _readings(seed))
    ),
    _lock_conduct,
    lambda _seed: {"exposure": "bright", "focus": "locked", "balance": "locked"},
    (EVENED, COLOUR, SHARP, replace(BURNT, good=0.05, bad=0.2), replace(UNEVEN, good=0.2, bad=0.9)),
)

# --- the window in the room ------------------------------------------------------------------------


def _window_x_m(seed: int) -> float:
    """How far to the right of the wall's middle the window is."""
    return float(rng_of(seed).uniform(-1.4, 1.4))


def _room(seed: int) -> Situation:
    return Situation(
        net_loft(_window_x_m(seed), seed=seed), LENS, (-62.0, 62.0, -22.0, 22.0), facing_deg=0.0, seed=seed
    )


def _window_conduct(seed: int, values: Values) -> Conduct:
    base = {"window": -1.6, "between": 1.2, "room": 4.2}[str(values["meter"])]
    window_deg = math.degrees(math.atan2(_window_x_m(seed), 3.6))
    count, step = round(number(values, "count")), number(values, "step")
    series = tuple(step * (i - (count - 1) / 2) for i in range(count))
    takes, exposures = [], 0
    for take in row(-48, 24, 5):
        near = abs(take.angles[0] - window_deg) < 38
        mine = series if values["where"] == "all" or near else (0.0,)
        exposures += len(mine)
        takes.append(replace(take, exposure_ev=base, brackets_ev=mine))
    return Conduct(tuple(takes), seconds=20 + 4.0 * exposures)


WINDOW = Exercise(
    "window",
    "The window in the room",
    "A dim loft with one bright window. No single exposure holds both: choose what is metered, and which frames are bracketed how.",
    "Meter between, bracket widely enough to reach both ends, and only where the window is seen; the other frames need one exposure in "
    "the same middle.",
    _room,
    (
        Alternative(
            "meter", "Metered", {"window": "at the window", "between": "between", "room": "in the room"}, "room"
        ),
        Amount("count", "Exposures", "", 1, 7, 2, 1),
        Amount("step", "Step", "EV", 1, 3, 0.5, 2),
        Alternative("where", "Bracketed", {"all": "every frame", "window": "frames with the window"}, "all"),
    ),
    lambda _seed, _values: (
        ("Meter in the room", f"{metered_ev()[0]:.1f} EV"),
        ("At the window", f"{metered_ev()[1]:.1f} EV"),
        ("The sensor holds", "some 7 EV well"),
    ),
    _window_conduct,
    lambda _seed: {"meter": "between", "count": 5.0, "step": 1.5, "where": "all"},
    (BURNT, DROWNED, PLACED, within(125, 240)),
)

# --- the sun goes down -----------------------------------------------------------------------------


def _dusk(seed: int) -> Situation:
    return replace(_lock_place(seed), fading_ev_s=0.002, fading_sun_ev_s=0.016)


def _dusk_conduct(seed: int, values: Values) -> Conduct:
    yaws = sorted(_YAWS, reverse=values["order"] == "right")
    takes = timed([(yaw, 0.0, 0.0) for yaw in yaws], 24.0)
    stops = {"held": 0.0, "follow": 0.35}[str(values["exposure"])]
    return Conduct(
        tuple(replace(t, exposure_ev=-0.6 + stops * i) for i, t in enumerate(takes)), seconds=24.0 * len(takes)
    )


SUNSET = Exercise(
    "sunset",
    "The sun goes down: that side first",
    "Half a minute lies between frames, and the light on the sun's side goes fast. Where do you begin, and what about the exposure?",
    "The sunny side changes most, so it comes first, moving away from it; the exposure stays, or the join has to even out what you did.",
    _dusk,
    (
        Alternative("order", "Begin", {"left": "at the left", "right": "at the right"}, "left"),
        Alternative(
            "exposure", "Exposure", {"held": "stays as metered first", "follow": "a third longer each frame"}, "follow"
        ),
    ),
    lambda seed, _values: (
        ("Sun", "to the right" if _sun_side(seed) > 0 else "to the left"),
        ("Light falls", "by a stop a minute there"),
    ),
    _dusk_conduct,
    lambda seed: {"order": "right" if _sun_side(seed) > 0 else "left", "exposure": "held"},
    (replace(UNEVEN, good=0.3, bad=1.2), PLACED),
)

# --- the polariser ---------------------------------------------------------------------------------

POLARISER = Exercise(
    "polariser",
    "A filter in a wide sky",
    "A clear sky, a polariser in the bag that makes it deep blue. Use it for this picture?",
    "Polarised light stands in a belt at right angles to the sun: over a wide field the sky gets a dark band that no blend evens out. Leave "
    "the filter off beyond some 60°.",
    lambda seed: on_the_terrace(
        seed,
        scene=island(seed, clouds=0.0, sun_azimuth_deg=facing_of(seed) + 70 * _sun_side(seed), sun_altitude_deg=25.0),
    ),
    (Alternative("filter", "Polariser", {"on": "on", "off": "off"}, "on"),),
    lambda seed, _values: (("Sun", f"70° to the {'right' if _sun_side(seed) > 0 else 'left'}"), ("Field", "140° wide")),
    lambda _seed, values: Conduct(row(-56, 28, 5), polariser=values["filter"] == "on", seconds=30),
    lambda _seed: {"filter": "off"},
    (replace(UNEVEN, good=0.7, bad=1.3), PLACED),
)
