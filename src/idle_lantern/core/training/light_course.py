"""Exercises about light and what moves: locked settings, a window, a sinking sun, a filter, wind, people, shallow depth."""

from __future__ import annotations

import math
from dataclasses import replace

from idle_lantern.core.base import units
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.sim.diorama import upright
from idle_lantern.core.sim.room import net_loft
from idle_lantern.core.training.conduct import Conduct, Situation, Take
from idle_lantern.core.training.exercise import Amount, Choice, Criterion, Exercise, Values
from idle_lantern.core.training.geometry_course import MISSING, PLACED, number
from idle_lantern.core.training.places import LENS, facing_of, island, on_the_terrace, rng_of, row, timed, with_people

UNEVEN = Criterion("uneven_ev", 0.5, 1.4, lambda v: f"{v:.1f} stops", "Brightness wanders by {} against the place.")
COLOUR = Criterion("colour", 0.06, 0.25, lambda v: units.share(v), "Colours wander by {}.")
EVENED = Criterion(
    "evened_ev",
    0.12,
    0.6,
    lambda v: f"{v:.2f} stops",
    "The join had to even out {} between frames, which costs tones in the lights.",
)
SHARP = Criterion("sharp", 0.75, 0.45, lambda v: units.share(v), "{} of the detail that the lens could show is there.")
BURNT = Criterion("burnt", 0.01, 0.06, lambda v: units.share(v, 1), "{} is white without any tone.")
DROWNED = Criterion("drowned", 0.02, 0.2, lambda v: units.share(v, 1), "{} is black without any tone.")
AGAIN = Criterion("again", 0.5, 2.0, lambda v: f"{v:.0f}", "Figures that stand there again: {}.")


def _within(seconds: float, most: float) -> Criterion:
    return Criterion("seconds", seconds, most, units.duration, "It took {}.")


# --- locked settings -------------------------------------------------------------------------------

_YAWS = (-56.0, -28.0, 0.0, 28.0, 56.0)


def _sun_side(seed: int) -> float:
    """The side on which the sun stands: -1 left, 1 right."""
    return 1.0 if rng_of(seed).random() < 0.5 else -1.0


def _lock_place(seed: int) -> Situation:
    facing = facing_of(seed)
    scene = island(seed, sun_azimuth_deg=facing + 75 * _sun_side(seed), sun_altitude_deg=22.0)
    return on_the_terrace(seed, scene=scene, facing_deg=facing)


def _readings(seed: int) -> tuple[float, ...]:
    """What a meter says in each direction, in EV: the sun's side is brighter."""
    return tuple(round(14.0 + 1.3 * _sun_side(seed) * yaw / 56, 1) for yaw in _YAWS)


def _lock_conduct(seed: int, values: Values) -> Conduct:
    rng, ev = rng_of(seed + 7), _readings(seed)
    takes = []
    for i, take in enumerate(row(-56, 28, 5)):
        if values["exposure"] == "auto":
            stops = 14.0 - ev[i]
        else:
            held = {"bright": max(ev), "middle": 14.7, "dark": min(ev)}[str(values["exposure"])]
            stops = 14.7 - held
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
        Choice(
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
        Choice("focus", "Focus", {"auto": "automatic", "locked": "locked, far"}, "auto"),
        Choice("balance", "White balance", {"auto": "automatic", "locked": "daylight"}, "auto"),
    ),
    lambda seed, _values: tuple(
        (f"Meter at {units.angle(yaw, 0)}", f"{ev:.1f} EV") for yaw, ev in zip(_YAWS, _readings(seed))
    ),
    _lock_conduct,
    lambda _seed: {"exposure": "bright", "focus": "locked", "balance": "locked"},
    (EVENED, COLOUR, SHARP, replace(BURNT, good=0.05, bad=0.2), replace(UNEVEN, good=0.2, bad=0.9)),
)

# --- the window in the room ------------------------------------------------------------------------


def _room(seed: int) -> Situation:
    side = float(rng_of(seed).uniform(-1.4, 1.4))
    return Situation(net_loft(side, seed=seed), LENS, (-62.0, 62.0, -22.0, 22.0), facing_deg=0.0, seed=seed)


def _window_conduct(seed: int, values: Values) -> Conduct:
    base = {"window": -1.6, "between": 1.2, "room": 4.2}[str(values["meter"])]
    window_deg = math.degrees(math.atan2(float(rng_of(seed).uniform(-1.4, 1.4)), 3.6))
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
        Choice("meter", "Metered", {"window": "at the window", "between": "between", "room": "in the room"}, "room"),
        Amount("count", "Exposures", "", 1, 7, 2, 1),
        Amount("step", "Step", "EV", 1, 3, 0.5, 2),
        Choice("where", "Bracketed", {"all": "every frame", "window": "frames with the window"}, "all"),
    ),
    lambda _seed, _values: (
        ("Meter in the room", "8.6 EV"),
        ("At the window", "14.6 EV"),
        ("The sensor holds", "some 7 EV well"),
    ),
    _window_conduct,
    lambda _seed: {"meter": "between", "count": 5.0, "step": 1.5, "where": "all"},
    (BURNT, DROWNED, PLACED, _within(125, 240)),
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
        Choice("order", "Begin", {"left": "at the left", "right": "at the right"}, "left"),
        Choice(
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
    (Choice("filter", "Polariser", {"on": "on", "off": "off"}, "on"),),
    lambda seed, _values: (("Sun", f"70° to the {'right' if _sun_side(seed) > 0 else 'left'}"), ("Field", "140° wide")),
    lambda _seed, values: Conduct(row(-56, 28, 5), polariser=values["filter"] == "on", seconds=30),
    lambda _seed: {"filter": "off"},
    (replace(UNEVEN, good=0.7, bad=1.3), PLACED),
)

# --- wind and the long lens ------------------------------------------------------------------------

_LONG = Lens("rectilinear", 1150, 400, 300)


def _wind_ms(seed: int) -> float:
    return round(float(rng_of(seed).uniform(6, 10)), 1)


def _wind_conduct(seed: int, values: Values) -> Conduct:
    rng, iso, repeats = rng_of(seed + 3), number(values, "iso"), round(number(values, "repeats"))
    time_s = 1 / 30 * 100 / iso
    takes = []
    for take in row(-18, 12, 4, 0.0, 3.0 * repeats):
        gusts = rng.exponential(_wind_ms(seed) / 8, size=(repeats, 2)) * 3.4 * min(1.0, time_s * 30) ** 0.7
        signs = rng.choice([-1.0, 1.0], size=(repeats, 2))
        shakes = tuple((float(a), float(b)) for a, b in gusts * signs)
        takes.append(replace(take, shakes_px=shakes))
    return Conduct(tuple(takes), iso=iso, seconds=4 * (3.0 + 2.5 * repeats))


WIND = Exercise(
    "wind",
    "Wind and the long lens",
    "A long lens trembles in the wind. Take each frame several times and keep the sharpest, or raise the ISO for a shorter time; either "
    "has its price.",
    "Repeats cost seconds, ISO costs grain: in gusts three or four repeats at a moderate ISO find a still moment for each frame.",
    lambda seed: Situation(
        island(seed), _LONG, (-24.0, 24.0, -6.0, 6.0), 100.0, facing_of(seed), "rectilinear", seed=seed
    ),
    (
        Amount("repeats", "Each frame", "times", 1, 8, 1, 1),
        Choice("iso", "ISO", {"100": "100", "200": "200", "400": "400", "800": "800", "3200": "3200"}, "100"),
    ),
    lambda seed, values: (
        ("Wind", f"{_wind_ms(seed):.1f} m/s"),
        ("Exposure", units.exposure_time(1 / 30 * 100 / number(values, "iso"))),
    ),
    _wind_conduct,
    lambda _seed: {"repeats": 4.0, "iso": "400"},
    (
        replace(SHARP, good=0.72, bad=0.45),
        Criterion("grain", 3.0, 7.0, lambda v: f"{v:.1f} grey levels", "Grain of {}."),
        _within(60, 110),
    ),
)

# --- people who walk -------------------------------------------------------------------------------


def _walk(seed: int) -> tuple[float, float]:
    """Which way people walk (1 right, -1 left) and how fast, degrees a second."""
    rng = rng_of(seed)
    return (1.0 if rng.random() < 0.5 else -1.0), round(float(rng.uniform(3.2, 4.4)), 1)


def _street(seed: int) -> Situation:
    way, speed = _walk(seed)
    facing = facing_of(seed)
    first = -40.0 * way
    scene = with_people(island(seed), facing, [first, first - 9 * way, first + 11 * way], way * speed, 15.0)
    return on_the_terrace(
        seed, scene=scene, empty=island(seed), people=3, facing_deg=facing, field_deg=(-66.0, 66.0, -20.0, 20.0)
    )


def _people_conduct(_seed: int, values: Values) -> Conduct:
    yaws = sorted(_YAWS, reverse=values["order"] == "right")
    pace = number(values, "pace")
    return Conduct(timed([(yaw, 0.0, 0.0) for yaw in yaws], pace), seconds=pace * len(yaws))


PEOPLE = Exercise(
    "people",
    "People who walk",
    "Three people cross the picture. In which direction do you go through the row, and how quickly?",
    "Go against them: each is met once. Going with them takes them along from frame to frame, and each stands there again and again. "
    "Do not hurry past what moves, and do not wait where they come to.",
    _street,
    (
        Choice("order", "Begin", {"left": "at the left", "right": "at the right"}, "left"),
        Amount("pace", "From frame to frame", "s", 2, 14, 1, 7),
    ),
    lambda seed, _values: (
        ("People walk", f"to the {'right' if _walk(seed)[0] > 0 else 'left'}, {_walk(seed)[1]:.1f}° a second"),
        ("They come", f"from the {'left' if _walk(seed)[0] > 0 else 'right'} third"),
    ),
    _people_conduct,
    lambda seed: {"order": "right" if _walk(seed)[0] > 0 else "left", "pace": 7.0},
    (AGAIN, PLACED),
)

# --- shallow depth ---------------------------------------------------------------------------------

_PORTRAIT = Lens("rectilinear", 1000, 300, 400)
_FIGURE_M = 3.2


def _shallow_place(seed: int) -> Situation:
    post = replace(upright(_FIGURE_M), size_m=(0.5, 1.6), corner_m=(-0.25, -0.5, _FIGURE_M))
    scene = island(seed)
    return Situation(
        replace(scene, quads=(*scene.quads, post)), _PORTRAIT, (-17.0, 17.0, -13.0, 11.0), 85.0, 0.0, "rectilinear",
        subject_deg=(-4.2, 4.2, -10.0, 7.0), seed=seed,
    )  # fmt: skip


def _shallow_conduct(seed: int, values: Values) -> Conduct:
    wide, tall = (2 * math.degrees(math.atan(n / 2 / _PORTRAIT.focal_px)) for n in (_PORTRAIT.width, _PORTRAIT.height))
    share = 1 - number(values, "overlap") / 100
    columns = max(2, math.ceil((34 - 0.7 * wide) / (wide * share)) + 1)
    rows = max(2, math.ceil((24 - 0.7 * tall) / (tall * share)) + 1)
    rng = rng_of(seed)
    takes: list[Take] = []
    for r in range(rows):
        for c in range(columns):
            yaw, pitch = (c - (columns - 1) / 2) * wide * share, ((rows - 1) / 2 - r) * tall * share - 1
            on_figure = abs(yaw) < wide / 2
            focus = _FIGURE_M if values["focus"] == "locked" or on_figure else float(rng.uniform(20, 60))
            takes.append(Take((yaw, pitch, 0.0), at_s=2.0 * len(takes), focus_m=focus))
    return Conduct(tuple(takes), aperture=float(values["aperture"]), defocus=True, seconds=3.0 * len(takes))


SHALLOW = Exercise(
    "shallow",
    "A shallow-depth grid round a figure",
    "A figure 3 m away before a far shore, a fast long lens. The figure is to be sharp and all behind it soft, over a field that no such "
    "lens shows in one frame.",
    "Wide open, focus locked on the figure for every frame, a third of overlap: what is soft ties badly, so take enough of it.",
    _shallow_place,
    (
        Choice("aperture", "Aperture", {"1.8": "f/1.8", "2.8": "f/2.8", "5.6": "f/5.6", "11": "f/11"}, "11"),
        Choice("focus", "Focus", {"auto": "automatic", "locked": "locked on the figure"}, "auto"),
        Amount("overlap", "Overlap", "%", 10, 60, 5, 20),
    ),
    lambda _seed, _values: (("Frame", "17° × 23°"), ("Figure", "3.2 m away"), ("Shore", "20 m and more")),
    _shallow_conduct,
    lambda _seed: {"aperture": "2.8", "focus": "locked", "overlap": 40.0},
    (
        Criterion("sharp_subject", 0.7, 0.35, lambda v: units.share(v), "The figure shows {} of its detail."),
        Criterion("sharp_beside", 0.5, 0.85, lambda v: units.share(v), "What lies behind keeps {} of its detail."),
        MISSING,
        PLACED,
    ),
)

COURSE = (LOCK, WINDOW, SUNSET, POLARISER, WIND, PEOPLE, SHALLOW)
